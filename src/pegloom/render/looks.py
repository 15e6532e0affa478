"""Materials and pictures of characters, as the renderer has them."""

from __future__ import annotations

from collections.abc import Iterable

from pegloom.document.model import Character, Image
from pegloom.files.images import pixels
from pegloom.render.renderer import Look, Renderer


class Pictures:
    """Pictures on the card, each sent at its first use.

    They are held as long as they are there: another at the same address would pass for one.
    """

    def __init__(self) -> None:
        self.held: dict[str, Image] = {}

    def key(self, renderer: Renderer, image: Image, present: Iterable[Image]) -> str:
        """The renderer's key of a picture. present : all that are in use; others are let go when one is sent."""
        key = str(id(image))
        if key not in renderer.pictures:
            there = {str(id(one)) for one in present}
            renderer.keep_pictures(there)
            self.held = {k: i for k, i in self.held.items() if k in there} | {key: image}
            renderer.set_picture(key, pixels(image))
        return key

    def looks(self, renderer: Renderer, character: Character, present: Iterable[Image], *, textured: bool) -> list[Look]:
        """A character's materials. textured : with their pictures."""
        there, images = list(present), {image.name: image for image in character.images}
        found = []
        for material in character.materials:
            base, relief, metal, occlusion, emissive = (
                self.key(renderer, images[name], there) if textured and name in images else None
                for name in (
                    material.base_image, material.normal_image, material.metal_image, material.occlusion_image,
                    material.emissive_image,
                )
            )  # fmt: skip
            r, g, b, a = material.base_colour
            alpha = a if material.see_through else 1.0
            found.append(
                Look(
                    (r, g, b), alpha, material.metallic, material.roughness, base, relief, material.normal_scale, metal, occlusion, material.occlusion,
                    emissive, material.emissive,
                )
            )  # fmt: skip
        return found


def images_of(characters: Iterable[Character]) -> list[Image]:
    """All pictures that are in use: of materials, and reference pictures."""
    return [image for c in characters for image in (*c.images, *(r.image for r in c.references))]
