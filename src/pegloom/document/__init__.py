"""The frozen document, the edits on it, and its history."""
