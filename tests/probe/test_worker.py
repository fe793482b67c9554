"""A process that is kept up: begun again after it ended, later each time until it has held for a while."""

from __future__ import annotations

import pytest

from tarnfell.probe import worker
from tarnfell.probe.worker import Daemon


class Brief:
    """Of a child, whether it has ended."""

    def __init__(self) -> None:
        self.over: int | None = None

    def ended(self) -> int | None:
        return self.over


@pytest.fixture
def clock(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    now = [1000.0]
    monkeypatch.setattr(worker.time, "monotonic", lambda: now[0])
    return now


def test_each_end_is_followed_by_a_longer_pause_and_one_that_held_by_the_first(clock: list[float]) -> None:
    begun: list[float] = []

    def start() -> Brief:
        begun.append(clock[0])
        return Brief()

    daemon = Daemon(start)  # type: ignore[arg-type]

    def ended_after(seconds: float) -> float:
        """How long it takes until the next is begun."""
        assert daemon.child is not None
        daemon.child.over = 1  # type: ignore[attr-defined]
        clock[0] = begun[-1] + seconds
        count, ended = len(begun), clock[0]
        while len(begun) == count:
            daemon.keep_up()
            clock[0] += 0.25
        return begun[-1] - ended

    daemon.keep_up()
    assert len(begun) == 1
    daemon.keep_up()
    assert len(begun) == 1  # it is up
    assert [ended_after(5) for _ in range(7)] == [2, 4, 8, 16, 32, 60, 60]
    assert ended_after(Daemon.SETTLED_S) == 60
    assert ended_after(Daemon.SETTLED_S + 1) == 1
    assert ended_after(5) == 2


def test_a_process_that_cannot_be_started_is_tried_after_the_longest_pause(
    clock: list[float], capsys: pytest.CaptureFixture[str]
) -> None:
    tries: list[float] = []

    def start() -> Brief:
        tries.append(clock[0])
        raise OSError(11, "Resource temporarily unavailable")

    daemon = Daemon(start)  # type: ignore[arg-type]
    for _ in range(500):
        daemon.keep_up()
        clock[0] += 0.25
    assert [one - tries[0] for one in tries] == [0, 60, 120]
    told = capsys.readouterr()
    assert "a process could not be started: Resource temporarily unavailable" in told.err + told.out
