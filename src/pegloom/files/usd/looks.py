"""Materials in USD: UsdPreviewSurface with all its pictures, written and read.

Specification: OpenUSD, "UsdPreviewSurface". What glTF's material has and that surface has not is told by the texture's own
scale and bias (factors, the strength of occlusion) and by UsdTransform2d (pictures moved on the UVs).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from pegloom.document.model import Material, Placing

SECOND, FIRST = "st1", "st"
"""Primvars of the second and the first UVs."""
Vec4 = tuple[float, float, float, float]
WHOLE: Vec4 = (1.0, 1.0, 1.0, 1.0)
NOTHING: Vec4 = (0.0, 0.0, 0.0, 0.0)


def write_material(stage: Any, base: str, material: Material, pictures: Mapping[str, str], named: Callable[[Any, str], None]) -> Any:
    """A material under its path. pictures : file by name, beside the stage. named : gives a prim its true name."""
    from pxr import Gf, Sdf, UsdShade

    kinds = Sdf.ValueTypeNames
    result = UsdShade.Material.Define(stage, base)
    named(result.GetPrim(), material.name)
    shader = UsdShade.Shader.Define(stage, f"{base}/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    made: dict[tuple[str, Vec4, Vec4], Any] = {}

    def place(what: str) -> Any:
        """Where a picture is looked up: the UVs, moved where it is."""
        told = material.placings.get(what, Placing())
        varname = SECOND if told.second else FIRST
        reader = UsdShade.Shader.Define(stage, f"{base}/uv{'2' if told.second else ''}")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", kinds.String).Set(varname)
        found = reader.CreateOutput("result", kinds.Float2)
        if (told.offset, told.rotation, told.scale) == ((0.0, 0.0), 0.0, (1.0, 1.0)):
            return found
        move = UsdShade.Shader.Define(stage, f"{base}/{what}_place")
        move.CreateIdAttr("UsdTransform2d")
        move.CreateInput("in", kinds.Float2).ConnectToSource(found)
        offset, degrees = _up(told)
        move.CreateInput("scale", kinds.Float2).Set(Gf.Vec2f(*told.scale))
        move.CreateInput("rotation", kinds.Float).Set(degrees)
        move.CreateInput("translation", kinds.Float2).Set(Gf.Vec2f(*offset))
        return move.CreateOutput("result", kinds.Float2)

    def texture(what: str, prim: str, space: str, scale: Vec4 = WHOLE, bias: Vec4 = NOTHING) -> Any:
        image = material.pictures[what]
        key = (f"{image} {what in material.placings and material.placings[what]} {space}", scale, bias)
        if key not in made:
            node = UsdShade.Shader.Define(stage, f"{base}/{prim}")
            node.CreateIdAttr("UsdUVTexture")
            node.CreateInput("file", kinds.Asset).Set(Sdf.AssetPath(f"./{pictures[image]}"))
            node.CreateInput("sourceColorSpace", kinds.Token).Set(space)
            node.CreateInput("wrapS", kinds.Token).Set("repeat")
            node.CreateInput("wrapT", kinds.Token).Set("repeat")
            node.CreateInput("st", kinds.Float2).ConnectToSource(place(what))
            if scale != WHOLE:
                node.CreateInput("scale", kinds.Float4).Set(Gf.Vec4f(*scale))
            if bias != NOTHING:
                node.CreateInput("bias", kinds.Float4).Set(Gf.Vec4f(*bias))
            made[key] = node
        return made[key]

    def there(what: str) -> bool:
        return material.pictures.get(what) in pictures

    def connect(name: str, kind: Any, node: Any, output: str, output_kind: Any) -> None:
        shader.CreateInput(name, kind).ConnectToSource(node.CreateOutput(output, output_kind))

    r, g, b, a = material.base_colour
    colour, opacity = shader.CreateInput("diffuseColor", kinds.Color3f), shader.CreateInput("opacity", kinds.Float)
    colour.Set(Gf.Vec3f(r, g, b))
    opacity.Set(a if material.see_through or material.cutoff is not None else 1.0)
    shader.CreateInput("metallic", kinds.Float).Set(material.metallic)
    shader.CreateInput("roughness", kinds.Float).Set(material.roughness)
    if material.cutoff is not None:
        shader.CreateInput("opacityThreshold", kinds.Float).Set(max(material.cutoff, 1e-4))
    if there("base"):
        node = texture("base", "picture", "sRGB", (r, g, b, a))
        colour.ConnectToSource(node.CreateOutput("rgb", kinds.Float3))
        if material.see_through or material.cutoff is not None:
            opacity.ConnectToSource(node.CreateOutput("a", kinds.Float))
    if there("normal"):
        # UsdPreviewSurface wants normals from -1 to 1, pictures hold 0 to 1.
        n = material.normal_scale
        node = texture("normal", "normal_picture", "raw", (2.0 * n, 2.0 * n, 2.0, 1.0), (-n, -n, -1.0, 0.0))
        connect("normal", kinds.Normal3f, node, "rgb", kinds.Float3)
    if there("metal"):
        node = texture("metal", "metal_picture", "raw", (1.0, material.roughness, material.metallic, 1.0))
        connect("roughness", kinds.Float, node, "g", kinds.Float)
        connect("metallic", kinds.Float, node, "b", kinds.Float)
    if there("occlusion"):
        o = material.occlusion
        node = texture("occlusion", "occlusion_picture", "raw", (o, o, o, 1.0), (1.0 - o, 1.0 - o, 1.0 - o, 0.0))
        connect("occlusion", kinds.Float, node, "r", kinds.Float)
    if there("emissive"):
        node = texture("emissive", "glow_picture", "sRGB", (*material.emissive, 1.0))
        connect("emissiveColor", kinds.Color3f, node, "rgb", kinds.Float3)
    elif any(material.emissive):
        shader.CreateInput("emissiveColor", kinds.Color3f).Set(Gf.Vec3f(*material.emissive))
    result.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    return result


def _up(told: Placing) -> tuple[tuple[float, float], float]:
    """Offset and degrees of a picture's place where v runs up: glTF's runs down."""
    c, s = float(np.cos(told.rotation)), float(np.sin(told.rotation))
    x, y = told.offset
    return (x - s * told.scale[1], 1.0 - y - c * told.scale[1]), -float(np.degrees(told.rotation))


def _down(offset: tuple[float, float], degrees: float, scale: tuple[float, float], second: bool) -> Placing:
    """The other way round."""
    turn = -float(np.radians(degrees))
    c, s = float(np.cos(turn)), float(np.sin(turn))
    return Placing((offset[0] + s * scale[1], 1.0 - offset[1] - c * scale[1]), turn, scale, second)


def read_material(shader: Any, name: str, picture: Callable[[Any], str | None]) -> Material:
    """A material of a UsdPreviewSurface. picture : the name of the picture of an asset, None where it is not sound."""
    colour, base = _input(shader, "diffuseColor", (0.18, 0.18, 0.18))
    opacity, alpha = _input(shader, "opacity", 1.0)
    metallic, metal = _input(shader, "metallic", 0.0)
    roughness, rough = _input(shader, "roughness", 0.5)
    threshold, _ = _input(shader, "opacityThreshold", 0.0)
    glow, glowing = _input(shader, "emissiveColor", (0.0, 0.0, 0.0))
    _, normal = _input(shader, "normal", None)
    _, occlusion = _input(shader, "occlusion", 1.0)
    placings: dict[str, Placing] = {}

    def image(what: str, node: Any) -> str | None:
        if node is None:
            return None
        asset = _value(node, "file", None)
        found = picture(asset) if asset is not None else None
        placing = _placing(node)
        if found is not None and placing != Placing():
            placings[what] = placing
        return found

    base_image = image("base", base)
    scale = _value(base, "scale", WHOLE) if base is not None else WHOLE
    r, g, b = tuple(float(v) for v in scale)[:3] if base_image else tuple(float(v) for v in colour)
    a = float(scale[3]) if alpha is not None and base_image else float(opacity)
    cutoff = float(threshold) if float(threshold) > 0.0 else None
    node = rough if rough is not None else metal
    metal_image = image("metal", node)
    if metal_image is not None:
        factors = _value(node, "scale", WHOLE)
        roughness = float(factors[1]) if rough is not None else roughness
        metallic = float(factors[2]) if metal is not None else metallic
    normal_image, occlusion_image, emissive_image = image("normal", normal), image("occlusion", occlusion), image("emissive", glowing)
    result = Material(
        name, (r, g, b, a), float(metallic), float(roughness), base_image, normal_image,
        see_through=cutoff is None and (a < 1.0 or (alpha is not None and base_image is not None)), cutoff=cutoff,
        metal_image=metal_image, occlusion_image=occlusion_image, emissive_image=emissive_image, placings=placings,
    )  # fmt: skip
    if normal_image is not None:
        result = replace(result, normal_scale=0.5 * float(_value(normal, "scale", (2.0, 2.0, 2.0, 1.0))[0]))
    if occlusion_image is not None:
        result = replace(result, occlusion=float(_value(occlusion, "scale", WHOLE)[0]))
    return replace(result, emissive=_three(glow if emissive_image is None else _value(glowing, "scale", WHOLE)))


def _three(values: Any) -> tuple[float, float, float]:
    return (float(values[0]), float(values[1]), float(values[2]))


def _placing(node: Any) -> Placing:
    """Where a texture looks its picture up."""
    source = _source(node, "st")
    if source is None:
        return Placing()
    offset, degrees, scale = (0.0, 0.0), 0.0, (1.0, 1.0)
    moved = _id(source) == "UsdTransform2d"
    if moved:
        x, y = _value(source, "translation", (0.0, 0.0))
        offset = (float(x), float(y))
        degrees = float(_value(source, "rotation", 0.0))
        x, y = _value(source, "scale", (1.0, 1.0))
        scale = (float(x), float(y))
        source = _source(source, "in")
    second = False
    if source is not None and _id(source) == "UsdPrimvarReader_float2":
        second = str(_value(source, "varname", FIRST)) == SECOND
    return _down(offset, degrees, scale, second) if moved else Placing(second=second)


def _id(node: Any) -> str:
    return str(node.GetIdAttr().Get())


def _source(node: Any, name: str) -> Any:
    """The shader an input is connected to, None for none."""
    from pxr import UsdShade

    entry = node.GetInput(name)
    source = entry.GetConnectedSource() if entry else None
    return UsdShade.Shader(source[0].GetPrim()) if source else None


def _input(shader: Any, name: str, default: Any) -> tuple[Any, Any]:
    """A value, and the texture that gives it where one does."""
    source = _source(shader, name)
    if source is not None:
        return default, source if _id(source) == "UsdUVTexture" else None
    return _value(shader, name, default), None


def _value(node: Any, name: str, default: Any) -> Any:
    entry = node.GetInput(name)
    value = entry.Get() if entry else None
    return default if value is None else value
