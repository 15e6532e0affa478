"""The shelf of clips: what is said of each, how one is found in plain words, and which are alike."""
