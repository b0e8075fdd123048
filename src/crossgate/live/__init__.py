"""From the plan to devices and back, by NETCONF (RFC 6241) over SSH (RFC 6242).

`documents` merges and looks for parts of configurations, `datastore` is what a device keeps of
them, `stand_in` a device that is played, and `devices` asks real ones and those alike.
"""
