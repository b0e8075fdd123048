"""Lists and networks in open formats, in and out: a module a format, listed in `registry`."""
