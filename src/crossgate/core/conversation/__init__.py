"""Conversations on their way: the rules that say what becomes of them, and the walk that applies
them.
"""
