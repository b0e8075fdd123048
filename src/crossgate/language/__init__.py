"""The plan language: text to `Plan`, with every error in its place."""
