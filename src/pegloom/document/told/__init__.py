"""A rig told to what is outside the window: its account, its poses, its edits by name. Command line and Python use these."""
