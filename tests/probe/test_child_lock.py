"""A job's own lock: waited for while another process is letting go of it, and not for ever."""

from __future__ import annotations

from pathlib import Path

import pytest

from tarnfell.probe import child
from tarnfell.probe.locks import hold


class Clock:
    """Time that passes only while it is slept through; ``then`` happens after so many seconds."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, after_s: float = 1e9, then: object = None) -> None:
        self.at_s, self._after_s, self._then = 0.0, after_s, then
        monkeypatch.setattr(child, "time", self)

    def monotonic(self) -> float:
        return self.at_s

    def sleep(self, seconds: float) -> None:
        assert self.at_s <= 10 * child.LOCK_LIMIT_S, "it is waited for without end"
        self.at_s += seconds
        if self.at_s >= self._after_s and callable(self._then):
            self._then()


def test_a_lock_that_is_let_go_of_meanwhile_is_taken(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    other = hold(tmp_path / "lock")
    assert other is not None
    clock = Clock(monkeypatch, child.LOCK_LIMIT_S / 2, other.close)
    held = child._held(tmp_path / "lock")
    assert held is not None
    assert clock.at_s < child.LOCK_LIMIT_S
    held.close()


def test_a_lock_that_stays_held_is_given_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    other = hold(tmp_path / "lock")
    assert other is not None
    clock = Clock(monkeypatch)
    assert child._held(tmp_path / "lock") is None
    assert child.LOCK_LIMIT_S <= clock.at_s < child.LOCK_LIMIT_S + 1
    other.close()
