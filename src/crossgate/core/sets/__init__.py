"""Exact sets of packets and of addresses: what two sets have in common, what is left of one, and
how few lines say it.
"""
