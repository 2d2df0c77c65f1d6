"""Everything that knows Qt: the window, its stations, and the views of machines, episodes and runs."""
