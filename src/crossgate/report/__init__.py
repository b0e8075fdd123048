"""One page about a plan: what it is made of is gathered in `pages`, how it looks stands in
`page.html`.
"""
