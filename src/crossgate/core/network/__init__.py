"""Where packets go: cables, routes, which machine has which address, and which addresses the
network treats alike. Access lists are unknown in this package.
"""
