"""Shapes in space: transforms, meshes, symmetry, the solid inside, distances."""
