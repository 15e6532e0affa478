"""Files made to harm: small ones that claim much, name what is not theirs, nest deep, or hold what is no number.

`cases()` is the corpus the tests run; `python -m tests.support.hostile MINUTES` (`./loom fuzz MINUTES`) runs it, and
random damage of sound files, each in a process of its own under limits of memory and time.
"""

from __future__ import annotations

import io
import json
import random
import struct
import subprocess
import sys
import tempfile
import time
import zipfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

MEMORY = 1536 << 20
"""Bytes a file under 5 MB may take in all."""
SECONDS = 20.0


@dataclass(frozen=True)
class Case:
    """files: by name, relative to an empty folder; opened: which of them is opened."""

    name: str
    files: dict[str, bytes]
    opened: str

    def lay_out(self, folder: Path) -> Path:
        for name, data in self.files.items():
            place = folder / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)
        return folder / self.opened


def one(name: str, file: str, data: bytes | str) -> Case:
    return Case(name, {file: data.encode() if isinstance(data, str) else data}, file)


TRIANGLE = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4").tobytes()
OBJ = "v 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nf 1/1 2/2 3/3\n"
USD_MESH = '{ point3f[] points=[(0,0,0),(1,0,0),(0,1,0)]\nint[] faceVertexCounts=[3]\nint[] faceVertexIndices=[0,1,2]\n}\n'  # fmt: skip


def gltf(binary: bytes = TRIANGLE, **parts: object) -> dict[str, object]:
    """A triangle as glTF's JSON; any list can be put in its place."""
    base: dict[str, object] = {
        "asset": {"version": "2.0"},
        "buffers": [{"byteLength": len(binary)}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "nodes": [{"mesh": 0}],
    }
    return {**base, **parts}


def glb(tree: object, binary: bytes = TRIANGLE) -> bytes:
    text = tree if isinstance(tree, bytes) else json.dumps(tree).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(binary))
    return head + struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(binary), 0x004E4942) + binary


