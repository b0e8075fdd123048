"""The values that everything else works with: addresses, packets, services, lists, networks, whole
plans.
"""
