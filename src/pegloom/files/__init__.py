"""File formats, one module each."""
