"""Tests of the rehearsal: the fabric in memory, and real machines where namespaces can be made."""
