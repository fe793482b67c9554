"""A browser's half of a run's packets, as its page delivers it, made into the half of a record that a probe writes."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from tarnfell.core.trace import LAST_US
from tarnfell.store.runs import Run
from tarnfell.wire import WireError
from tarnfell.wire.failures import OF_THE_NETWORK
from tarnfell.wire.kinds.fields import bounded, read
from tarnfell.wire.kinds.selfcheck import LOOP_P99_LIMIT_MS, EndCheck, Lateness, SelfCheck, judge
from tarnfell.wire.record import Record, join_parts

MAX_BYTES = 16 << 20
MOST_ARRIVALS = 4
"""Of a call, as a multiple of the packets that were planned: a broken path doubles packets, and then again."""
MOST_EXCHANGES = 20_000
_PACKETS = ("calls", "exchange")
_STAMPS = ("t1", "t2", "t3", "t4")
ARRANGEMENT = "a page in a browser, over WebRTC data channels"


@dataclass(frozen=True)
class _Check:
    """What the page saw of itself."""

    late_ms: Lateness | None = None
    scatter_ms: Lateness | None = None
    held_ms: Lateness | None = None
    hidden_s: float = bounded(0, 86_400, default=0.0)


@dataclass(frozen=True)
class _Cut:
    code: str
    reason: str = bounded(1, 400)
    after_s: float = bounded(0, 86_400)
    server_reachable: bool | None = None
    """Whether the page could reach its server at that instant; None: it did not try."""


@dataclass(frozen=True)
class _About:
    """A half without its packets."""

    started_us: int = bounded(0, LAST_US)
    lasted_s: float = bounded(0, 86_400)
    """From the first packet to when nothing more was listened for."""
    agent: str = bounded(most=200, default="")
    stopped: bool = False
    check: _Check = _Check()
    cut: _Cut | None = None


def own_half(run: Run, body: bytes) -> bytes:
    """The page's half as a file of records, each with a place for the far end's. Raises WireError."""
    told = _parsed(body)
    about = read(_About, {name: told[name] for name in told if name not in _PACKETS}, "The half")
    if about.cut is not None and about.cut.code not in OF_THE_NETWORK:
        raise WireError("The half tells a cut for a reason that is none of the network’s.")
    calls = told.get("calls")
    if not isinstance(calls, list) or len(calls) != run.calls:
        raise WireError(f"The half has not the run’s {run.calls} calls.")
    check = EndCheck(
        arrangement=f"{ARRANGEMENT}; {about.agent}" if about.agent else ARRANGEMENT,
        receive_stamps="program",
        send_late_ms=about.check.late_ms,
        scatter_ms=about.check.scatter_ms,
        held_ms=about.check.held_ms,
        hidden_s=about.check.hidden_s,
    )
    reasons = tuple(judge("browser", check, LOOP_P99_LIMIT_MS))
    head: dict[str, Any] = {
        "shared": False,
        "stopped": about.stopped,
        "self_check": asdict(SelfCheck(bool(reasons), reasons, check)),
    }
    if about.cut is not None:
        head["cut"] = asdict(about.cut)
    records = [_record(run, number, one, about) for number, one in enumerate(calls)]
    return join_parts([Record.of(head, _exchange(told, about)).serialize(), *(one.serialize() for one in records)])


def is_cut(half: bytes) -> bool:
    """Whether the line gave out in the middle, so that this half is evidence by itself."""
    return _parsed(half).get("cut") is not None


def _parsed(body: bytes) -> dict[str, Any]:
    try:
        told = json.loads(body)
    except (ValueError, RecursionError):
        raise WireError("What the page delivered is not JSON.") from None
    if not isinstance(told, dict):
        raise WireError("What the page delivered is not an object.")
    return told


def _record(run: Run, number: int, told: Any, about: _About) -> Record:
    if not isinstance(told, dict):
        raise WireError(f"Call {number + 1} of the half is not an object.")
    planned = round(run.seconds * 1000 / run.ptime_ms)
    sent = _times(told, "sent_us", planned, about.started_us)
    seq = _whole(told, "arrival_seq", MOST_ARRIVALS * planned, 0, planned - 1)
    came = _times(told, "arrival_us", MOST_ARRIVALS * planned, about.started_us)
    if len(seq) != len(came):
        raise WireError(f"Call {number + 1} of the half has not a time for each packet that came.")
    reached, received = _whole(told, "far", 2, 0, planned) or [0, 0]
    meta = {
        "call": number + 1,
        "planned_packets": planned,
        "direction": "both",
        "ptime_us": run.ptime_ms * 1000,
        "start_us": about.started_us,
        "up": {"ssrc": number + 1, "dscp_sent": run.dscp},
        "down": {"ssrc": number + 1, "dscp_sent": run.dscp},
        "half": {"seconds": about.lasted_s, "reached": reached, "received": min(reached, received), "stream": number},
    }
    return Record.of(meta, {"up.sent_us": sent, "down.arrival_seq": seq, "down.arrival_us": came})


def _exchange(told: Mapping[str, Any], about: _About) -> dict[str, list[int]]:
    exchange = told.get("exchange", {})
    if not isinstance(exchange, dict):
        raise WireError("The exchange of time stamps is not an object.")
    columns = {
        f"{name}_ns": [1000 * at for at in _times(exchange, f"{name}_us", MOST_EXCHANGES, about.started_us)]
        for name in _STAMPS
    }
    if len({len(one) for one in columns.values()}) != 1:
        raise WireError("The time stamps of the half differ in number.")
    return columns


def _times(told: Mapping[str, Any], name: str, most: int, since_us: int) -> list[int]:
    """Told since the run began; the far end's clock may be before that."""
    return [since_us + at for at in _whole(told, name, most, -LAST_US, LAST_US)]


def _whole(told: Mapping[str, Any], name: str, count: int, least: int, most: int) -> list[int]:
    """Raises WireError."""
    values = told.get(name, [])
    if not isinstance(values, list) or len(values) > count:
        raise WireError(f"“{name}” of the half is not a list of at most {count}.")
    if not all(type(one) is int and least <= one <= most for one in values):
        raise WireError(f"“{name}” of the half holds what is no whole number from {least} to {most}.")
    return values
