"""Answers as JSON documents, a module for each; each document names its schema and version, and
programs rely on its fields.
"""
