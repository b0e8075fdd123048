"""Captures and tables of flows, read in batches of columns: a module for each kind of file."""
