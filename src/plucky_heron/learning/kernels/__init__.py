"""Compiled inner loops of learning: they take and return arrays. Keep these files quiet, as with dynamics."""
