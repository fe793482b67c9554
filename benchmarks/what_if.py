"""What a remedy would make of a call, against the same traffic through an outlet that has it."""

from __future__ import annotations

import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for, judge
from tarnfell.core.trace import Trace
from tarnfell.core.whatif.change import Change
from tarnfell.core.whatif.queues import queue_of
from tarnfell.core.whatif.remedies import larger_line, media_first
from tarnfell.demo.history import make_history
from tarnfell.demo.scenario import SITES
from tarnfell.store import calls as call_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect
from tarnfell.work.ingest.packets import trace_of
from tarnfell.work.whatif.trial import tried
from tests.core.whatif.outlet import RATE_KBPS, through, traffic

SEEDS = 12
BURSTS = (1.1, 1.4, 2.0, 3.0)
CRITERION = criterion_for(find_codec("g711a"), 20)
DEPOT = next(one for one in SITES if one.values["slug"] == "skerry-road")


def report() -> str:
    return "\n".join(
        [
            "## What if",
            "",
            f"{SEEDS} calls of half a minute each through one simulated outlet; others offer so many times its rate in "
            "bursts. True: the same arrivals through the outlet with the remedy. MOS, mean; error: what was told less "
            "what is true, 5th to 95th percentile. A larger line is told with what others offer as it is; on a screen "
            "a tenth less and more are told as well.",
            "",
            "| others offer | remedy | before | true | told | error |",
            "|---|---|---:|---:|---:|---:|",
            *[_row(burst, factor) for burst in BURSTS for factor in (None, 1.5, 2.0, 4.0)],
            "",
            _time(),
        ]
    )


def _mos(trace: Trace) -> float:
    return judge(trace, CRITERION).mos or 1.0


def _row(burst: float, factor: float | None) -> str:
    before, true, told = [], [], []
    for seed in range(SEEDS):
        load = traffic(100 + seed, burst)
        trace = through(load)
        queue = queue_of(trace)
        assert queue is not None
        before.append(_mos(trace))
        true.append(_mos(through(load, first=True) if factor is None else through(load, rate=factor)))
        told.append(_mos(media_first(trace, queue, RATE_KBPS) if factor is None else larger_line(trace, queue, factor)))
    low, high = np.percentile(np.array(told) - np.array(true), [5, 95])
    name = "media first" if factor is None else f"{factor:g} times the rate"
    means = " | ".join(f"{np.mean(values):.2f}" for values in (before, true, told))
    return f"| {burst:g} × | {name} | {means} | {low:+.2f} to {high:+.2f} |"


def _time() -> str:
    with tempfile.TemporaryDirectory() as folder:
        make_history(Path(folder), datetime.now(UTC), sites=[DEPOT])
        db = connect(Path(folder))
        site = site_store.site_by_slug(db, "skerry-road")
        assert site is not None
        began = time.perf_counter()
        rows = list(call_store.directions_of_site(db, site.id))
        for row in rows:
            call = call_store.call_by_id(db, row["call_id"])
            assert call.relation is not None
            trace_of(call.record, row["direction"], call.relation)
        read_s = time.perf_counter() - began
        took = {}
        for name, change in (("media first", Change(first_up=True)), ("another buffer", Change(buffer_ms=80.0))):
            began = time.perf_counter()
            tried(db, site, change)
            took[name] = time.perf_counter() - began
    told = ", ".join(f"{name} {s:.1f} s ({s / read_s:.1f} ×)" for name, s in took.items())
    return f"The depot's week of the demo, {len(rows)} call directions: {told}; ×: the time to read their packets."
