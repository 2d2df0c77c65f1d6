"""IEC 61131-3 Structured Text: what it says, checked and translated to C, so that a controller's text runs where no such controller is.

It reads the standard's text and knows nothing of who wrote it.
"""
