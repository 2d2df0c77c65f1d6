"""What the platform must give us, and what the code must not use."""

from __future__ import annotations

import re
import sys
from pathlib import Path

import pytest

SOURCE = Path(__file__).resolve().parents[1] / "src" / "plucky_heron"


def test_qt_binding_does_not_leak_references_to_none(qapp: object) -> None:
    """PySide6 6.12.0 on CPython 3.11 drops a reference to None on every call that returns nothing."""
    from PySide6.QtWidgets import QLabel

    label = QLabel()
    before = sys.getrefcount(None)
    for k in range(200):
        label.setText(str(k))
    assert abs(sys.getrefcount(None) - before) < 50


@pytest.mark.parametrize("path", sorted(SOURCE.rglob("*.py")), ids=lambda p: str(p.relative_to(SOURCE)))
def test_nothing_unsafe_in_the_product(path: Path) -> None:
    text = path.read_text()
    assert not re.search(r"(^|[^\w.])(eval|exec)\(|import pickle|allow_pickle=True|shell=True|yaml\.load\(", text)
    if "desktop" not in path.parts:
        assert not re.search(r"^\s*(from|import)\s+(PySide6|pyqtgraph|qtawesome)", text, re.MULTILINE)