def zipped(entries: dict[str, bytes], kind: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", kind) as archive:
        for name, data in entries.items():
            archive.writestr(name, data)
    return out.getvalue()


def npy(array: np.ndarray) -> bytes:
    out = io.BytesIO()
    np.save(out, array)
    return out.getvalue()


def project(document: object, **entries: bytes) -> bytes:
    head = json.dumps({"format": "pegloom", "version": 1, "document": document}).encode()
    return zipped({"document.json": head, **{k.replace("__", "/"): v for k, v in entries.items()}})


POINTS = {"parts": [{"is": "Part", "id": "p", "name": "p", "mesh": {"is": "Mesh", "points": {"array": 0}}}]}
"""A part whose points are the file's first array."""


def character(**fields: object) -> dict[str, object]:
    return {"is": "Document", "characters": [{"is": "Character", "id": "c", "name": "c", **fields}], "active": 0}


def bomb(width: int, height: int) -> bytes:
    """A PNG of one colour: few bytes, any number of pixels."""
    import zlib

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    squeezer = zlib.compressobj(9)
    row = b"\0" * (1 + 4 * width)
    body = b"".join(squeezer.compress(row) for _ in range(height)) + squeezer.flush()
    head = struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", body) + chunk(b"IEND", b"")


def grid(n: int) -> tuple[bytes, bytes, int, int]:
    """Points and triangles of an n by n sheet as bytes, and their numbers."""
    place = np.stack(np.meshgrid(np.arange(n), np.arange(n)), -1).reshape(-1, 2)
    points = np.c_[place / n, np.sin(place[:, 0] / 9) * 0.1].astype("<f4")
    a = (np.arange(n - 1)[:, None] * n + np.arange(n - 1)).ravel()
    faces = np.concatenate([np.c_[a, a + 1, a + n], np.c_[a + 1, a + n + 1, a + n]]).astype("<u4")
    return points.tobytes(), faces.tobytes(), len(points), faces.size


def cases() -> list[Case]:
    """The corpus. Each ends in a document or in one clear error."""
    eps = b"%!PS\n%%BoundingBox: 0 0 9 9\n(hurt.txt) (w) file closefile\nshowpage\n%%EOF\n"
    mtl = b"newmtl skin\nmap_Kd hurt.png\n"
    textured = b"mtllib a.mtl\nusemtl skin\n" + OBJ.encode()
    p, f, count, corners = grid(200)
    sheet = gltf(
        p + f,
        bufferViews=[{"buffer": 0, "byteLength": len(p)}, {"buffer": 0, "byteOffset": len(p), "byteLength": len(f)}],
        accessors=[{"bufferView": 0, "componentType": 5126, "count": count, "type": "VEC3"},
                   {"bufferView": 1, "componentType": 5125, "count": corners, "type": "SCALAR"}],
        meshes=[{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
    )  # fmt: skip
    return [
        Case("eps-named-png", {"a.obj": textured, "a.mtl": mtl, "hurt.png": eps}, "a.obj"),
        Case("eps-in-a-zip", {"a.zip": zipped({"a.obj": textured, "a.mtl": mtl, "hurt.png": eps})}, "a.zip"),
        Case("picture-outside", {"in/a.obj": textured, "in/a.mtl": b"newmtl skin\nmap_Kd ../out.png\n",
                                 "out.png": bomb(2, 2)}, "in/a.obj"),
        Case("picture-bomb", {"a.obj": textured, "a.mtl": mtl, "hurt.png": bomb(30_000, 20)}, "a.obj"),
        one("zip-slip", "a.zip", zipped({"../out.obj": OBJ.encode()})),
        one("zip-absolute", "a.zip", zipped({"/tmp/out.obj": OBJ.encode()})),
        one("zip-bomb", "a.zip", zipped({"a.obj": OBJ.encode() + b"f 1 2 3\n" * 15_000_000})),
        one("zip-packed-neighbour", "a.zip", zipped({
            "a.gltf": json.dumps(gltf(buffers=[{"byteLength": 48_000_000, "uri": "a.bin"}],
                bufferViews=[{"buffer": 0, "byteLength": 48_000_000}],
                accessors=[{"bufferView": 0, "componentType": 5126, "count": 4_000_000, "type": "VEC3"}])).encode(),
            "a.bin": b"\0" * 48_000_000})),
        one("zip-of-many", "a.zip", zipped({**{f"{k}.png": b"" for k in range(6000)}, "a.obj": OBJ.encode()})),
        one("zip-lies", "a.zip", zipped({"a.obj": OBJ.encode()}).replace(struct.pack("<I", len(OBJ)), struct.pack("<I", 2**31))),
        one("obj-nan", "a.obj", OBJ.replace("v 1 0 0", "v nan 0 0")),
        one("obj-huge-number", "a.obj", OBJ.replace("v 1 0 0", "v 1e300 0 0")),
        one("obj-nan-uv", "a.obj", OBJ.replace("vt 1 0", "vt nan inf")),
        one("obj-many-parts", "a.obj", OBJ + "".join(f"o {k}\nf 1 2 3\n" for k in range(6000))),
        one("obj-one-place", "a.obj", "".join(f"v {k}e-12 0 0\n" for k in range(20_000)) + "v 1 0 0\nv 0 1 0\nf 1 -1 -2\n"),
        one("obj-stray", "a.obj", "".join(f"v {k % 100} {k // 100} 0\n" for k in range(10_000))
            + "v 1e7 0 0\n" + "".join(f"f {k} {k + 1} {k + 100}\n" for k in range(1, 9000))),
        one("obj-endless-line", "a.obj", OBJ + "# \\\n" * 200_000),
        one("obj-line-of-corners", "a.obj", OBJ + "f" + " 1 2 3" * 200_000 + "\n"),
        one("ply-claims", "a.ply", b"ply\nformat ascii 1.0\nelement vertex 2000000000\nproperty float x\nproperty float y\n"
            b"property float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n"),
        one("ply-lists-of-nothing", "a.ply", b"ply\nformat binary_little_endian 1.0\nelement vertex 3\nproperty float x\nproperty float y\n"
            b"property float z\nelement face 4000000\nproperty list uchar int vertex_indices\nend_header\n" + TRIANGLE + b"\0" * 4_000_000),
        one("ply-float-count", "a.ply", b"ply\nformat binary_little_endian 1.0\nelement vertex 3\nproperty float x\nproperty float y\n"
            b"property float z\nelement face 1\nproperty list float int vertex_indices\nend_header\n" + TRIANGLE + struct.pack("<f", 1e9)),
        one("stl-claims", "a.stl", struct.pack("<80sI", b"", 2**32 - 1)),
        one("stl-nan", "a.stl", struct.pack("<80sI", b"", 1) + struct.pack("<12fH", *[0.0] * 3, *[float("nan")] * 9, 0)),
        one("glb-no-data", "a.glb", glb(gltf(accessors=[{"componentType": 5126, "count": 2**27, "type": "VEC3"}]))),
        one("glb-sparse", "a.glb", glb(gltf(accessors=[{"componentType": 5126, "count": 3, "type": "VEC3", "sparse": {
            "count": 2**31, "indices": {"bufferView": 0, "componentType": 5125}, "values": {"bufferView": 0}}}]))),
        one("glb-deep-json", "a.gltf", b"[" * 200_000),
        one("glb-deep-nodes", "a.glb", glb(gltf(nodes=[{"children": [k + 1]} for k in range(2000)] + [{"mesh": 0}]))),
        one("glb-loop", "a.glb", glb(gltf(nodes=[{"mesh": 0, "children": [1]}, {"children": [0]}]))),
        one("glb-parts", "a.glb", glb(gltf(nodes=[{"mesh": 0, "name": "same"} for _ in range(3000)]))),
        one("glb-too-many-parts", "a.glb", glb(gltf(nodes=[{"mesh": 0} for _ in range(50_000)]))),
        one("glb-shown-often", "a.glb", glb({**sheet, "nodes": [{"mesh": 0} for _ in range(2000)]}, p + f)),
        one("glb-far", "a.glb", glb(gltf(nodes=[{"mesh": 0, "scale": [1e200, 1, 1]}]))),
        one("glb-nan-node", "a.glb", glb(json.dumps(gltf()).replace('{"mesh": 0}', '{"mesh": 0, "scale": [NaN, 1, 1]}').encode())),
        one("glb-flat-node", "a.glb", glb(gltf(nodes=[{"mesh": 0, "scale": [0, 0, 0]}]))),
        one("glb-strings", "a.glb", glb(gltf(accessors="all of them", nodes={"mesh": 0}))),
        one("glb-no-records", "a.glb", glb(gltf(accessors=[None], meshes=[7], nodes=["n"]))),
        one("glb-names", "a.glb", glb(gltf(nodes=[{"mesh": 0, "name": "a\nb\r\x1b[2J\u2028" + "x" * 5000}]))),
        one("glb-material", "a.glb", glb(gltf(
            materials=[{"pbrMetallicRoughness": {"baseColorFactor": [9e99, -1, 0, 1], "metallicFactor": -7}}],
            meshes=[{"primitives": [{"attributes": {"POSITION": 0}, "material": 99}]}]))),
        Case("glb-outside", {"in/a.gltf": json.dumps(gltf(buffers=[{"byteLength": 36, "uri": "../../../../etc/passwd"}])).encode()}, "in/a.gltf"),
        one("glb-url", "a.gltf", json.dumps(gltf(buffers=[{"byteLength": 36, "uri": "http://127.0.0.1:1/x.bin"}]))),
        one("glb-chain", "a.glb", chain(1500)),
        one("glb-late-key", "a.glb", moving(1e12)),
        one("glb-long-clip", "a.glb", moving(80_000.0)),
        Case("usd-outside", {"b.usda": b"#usda 1.0", "in/a.usda": f'#usda 1.0\n( subLayers = [@/etc/hostname@, @../b.usda@, @x.usdz[y.usda]@] )\ndef Mesh "m" {USD_MESH}'.encode()}, "in/a.usda"),
        one("usd-deep", "a.usda", "#usda 1.0\n" + "".join(f'def Xform "a{k}" {{\n' for k in range(2000))
            + f'def Mesh "m" {USD_MESH}' + "}\n" * 2000),
        one("usd-deeper", "a.usda", "#usda 1.0\n" + "".join('def Xform "a" {\n' for k in range(60_000))
            + f'def Mesh "m" {USD_MESH}' + "}\n" * 60_000),
        one("usd-prims", "a.usda", f'#usda 1.0\ndef Mesh "m" {USD_MESH}' + "".join(f'def Xform "x{k}" {{}}\n' for k in range(100_001))),
        one("usd-parts", "a.usda", "#usda 1.0\n" + "".join(f'def Mesh "m{k}" {USD_MESH}' for k in range(3000))),
        one("usd-itself", "a.usda", f'#usda 1.0\ndef Mesh "m" (references = @./a.usda@</m>) {USD_MESH}'),
        one("usd-laughs", "a.usda", "#usda 1.0\n" + "".join(
            f'def "a{k}" {{\n' + "".join(f'def "b{j}" (references = </a{k + 1}>) {{}}\n' for j in range(10)) + "}\n" for k in range(9)
        ) + f'def Mesh "a9" {USD_MESH}'),
        one("usd-nan", "a.usda", f'#usda 1.0\ndef Mesh "m" {USD_MESH.replace("(1,0,0)", "(nan,0,inf)")}'),
        one("usdz-empty", "a.usdz", zipped({}, zipfile.ZIP_STORED)),
        one("usdz-packed", "a.usdz", zipped({"a.usda": f'#usda 1.0\ndef Mesh "m" {USD_MESH}'.encode()})),
        one("bvh-frames", "a.bvh", "HIERARCHY\nROOT a\n{\nOFFSET 0 0 0\nCHANNELS 3 Zrotation Xrotation Yrotation\nEnd Site\n{\nOFFSET 0 1 0\n}\n}\n"
            "MOTION\nFrames: \u00b2\nFrame Time: 0.03\n0 0 0\n"),
        one("project-pickle", "a.pegloom", project(character(**POINTS),
            **{"arrays__0.npy": b"\x93NUMPY\x01\x00v\x00" + b"{'descr': '|O', 'fortran_order': False, 'shape': (1,), }".ljust(117) + b"\n"})),
        one("project-array-claims", "a.pegloom", project(character(**POINTS),
            **{"arrays__0.npy": b"\x93NUMPY\x01\x00v\x00" + b"{'descr': '<f8', 'fortran_order': False, 'shape': (4000000000,), }".ljust(117) + b"\n"})),
        one("project-bomb", "a.pegloom", project(character(**POINTS), **{"arrays__0.npy": npy(np.zeros(45_000_000))})),
        one("project-json-bomb", "a.pegloom", zipped({"document.json": b'{"format":"pegloom","version":1,"document":[' + b"[]," * 15_000_000 + b"1]}"})),
        one("project-deep", "a.pegloom", zipped({"document.json": b'{"format":"pegloom","version":1,"document":' + b"[" * 100_000})),
        one("project-nan", "a.pegloom", zipped({"document.json": b'{"format":"pegloom","version":1,"document":{"is":"Document","characters":[{"is":"Character","id":"c","name":"c","pose":NaN}]}}'})),
        one("project-infinite", "a.pegloom", zipped({"document.json": b'{"format":"pegloom","version":1,"document":{"is":"Document","characters":[],"active":1e999}}'})),
        one("project-nobody-in-hand", "a.pegloom", project({**character(), "active": 9})),
        one("project-no-class", "a.pegloom", project({"is": "Popen", "args": ["touch", "hurt.txt"]})),
        one("project-version", "a.pegloom", zipped({"document.json": b'{"format":"pegloom","version":"1e9"}'})),
        one("pattern", "a.json", '{"name": 1e999, "kits": [[[]]]}'),
    ]  # fmt: skip


def chain(joints: int) -> bytes:
    """A skin of many joints, one below the other."""
    binary = TRIANGLE + np.zeros((3, 4), "<u2").tobytes() + np.array([[1, 0, 0, 0]] * 3, "<f4").tobytes()
    tree = gltf(
        binary,
        bufferViews=[{"buffer": 0, "byteLength": 36}, {"buffer": 0, "byteOffset": 36, "byteLength": 24},
                     {"buffer": 0, "byteOffset": 60, "byteLength": 48}],
        accessors=[{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"},
                   {"bufferView": 1, "componentType": 5123, "count": 3, "type": "VEC4"},
                   {"bufferView": 2, "componentType": 5126, "count": 3, "type": "VEC4"}],
        meshes=[{"primitives": [{"attributes": {"POSITION": 0, "JOINTS_0": 1, "WEIGHTS_0": 2}}]}],
        skins=[{"joints": list(range(joints))}],
        nodes=[*({"children": [k + 1], "translation": [0, 0.01, 0]} for k in range(joints - 1)),
               {"translation": [0, 0.01, 0]}, {"mesh": 0, "skin": 0}],
    )  # fmt: skip
    return glb(tree, binary)


def moving(last: float) -> bytes:
    """Two joints under a scaled node, the second moved by two keys."""
    binary = (
        TRIANGLE
        + np.zeros((3, 4), "<u2").tobytes()
        + np.array([[1, 0, 0, 0]] * 3, "<f4").tobytes()
        + np.array([0.0, last], "<f4").tobytes()
        + np.array([[0, 1, 0], [0, 2, 0]], "<f4").tobytes()
    )
    sizes = [(0, 36), (36, 24), (60, 48), (108, 8), (116, 24)]
    kinds = [(5126, 3, "VEC3"), (5123, 3, "VEC4"), (5126, 3, "VEC4"), (5126, 2, "SCALAR"), (5126, 2, "VEC3")]
    tree = gltf(
        binary,
        bufferViews=[{"buffer": 0, "byteOffset": a, "byteLength": n} for a, n in sizes],
        accessors=[
            {"bufferView": k, "componentType": c, "count": n, "type": t} for k, (c, n, t) in enumerate(kinds)
        ],
        meshes=[{"primitives": [{"attributes": {"POSITION": 0, "JOINTS_0": 1, "WEIGHTS_0": 2}}]}],
        skins=[{"joints": [1, 2]}],
        nodes=[
            {"children": [1, 3], "scale": [2, 2, 2]},
            {"children": [2]},
            {"translation": [0, 1, 0]},
            {"mesh": 0, "skin": 0},
        ],
        animations=[
            {
                "samplers": [{"input": 3, "output": 4}],
                "channels": [{"sampler": 0, "target": {"node": 2, "path": "translation"}}],
            }
        ],
    )
    return glb(tree, binary)


OPENER = """
import json, resource, sys
from pathlib import Path
from pegloom.core.errors import PegLoomError
from pegloom.files.bvh import read_bvh
from pegloom.files.opening import open_any
from pegloom.files.patterns import read_pattern
path = Path(sys.argv[1])
try:
    {".bvh": read_bvh, ".json": read_pattern}.get(path.suffix, open_any)(path)
    said = "opened"
except PegLoomError as error:
    said = "refused: " + str(error)
# What getrusage tells of this process begins with what its parent had.
own = next(int(line.split()[1]) for line in open("/proc/self/status") if line.startswith("VmHWM"))
taken = max(own, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
print(json.dumps({"said": said, "bytes": taken << 10}))
"""


@dataclass(frozen=True)
class Outcome:
    """said: opened, refused, or what went wrong; seconds, bytes: of the process and the helper it started."""

    said: str
    seconds: float
    bytes: int

    @property
    def fault(self) -> str:
        if not self.said.startswith(("opened", "refused")):
            return self.said
        if "is damaged (" in self.said and "Error" in self.said:
            return ""
        if self.seconds > SECONDS:
            return f"took {self.seconds:.0f} s"
        return f"took {self.bytes >> 20} MB" if self.bytes > MEMORY else ""


def opened_apart(path: Path) -> Outcome:
    """A file opened in a process of its own, watched from outside."""
    start = time.monotonic()
    try:
        done = subprocess.run([sys.executable, "-c", OPENER, str(path)], capture_output=True, text=True, timeout=6 * SECONDS)
    except subprocess.TimeoutExpired:
        return Outcome("never ended", time.monotonic() - start, 0)
    seconds = time.monotonic() - start
    try:
        told = json.loads(done.stdout.strip().splitlines()[-1])
    except (ValueError, IndexError):
        return Outcome(f"ended with {done.returncode}: {done.stderr.strip()[-300:]}", seconds, 0)
    return Outcome(told["said"], seconds, told["bytes"])


def damaged(data: bytes, chance: random.Random) -> bytes:
    """Bytes changed, cut, doubled or exchanged, at random."""
    made = bytearray(data)
    for _ in range(chance.randint(1, 12)):
        if not made:
            break
        at = chance.randrange(min(len(made), 400) if chance.random() < 0.5 else len(made))
        what = chance.randrange(5)
        if what == 0:
            made[at] = chance.randrange(256)
        elif what == 1:
            made[at : at + 4] = struct.pack("<I", chance.choice([0, 1, 0x7FFFFFFF, 0xFFFFFFFF, 65536]))
        elif what == 2:
            del made[at : at + chance.randint(1, 64)]
        elif what == 3:
            piece = made[at : at + chance.randint(1, 200)]
            made[at:at] = piece * chance.randint(1, 20)
        else:
            made[at : at + 3] = chance.choice([b"nan", b"1e9", b"-1 ", b"\n\n\n", b"\0\0\0"])
    return bytes(made)


def main() -> int:
    minutes = float(sys.argv[1]) if len(sys.argv) > 1 else 5.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    end = time.monotonic() + 60 * minutes
    chance = random.Random(seed)
    corpus = cases()
    faults = tried = 0
    kept = Path(tempfile.gettempdir()) / f"loom-fuzz-{seed}"
    print(f"seed {seed}; what fails is kept in {kept}")
    while time.monotonic() < end:
        sound = tried >= len(corpus)
        case = corpus[tried] if not sound else chance.choice(corpus)
        files = {n: damaged(d, chance) if sound and len(d) < 5 << 20 else d for n, d in case.files.items()}
        tried += 1
        with tempfile.TemporaryDirectory() as folder:
            before = set(Path(folder).parent.glob("hurt*"))
            outcome = opened_apart(Case(case.name, files, case.opened).lay_out(Path(folder)))
            fault = outcome.fault or ("wrote a file" if set(Path(folder).parent.glob("hurt*")) - before else "")
        if not sound or fault:
            print(f"{case.name:24} {outcome.seconds:5.1f} s {outcome.bytes >> 20:5d} MB  {fault or outcome.said[:110]}")
        if fault:
            faults += 1
            Case(case.name, files, case.opened).lay_out(kept / f"{tried}-{case.name}")
    print(f"{tried} files, {faults} faults")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
