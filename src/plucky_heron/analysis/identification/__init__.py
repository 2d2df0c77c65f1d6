"""Parameters of a machine from what was logged of it."""
