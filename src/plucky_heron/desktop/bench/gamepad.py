"""A gamepad, where one is plugged in: its axes as numbers from -1 to 1, through SDL by the package pygame."""

from __future__ import annotations

import os
from typing import Any

DEAD = 0.08
"""Share of an axis about its middle that counts as nothing."""


class Gamepad:
    """The first gamepad of this machine; without one, or without the package, it gives nothing."""

    def __init__(self) -> None:
        self._stick: Any = None
        self._module: Any = None
        self._tried = False

    @property
    def name(self) -> str:
        """What it calls itself; empty without one."""
        return str(self._stick.get_name()) if self._stick is not None else ""

    def open(self) -> bool:
        """Look for one; asked again, look again."""
        if not self._tried:
            self._tried = True
            # without a picture or sound of its own: the window is Qt's
            for key, value in (("SDL_VIDEODRIVER", "dummy"), ("SDL_AUDIODRIVER", "dummy"), ("PYGAME_HIDE_SUPPORT_PROMPT", "1"),
                               ("SDL_JOYSTICK_ALLOW_BACKGROUND_EVENTS", "1")):  # fmt: skip
                os.environ.setdefault(key, value)
            try:
                import pygame
            except ImportError:
                return False
            self._module = pygame
            pygame.display.init()
            pygame.joystick.init()
        if self._module is None:
            return False
        self._module.event.pump()
        if self._module.joystick.get_count() == 0:
            self._stick = None
        elif self._stick is None:
            self._stick = self._module.joystick.Joystick(0)
        return self._stick is not None

    def axes(self) -> list[float]:
        """All axes now, upwards and to the right positive; nothing without a gamepad."""
        if self._stick is None:
            return []
        self._module.event.pump()
        values = [float(self._stick.get_axis(k)) for k in range(self._stick.get_numaxes())]
        # the second axis of each stick grows downwards
        return [0.0 if abs(v) < DEAD else -v if k % 2 else v for k, v in enumerate(values)]
