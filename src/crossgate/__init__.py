"""Cross Gate: write, place, trace and prove access lists, offline, from one plain-text plan."""

__version__ = "0.1.0"
