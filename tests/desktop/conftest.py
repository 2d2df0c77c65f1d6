"""What the tests of the window share."""

from __future__ import annotations

import pytest
from PySide6.QtWidgets import QApplication

from plucky_heron.desktop.application import make_application


@pytest.fixture(scope="session")
def qapp() -> QApplication:
    """The application with our theme."""
    return make_application()
