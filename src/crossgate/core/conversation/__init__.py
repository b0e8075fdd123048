"""Conversations on their way: the rules for what becomes of them, and the walk that applies these
rules.
"""
