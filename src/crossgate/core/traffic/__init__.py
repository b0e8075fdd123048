"""Conversations on their way through the lists of a network: single packets, or whole sets of
them.
"""
