"""Motion: keys, clips, sampling, trial poses."""
