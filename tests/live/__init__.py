"""Tests of what goes to devices and comes from them, on stand-ins at loopback."""
