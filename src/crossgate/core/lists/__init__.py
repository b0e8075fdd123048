"""One access list by itself: which entry decides, which entries do nothing, where a new one
belongs.
"""
