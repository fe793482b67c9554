"""Streams that fill a line, against a real far end: they end when a metered line has had what it may."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from tarnfell.probe import filling
from tarnfell.probe.filling import SPENT, FarEnd, Filling
from tarnfell.wire.kinds.fill import FillPlan
from tests import rig


def test_streams_end_with_what_they_may_move(tmp_path: Path) -> None:
    address = rig.own_address()
    with rig.far_end(tmp_path, address):
        far = FarEnd(address, rig.CONTROL_PORT, rig.KEY.encode())
        for way in ("up", "down"):
            # A megabyte a second for twenty seconds, if it were let.
            plan = FillPlan(20, 2, 2, 2, (way, "both"), ceiling_kbps=8000, most_bytes=1_500_000)  # type: ignore[arg-type]
            one = Filling(far, plan, lambda: True)
            one.start()
            phases = one.finish()
            assert [phase.way for phase in phases] == ["idle", way]
            assert phases[1].failure == SPENT
            moved = sum(phases[1].up) + sum(phases[1].down)
            assert 1_000_000 < moved < 10_000_000
        plan = FillPlan(2, 1, 2, 2, ("up", "down"), ceiling_kbps=8000, most_bytes=100_000_000)
        whole = Filling(far, plan, lambda: True)
        before_us = time.time_ns() // 1000
        whole.start()
        idle, up, down = whole.finish()
        ended_us = time.time_ns() // 1000
    assert [(one.way, one.failure) for one in (idle, up, down)] == [("idle", None), ("up", None), ("down", None)]
    times = [before_us, *(at for one in (idle, up, down) for at in (one.from_us, one.until_us)), ended_us]
    assert times == sorted(times)
    # Nothing begins before its time, however late this machine is.
    early_us = 500_000
    assert idle.until_us - idle.from_us >= 2_000_000 - early_us
    assert up.until_us - up.from_us >= 2_000_000 - early_us
    assert down.from_us - idle.from_us >= 6_000_000 - early_us
    assert ended_us - idle.from_us >= 10_000_000 - early_us


def test_what_the_far_end_tells_last_is_heard_after_the_time_is_over(monkeypatch: pytest.MonkeyPatch) -> None:
    class Telling:
        def __init__(self, *told: object) -> None:
            self.told = list(told)

        def waiting(self, _: float) -> bool:
            return bool(self.told) or not quiet

        def receive_json(self) -> dict[str, object]:
            if not self.told:
                raise OSError("the stream has ended")
            return {"got": self.told.pop(0)}

    def heard(*told: object) -> list[int]:
        stream = filling._Stream(FarEnd("192.0.2.1", 4870, b""), "up", 2, 0)
        stream.over.set()
        stream._hear(Telling(*told))  # type: ignore[arg-type]
        return stream.slots

    quiet = False
    monkeypatch.setattr(filling, "_LAST_SLOTS_S", 600.0)
    assert heard([1], [2, 3], "nonsense", [4]) == [1, 2, 3, 4]
    quiet = True
    monkeypatch.setattr(filling, "_LAST_SLOTS_S", 0.01)
    assert heard([1]) == [1]  # and it is not waited for without end
