"""What access lists, networks and packets are and do: no files, no clock, no terminal."""
