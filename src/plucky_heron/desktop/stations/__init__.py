"""The seven stations of the window, one module each."""
