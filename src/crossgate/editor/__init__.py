"""A plan in an editor: what is behind the language server of `crossgate editor`.

`texts` has the files of a plan as lines, with what each word is (`language.forms`). `plans` reads a
plan again as it is typed, and looks for findings in the background. The other modules each answer
one kind of question about a place in a text, and do not know the protocol. `open` knows the plans
that are open in an editor, and `server` puts all of it behind the Language Server Protocol 3.17.
"""
