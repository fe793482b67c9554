"""A live watch between hosts of their own: a line that is cut for eight seconds, on its leg and at its time."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest

from tests import rig
from tests.lab.conftest import NEEDS_ROOT, Row, far_end_in, row_of

pytestmark = [pytest.mark.lab, NEEDS_ROOT]


@pytest.fixture
def row() -> Iterator[Row]:
    with row_of("site", "gateway", "edge", "far") as row:
        yield row


class Watching:
    """The command at the site, in a process of its own."""

    def __init__(self, row: Row, *more: str) -> None:
        self._command = [*row.inside("site"), sys.executable, "-m", "tarnfell.cli", "watch", row.address["far"], *more]
        self._command += ["--edge", row.address["edge"], "--interval", "0.5", "--json"]

    def __enter__(self) -> Watching:
        self._process = subprocess.Popen(
            self._command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=Path(__file__).parents[2]
        )
        return self

    def __exit__(self, *_: object) -> None:
        self._process.kill()
        self._process.wait()

    def told(self) -> tuple[int, dict[str, Any]]:
        out, error = self._process.communicate(timeout=rig.HANGS_S)
        assert out, error
        return self._process.returncode, json.loads(out)


def unix(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()


def await_rounds(out: Path) -> None:
    """Batches come every ten seconds."""
    rig.eventually(lambda: out.exists() and out.read_text().count("\n") > 20, "samples", within_s=60)


def test_a_line_that_is_cut_for_eight_seconds(row: Row, tmp_path: Path) -> None:
    """The far end is sampled by time stamps, and its session outlives the cut."""
    out, key = tmp_path / "w.csv", tmp_path / "key"
    more = ("--seconds", "32", "--out", str(out), "--key-file", str(key))
    with far_end_in(row, "far", tmp_path), Watching(row, *more) as watching:
        await_rounds(out)
        cut = time.time()
        row.nft("gateway", "table inet cut { chain f { type filter hook forward priority 0; policy drop; }; }")
        time.sleep(8)
        row.run("gateway", "nft delete table inet cut")
        mended = time.time()
        code, told = watching.told()
    assert code == 1
    assert [one["role"] for one in told["targets"]] == ["gateway", "edge", "far-end"]
    assert min(one["sent"] - one["lost"] for one in told["targets"]) > 20
    (one,) = told["episodes"]
    assert (one["leg"], one["kind"], one["loss_pct"]) == ("line", "outage", 100)
    # By what this machine really did between both orders, whatever it was kept from in between.
    assert cut - 0.6 <= unix(one["from"]) <= cut + 2.5
    assert mended - 2.5 <= unix(one["until"]) <= mended + 2.5
    assert [cause["key"] for cause in told["causes"]] == ["line-down"]
    lost = {seen["role"]: seen["lost"] for seen in one["targets"]}
    assert lost["gateway"] == 0
    # Two a second, where this machine lets them; it may stand still within a round just as the line is cut or mended.
    assert abs(lost["edge"] - lost["far-end"]) <= 2
    assert min(lost["edge"], lost["far-end"]) >= 5


def test_a_cable_that_is_out_at_the_probe_itself_is_a_gap_and_no_loss(row: Row, tmp_path: Path) -> None:
    """Without a key the far end is sampled by echoes."""
    out = tmp_path / "w.csv"
    with far_end_in(row, "far", tmp_path), Watching(row, "--seconds", "30", "--out", str(out)) as watching:
        await_rounds(out)
        row.run("gateway", "ip link set dev l down")
        time.sleep(8)
        row.run("gateway", "ip link set dev l up")
        row.run("gateway", "ip route replace default via 198.51.100.2")
        _, told = watching.told()
    assert told["episodes"] == []
    assert len(told["gaps"]) == 1
    assert sum(one["lost"] for one in told["targets"]) <= 3  # those that were under way


def test_wrong_use_is_told(tmp_path: Path) -> None:
    done = rig.cli("watch", "127.0.0.1", "--interval", "0.01")
    assert (done.returncode, done.stdout) == (2, "")
    assert "“interval_ms” is too small" in done.stderr
    assert "cannot be watched" in rig.cli("watch", "127.0.0.1", "--seconds", "-1").stderr
