"""Where packets go: cables, routes, who sits where, and which addresses the network treats alike.
No list is known here.
"""
