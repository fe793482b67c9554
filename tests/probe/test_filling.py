"""Streams that fill a line, against a real far end: they end when a metered line has had what it may."""

from __future__ import annotations

import time
from pathlib import Path

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
            filling = Filling(far, plan, lambda: True)
            filling.start()
            phases = filling.finish()
            assert [one.way for one in phases] == ["idle", way]
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
