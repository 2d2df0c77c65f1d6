"""Results of runs: their kinds in the store. Who produces a result stores it, so that window, command line and notebook never disagree."""

from __future__ import annotations

PROOF = "proof"
"""A proof on the task's own variation: what data sheet, stake and station show."""
VARIED_PROOF = "proof with other variation"
"""A proof on a variation that was asked for; kept, and never shown as the proof."""
PACK = "pack"
ROLLOUT = "rollout"
