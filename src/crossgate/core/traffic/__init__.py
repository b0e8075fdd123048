"""Conversations on their way through the lists of a network: one packet, or whole sets of them."""
