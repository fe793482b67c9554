"""The stand-in path as a process: another script takes hold while it runs, and one that cannot be read does not."""

from __future__ import annotations

import json
from pathlib import Path

from tarnfell.probe.call import place_calls
from tests import rig
from tests.media.test_far_end_bounds import KEY, PLAN


def arrived(address: str) -> tuple[int, int]:
    columns = place_calls(address, 0, KEY, PLAN).calls[0].columns
    return tuple(columns[f"{way}.arrival_us"].count for way in ("up", "down"))  # type: ignore[return-value]


def test_another_script_takes_hold_while_it_runs(tmp_path: Path) -> None:
    far, here = rig.own_address(), rig.own_address()
    script = tmp_path / "path.json"
    with rig.far_end(tmp_path, far), rig.path(tmp_path, here, far, {}):
        assert arrived(here) == (25, 25)
        script.write_text(json.dumps({"down": {"burst_enter_pct": 100, "burst_leave_pct": 0}}))
        rig.eventually(lambda: arrived(here)[1] == 0, "the new script to take hold")
        script.write_text('{"up": {"nonsense": 1}}')
        assert arrived(here)[1] == 0
        script.write_text("{}")
        rig.eventually(lambda: arrived(here) == (25, 25), "the path to be well again")
