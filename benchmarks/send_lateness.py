"""How late packets leave, and whether any is lost by us, at 1 to 100 calls each way.

Yardstick: a bare loop that sleeps until a packet is due and calls ``sendto``,
at the same rate and with the same priority, nothing else.
"""

from __future__ import annotations

import os
import socket
import time
from dataclasses import dataclass, replace
from multiprocessing import Pipe, get_context

from tarnfell.media.engine import Arrangement
from tarnfell.media.host import raise_priority
from tarnfell.media.selfcheck import lateness
from tarnfell.probe.call import place_calls
from tarnfell.probe.plan import CallPlan

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
    ours, theirs = Pipe()
    child = get_context("fork").Process(target=_bare_loop, args=(calls, theirs))
    child.start()
    late, took = ours.recv()
    child.join()
    quantiles = lateness(late)
    assert quantiles
    return Row(calls, "bare sendto", quantiles["p50"], quantiles["p99"], quantiles["max"], len(late) / took, None)


def _bare_loop(calls: int, pipe) -> None:  # type: ignore[no-untyped-def]
    raise_priority()
    sink = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sink.bind(("127.0.0.1", 0))
    target = sink.getsockname()
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    packet = bytes(172)
    gap = 20_000_000 // calls
    total = SECONDS * 50 * calls
    late = []
    start = time.monotonic_ns() + 100_000_000
    for number in range(total):
        due = start + number * gap
        left = due - time.monotonic_ns()
        if left > 0:
            time.sleep(left / 1e9)
        late.append((time.monotonic_ns() - due) // 1000)
        sock.sendto(packet, target)
    pipe.send((late, (time.monotonic_ns() - start) / 1e9))


def _ours(address: str, calls: int, arrangement: Arrangement) -> Row:
    plan = CallPlan(calls, SECONDS * 50, 20_000, 8, 8000, 160, 46)
    result = place_calls(address, 4870, KEY, plan, arrangement=arrangement)
    sent = sum(r.columns[f"{d}.sent_us"].count for r in result.calls for d in ("up", "down"))
    arrived = sum(r.columns[f"{d}.arrival_us"].count for r in result.calls for d in ("up", "down"))
    late = result.self_check["probe"]["send_late_ms"]
    return Row(calls, arrangement, late["p50"], late["p99"], late["max"], sent / 2 / SECONDS, sent - arrived)


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
        f"{ROUNDS} rounds taken in turn; ×bare is the p99 against the bare loop of the same rate. Lost counts packets "
        "sent by either end and not received by the other, over all rounds.",
        "",
        "| calls each way | arrangement | p50 | p99 | max | ×bare p99 | packets/s each way | lost |",
        "|---:|---|---:|---:|---:|---:|---:|---:|",
    ]
    for r in rows:
        ratio = "1" if r.how == "bare sendto" else f"{r.p99_ms / bare[r.calls].p99_ms:.2f}"
        lost = "" if r.lost is None else str(r.lost)
        lines.append(
            f"| {r.calls} | {r.how} | {r.p50_ms:.3f} | {r.p99_ms:.3f} | {r.max_ms:.3f} | {ratio} | "
            f"{r.per_second:.0f} | {lost} |"
        )
    return "\n".join(lines)
