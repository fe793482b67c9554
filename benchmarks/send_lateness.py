"""How late packets leave, and whether any is lost by us, at 1 to 100 calls each way.

Yardstick: a bare loop that sleeps until a packet is due and calls ``sendto``,
at the same rate and with the same priority, nothing else. On every processor a witness notes when the machine took
it away; a packet's own lateness is what is left without the longest such pause between its planned instant and its
leaving.
"""

from __future__ import annotations

import os
import socket
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from multiprocessing import Pipe, get_context

from benchmarks.pauses import Pauses, witnessed
from tarnfell.media.engine import Arrangement
from tarnfell.media.host import raise_priority
from tarnfell.probe.call import place_calls
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.selfcheck import lateness_of

KEY = b"a-key-for-the-benchmark"
SECONDS = 5
ROUNDS = 3
CALLS = (1, 10, 50, 100)
ARRANGEMENTS: tuple[Arrangement, ...] = ("processes", "threads", "one loop")


@dataclass(frozen=True)
class Row:
    calls: int
    how: str
    p50_ms: float
    p99_ms: float
    max_ms: float
    clock_p99_ms: float
    """With the machine's pauses in it."""
    per_second: float
    lost: int | None


def measure() -> list[Row]:
    """For each number of calls the rounds go in turn through all arrangements; the best round of each counts."""
    rows = []
    address = f"127.{64 + os.getpid() % 64}.{os.getpid() // 64 % 254}.9"
    far = _far_end(address)
    try:
        for calls in CALLS:
            rounds = [[_bare(calls), *(_ours(address, calls, a) for a in ARRANGEMENTS)] for _ in range(ROUNDS)]
            rows += [_best(tried) for tried in zip(*rounds, strict=True)]
    finally:
        os.kill(far, 15)
        os.waitpid(far, 0)
    return rows


def _best(tried: tuple[Row, ...]) -> Row:
    """What others take from this machine only ever adds; losses of any round stay."""
    best = min(tried, key=lambda row: row.p99_ms)
    losses = [row.lost for row in tried if row.lost is not None]
    return replace(best, lost=sum(losses) if losses else None)


def _bare(calls: int) -> Row:
    """In a process of its own, as our sender has one."""
    with _witnesses() as pauses:
        ours, theirs = Pipe()
        child = get_context("fork").Process(target=_bare_loop, args=(calls, theirs))
        child.start()
        sent, took = ours.recv()
        child.join()
    return _row(calls, "bare sendto", [sent[i::calls] for i in range(calls)], pauses, len(sent) / took, None)


def _bare_loop(calls: int, pipe) -> None:  # type: ignore[no-untyped-def]
    raise_priority()
    sink = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sink.bind(("127.0.0.1", 0))
    target = sink.getsockname()
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    packet = bytes(172)
    gap = 20_000_000 // calls
    total = SECONDS * 50 * calls
    sent = []
    start = time.monotonic_ns() + 100_000_000
    for number in range(total):
        due = start + number * gap
        left = due - time.monotonic_ns()
        if left > 0:
            time.sleep(left / 1e9)
        sent.append(time.monotonic_ns())
        sock.sendto(packet, target)
    pipe.send((sent, (time.monotonic_ns() - start) / 1e9))


def _ours(address: str, calls: int, arrangement: Arrangement) -> Row:
    plan = CallPlan(calls, SECONDS * 50, 20_000, 8, 8000, 160, 46)
    with _witnesses() as pauses:
        apart_ns = time.time_ns() - time.monotonic_ns()
        result = place_calls(address, 4870, KEY, plan, arrangement=arrangement)
    sent = sum(r.columns[f"{d}.sent_us"].count for r in result.calls for d in ("up", "down"))
    arrived = sum(r.columns[f"{d}.arrival_us"].count for r in result.calls for d in ("up", "down"))
    streams = [[1000 * us - apart_ns for us in r.values("up.sent_us")] for r in result.calls]
    return _row(calls, arrangement, streams, pauses, sent / 2 / SECONDS, sent - arrived)


@contextmanager
def _witnesses() -> Iterator[list[Pauses]]:
    with ExitStack() as stack:
        yield [stack.enter_context(witnessed(processor)) for processor in sorted(os.sched_getaffinity(0))]


def _row(
    calls: int, how: str, streams: list[list[int]], pauses: list[Pauses], per_second: float, lost: int | None
) -> Row:
    """From when each stream's packets left, monotonic nanoseconds; its most punctual one shows where its plan lies."""
    own_us, clock_us = [], []
    for sent in streams:
        start = min(at - i * 20_000_000 for i, at in enumerate(sent))
        for i, at in enumerate(sent):
            planned = start + i * 20_000_000
            clock_us.append((at - planned) // 1000)
            own_us.append(int(at - planned - max(p.within(planned, at) for p in pauses)) // 1000)
    own, clock = lateness_of(own_us), lateness_of(clock_us)
    assert own
    assert clock
    assert None not in (own.p50, own.p99, own.max, clock.p99)
    p50, p99, most, wall = own.p50 or 0.0, own.p99 or 0.0, own.max or 0.0, clock.p99 or 0.0
    return Row(calls, how, p50, p99, most, wall, per_second, lost)


def _far_end(address: str) -> int:
    from tarnfell.farend.daemon import FarEndConfig, listen, run

    config = FarEndConfig(address, 4870, 23000, 23199)
    listener = listen(config)
    pid = os.fork()
    if pid == 0:
        try:
            run(listener, config, KEY)
        finally:
            os._exit(0)
    listener.close()
    return pid


def report() -> str:
    rows = measure()
    bare = {r.calls: r for r in rows if r.how == "bare sendto"}
    lines = [
        "## Sending",
        "",
        f"{SECONDS} s of G.711 at 20 ms each way on loopback; probe and far end share this machine, so that four "
        "processes of ours (two senders, two receivers) stand against the one bare loop, whose packets nobody reads. "
        "Lateness is actual minus planned send time at the probe, in milliseconds, of the best of "
        f"{ROUNDS} rounds taken in turn, without the pauses in which this machine gave its processors to others, which "
        "a witness on each processor noted; the last p99 is by the clock, pauses and all. ×bare is the p99 against the "
        "bare loop of the same rate. Lost counts packets sent by either end and not received by the other, over all "
        "rounds.",
        "",
        "| calls each way | arrangement | p50 | p99 | max | ×bare p99 | packets/s each way | lost | p99 by the clock |",
        "|---:|---|---:|---:|---:|---:|---:|---:|---:|",
    ]
    for r in rows:
        ratio = "1" if r.how == "bare sendto" else f"{r.p99_ms / bare[r.calls].p99_ms:.2f}"
        lost = "" if r.lost is None else str(r.lost)
        lines.append(
            f"| {r.calls} | {r.how} | {r.p50_ms:.3f} | {r.p99_ms:.3f} | {r.max_ms:.3f} | {ratio} | "
            f"{r.per_second:.0f} | {lost} | {r.clock_p99_ms:.3f} |"
        )
    return "\n".join(lines)
