"""The field programs on the oldest and the newest Python at hand: other people's machines have either."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from tests import rig

ROOT = Path(__file__).parents[2]
CALL = """
import json, sys
sys.path.insert(0, sys.argv[1])
from tarnfell.probe.call import place_calls
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.fields import read
plan = read(CallPlan, json.loads(sys.argv[4]))
result = place_calls(sys.argv[2], 0, sys.argv[3].encode(), plan)
print(json.dumps([[r.columns[d + ".arrival_seq"].count for d in ("up", "down")] for r in result.calls + result.video]))
"""
FAR_END = """
import sys
sys.path.insert(0, sys.argv[1])
from tarnfell.farend.daemon import FarEndConfig, listen, run
config = FarEndConfig(sys.argv[2], 4870, 22000, 22127)
run(listen(config), config, sys.argv[3].encode())
"""
PLAN = {
    "calls": 2,
    "packets": 50,
    "ptime_us": 20_000,
    "payload_type": 8,
    "clock_hz": 8000,
    "payload_bytes": 160,
    "dscp": 46,
    "video": [
        {
            "name": "360p", "streams": 1, "packets": 40, "frame_us": 40_000, "payload_type": 96, "clock_hz": 90_000,
            "dscp": 34, "refresh": [900] * 6, "ordinary": [800, 800], "every": 10,
        }
    ],
}  # fmt: skip


def interpreter(version: str) -> str:
    """A Python of that version; the test is skipped where there is none."""
    kept = sorted(Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv")).glob(f"versions/{version}.*/bin/python"))
    found = str(kept[0]) if kept else shutil.which(f"python{version}")
    if not found:
        pytest.skip(f"no Python {version} here")
    return found


@pytest.mark.parametrize("version", ["3.9", "3.13"])
def test_calls_and_video_both_ways_round(tmp_path: Path, version: str) -> None:
    """Bare: isolated, without site packages, as at a site that has nothing but Python."""
    python = interpreter(version)
    for caller, answerer in ((python, sys.executable), (sys.executable, python)):
        far = rig.own_address()
        answering = subprocess.Popen([answerer, "-I", "-S", "-c", FAR_END, str(ROOT), far, rig.KEY])
        try:
            rig.await_port(far)
            command = [caller, "-I", "-S", "-c", CALL, str(ROOT), far, rig.KEY, json.dumps(PLAN)]
            done = subprocess.run(command, capture_output=True, text=True, timeout=rig.HANGS_S, check=False)
        finally:
            answering.terminate()
            answering.wait(rig.HANGS_S)
        assert done.returncode == 0, done.stderr
        assert json.loads(done.stdout) == [[50, 50], [50, 50], [40, 40]]
