"""The questions that a person asks of a plan, each answered in a module of its own."""
