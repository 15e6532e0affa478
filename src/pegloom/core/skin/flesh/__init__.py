"""A body that behaves like flesh, and plain weights fitted to it.

An elastic solid of cells keeps its shape as rigidly as it can while its bones move (Sorkine and Alexa, "As-rigid-as-possible
surface modeling", SGP 2007, on the cells of a solid); weights are then fitted to its surface over many poses (Le and Deng, "Smooth
skinning decomposition with rigid bones", TOG 31(6), 2012).
"""
