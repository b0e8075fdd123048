"""From the plan to devices and back, by NETCONF (RFC 6241) over SSH (RFC 6242). `documents` merges
and searches configurations, `datastore` is what a device keeps of them, `stand_in` is a simulated
device, and `devices` talks to real and simulated ones.
"""
