"""Answers as JSON documents, a module an answer; each names its schema and version, and its fields
are relied on from outside.
"""
