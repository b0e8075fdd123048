"""Exact first match for millions of packets: which entry of a list decides each of them.

1. *Numbers* (`service_line`, `rows`): every entry becomes a few rows of numbers: a pattern of
address words, an interval of what packets carry, an interval of source ports, and sometimes flags
and DSCP.

2. *Trees* (`tree`): rows are divided by windows of bits until few are left. A row that asks for
nothing on one side would be repeated in every branch that looks at that side, so in long lists such
rows have trees of their own; each tree takes the answers of the earlier ones as a bound.

3. *Lookup* (`lookup`): a block of packets goes down a tree together, level by level, then along the
rows of the leaves.

4. *Groups* (`groups`): entries with large groups of addresses are not multiplied out: they are bits
of vectors, with a vector for each class of addresses that are in the same groups.

`AccessList.decide` is the definition; this gives the same answer, faster from some thousand packets
on.
"""
