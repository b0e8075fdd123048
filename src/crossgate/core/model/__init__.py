"""The values that all else speaks of: addresses, packets, services, lists, networks, whole
plans.
"""
