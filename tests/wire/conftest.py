"""What is told in each of these tests is held whole (``tests/told.py``)."""

from __future__ import annotations

import pytest


@pytest.fixture(autouse=True)
def _held(told_as_before: None) -> None:
    pass
