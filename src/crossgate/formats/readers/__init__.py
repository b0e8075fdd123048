"""Captures and tables of flows, read in batches of columns: one module a kind of file."""
