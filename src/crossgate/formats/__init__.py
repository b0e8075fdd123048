"""Open formats, to read and to write, a module for each."""
