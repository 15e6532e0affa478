"""The proof of a delivery: the files are opened again by other code than wrote them, posed, and held against the live rig.

other_gltf.py    glTF by pygltflib and NumPy
other_usd.py     USD by usd-core's own skinning
other_plain.py   OBJ, PLY, STL and BVH by a few lines of their own
measure.py       the difference, its worst place and moment, and what each choice of the target costs
page.py          the delivery page
"""

from pegloom.files.proof.measure import Loss, Proof, prove, prove_files

__all__ = ["Loss", "Proof", "prove", "prove_files"]
