"""Named findings on runs, computed from what is recorded: what, how sure, on which evidence, and what to try."""
