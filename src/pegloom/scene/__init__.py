"""What is to be seen and how it is grasped: camera, picking, handles, lenses, draw lists. No Qt, no OpenGL."""
