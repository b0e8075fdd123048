"""One access list by itself: which entry decides a packet, which entries do nothing, and where a
new one belongs.
"""
