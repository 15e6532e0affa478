"""The numbers: arrays in, arrays out. No interface, no files."""
