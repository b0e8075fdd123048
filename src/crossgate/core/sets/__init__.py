"""Sets of packets and of addresses, exactly: what two have in common, what is left of one, how few
lines say it.
"""
