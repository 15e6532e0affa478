"""What is made by hand on a built rig: constraints, spaces, solvers, limits, and all of it across."""
