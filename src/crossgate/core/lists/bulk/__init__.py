"""First match of millions of packets, exact: which entry of a list decides each of them.

1. *Numbers* (`service_line`, `rows`): every entry is a few rows of numbers: a pattern of address
   words, an interval of what packets carry, an interval of source ports, and rarely something of
   flags and DSCP.
2. *Trees* (`tree`): rows are divided by windows of bits until few are left. Rows that ask nothing
   of one side would be repeated in every branch that looks at it, so in long lists they have trees
   of their own; each tree gets the answer of those before as a bound.
3. *Lookup* (`lookup`): a block of packets goes down a tree together, a level at a time, then along
   the rows of the leaves.
4. *Groups* (`groups`): entries of large groups of addresses are not multiplied out: they are bits
   of vectors, one for each class of addresses that are in the same groups.

`AccessList.decide` is the definition; this is the same answer, faster from some thousand packets
on.
"""
