"""Hostile input: files and arguments that a stranger could hand over, for the suite (few) and for the long campaigns in tools/ (many)."""
