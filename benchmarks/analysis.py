"""How fast packets are judged. Yardstick: one bare NumPy pass over the same arrays (delay, its sum and its minimum)."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from tarnfell.core.columns import pack_planes, unpack_planes
from tarnfell.core.quality import Criterion, judge, judge_seconds
from tarnfell.core.streams import measure
from tarnfell.core.trace import NOT_ARRIVED, Trace

PACKETS = 2_000_000
ROUNDS = 5


def make_trace() -> Trace:
    rng = np.random.default_rng(7)
    sent = np.arange(PACKETS, dtype=np.int64) * 20_000
    recv = sent + 25_000 + rng.exponential(3000, PACKETS).astype(np.int64)
    swaps = rng.random(PACKETS) < 0.002
    recv[swaps] += 40_000
    return Trace(np.arange(PACKETS), sent, np.where(rng.random(PACKETS) < 0.01, NOT_ARRIVED, recv))


def best(work: Callable[[], object]) -> float:
    """Seconds of the best of several rounds; what others take from this machine only ever adds."""
    times = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return min(times)


def report() -> str:
    trace = make_trace()
    criterion = Criterion(0, 25.1, 20)

    def fresh() -> Trace:
        return Trace(trace.seq, trace.sent_us, trace.recv_us)

    def bare() -> None:
        delay = trace.recv_us - trace.sent_us
        delay.sum()
        delay.min()

    planes = pack_planes(trace.sent_us)
    rows = [
        ("bare NumPy pass", best(bare)),
        ("stream metrics (loss, bursts, reordering, jitter, delay variation)", best(lambda: measure(fresh()))),
        ("metrics, playout and E-model", best(lambda: judge(fresh(), criterion))),
        ("quality of each second", best(lambda: judge_seconds(fresh(), criterion))),
        ("unpacking one stored column", best(lambda: unpack_planes(planes, PACKETS))),
    ]
    yardstick = rows[0][1]
    lines = [
        "## Judging",
        "",
        f"One trace of {PACKETS / 1e6:g} million packets, 1 % lost, some reordered; best of {ROUNDS}.",
        "",
        "| work | million packets/s | × time of the bare pass |",
        "|---|---:|---:|",
    ]
    lines += [f"| {name} | {PACKETS / t / 1e6:.1f} | {t / yardstick:.1f} |" for name, t in rows]
    return "\n".join(lines)
