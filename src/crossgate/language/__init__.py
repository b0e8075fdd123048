"""The plan language: from text to a `Plan`, with every error at its place."""
