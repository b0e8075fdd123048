"""Lists and networks in open formats, to read and to write: a module for each format, listed in
`registry`.
"""
