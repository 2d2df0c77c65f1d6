"""A fleet: devices under a broker, a pack that reaches them in waves, or is taken back."""
