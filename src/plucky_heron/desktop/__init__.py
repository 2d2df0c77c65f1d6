"""Everything that knows Qt: the window, its stations, and the views of machines, episodes and runs."""

from plucky_heron.desktop.guarding import guard_all

guard_all()  # before any class of the window is made
