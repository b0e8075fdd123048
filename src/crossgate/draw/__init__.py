"""Pictures: what goes where is worked out first, in `layout` and the charts' own models; only
`canvas` and what uses it draw.
"""
