"""OpenGL: draws what a draw list and a set of posed parts say."""
