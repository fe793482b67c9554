"""A far end at an address of its own, that must outlive whatever a test does to it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from tests import rig


@pytest.fixture
def far(tmp_path: Path) -> Iterator[str]:
    address = rig.own_address()
    with rig.far_end(tmp_path, address) as child:
        yield address
        assert child.poll() is None, "the far end has ended"
