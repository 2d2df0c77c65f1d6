"""A task from a wish: what a machine should do, from which a whole task is written, each entry with its reason."""
