"""A browser's half of a run's packets, as its page delivers it, made into the half of a record that a probe writes."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

from tarnfell.core.trace import LAST_US
from tarnfell.wire import WireError
from tarnfell.wire.failures import CUTS
from tarnfell.wire.kinds.fields import bounded, read, read_known
from tarnfell.wire.kinds.fill import SLOT_MS, FillPhase, FillResult
from tarnfell.wire.kinds.reach import MOST_RELAYS, BrowserReach, FarReach, PageReach, RelayTried, WebTried
from tarnfell.wire.kinds.selfcheck import LOOP_P99_LIMIT_MS, EndCheck, Lateness, SelfCheck, judge
from tarnfell.wire.record import Record, join_parts, split_parts

MAX_BYTES = 16 << 20
MOST_ARRIVALS = 4
"""Of a call, as a multiple of the packets that were planned: a broken path doubles packets, and then again."""
MOST_EXCHANGES = 20_000
_PACKETS = ("calls", "exchange", "phases")
MOST_PHASES = 4
"""Idle, and each way."""
_STAMPS = ("t1", "t2", "t3", "t4")
LEEWAY_S = 1.0
"""By which the page's two programs, the one that fills and the one that calls, may have begun and ended apart."""
ARRANGEMENT = "a page in a browser, over WebRTC data channels"
SOCKET_ARRANGEMENT = "a page in a browser, over a WebSocket"


@dataclass(frozen=True)
class Asked:
    """The calls that a page was to place."""

    calls: int
    ptime_ms: int
    seconds: float
    dscp: int = 0
    by_socket: bool = False


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
    reach: PageReach | None = None
    relays: tuple[RelayTried, ...] = bounded(most=MOST_RELAYS, default=())
    web: WebTried | None = None
    cut: _Cut | None = None


def own_half(asked: Asked, body: bytes) -> bytes:
    """The page's half as a file of records, each with a place for the far end's. Raises WireError."""
    told = _parsed(body)
    about = _about(told)
    calls = told.get("calls")
    if not isinstance(calls, list) or len(calls) != asked.calls:
        raise WireError(f"The half has not the run’s {asked.calls} calls.")
    arrangement = SOCKET_ARRANGEMENT if asked.by_socket else ARRANGEMENT
    check = EndCheck(
        arrangement=f"{arrangement}; {about.agent}" if about.agent else arrangement,
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
    records = [_record(asked, number, one, about) for number, one in enumerate(calls)]
    return join_parts([Record.of(head, _exchange(told, about)).serialize(), *(one.serialize() for one in records)])


def is_cut(half: bytes) -> bool:
    """Whether the line gave out in the middle, so that this half is evidence by itself."""
    return _parsed(half).get("cut") is not None


def reach_of(body: bytes, record: bytes) -> BrowserReach:
    """How the page came to the far end, by its own half and by what the far end added. Raises WireError."""
    first, *_ = split_parts(record)
    far = Record.parse(first).meta.get("far_reach")
    about = _about(_parsed(body))
    return BrowserReach(
        relays=about.relays,
        page=about.reach,
        far=read_known(FarReach, far, "What the far end says of the browser") if far is not None else None,
        web=about.web,
    )


def fill_of(body: bytes, record: bytes) -> FillResult:
    """What the page tells of the line it filled, with the packets of both ends. Raises WireError."""
    told = _parsed(body)
    about = _about(told)
    phases = told.get("phases", [])
    if not isinstance(phases, list) or len(phases) > MOST_PHASES:
        raise WireError(f"The phases of the half are not a list of at most {MOST_PHASES}.")
    return FillResult(
        phases=tuple(_phase(one, about) for one in phases),
        record=record,
        stopped=about.stopped,
        cut=about.cut.reason if about.cut else None,
        cut_s=about.cut.after_s if about.cut else 0.0,
    )


def _phase(told: Any, about: _About) -> FillPhase:
    phase = read(FillPhase, told, "A phase of the half")
    from_s, until_s = ((at - about.started_us) / 1e6 for at in (phase.from_us, phase.until_us))
    if not -LEEWAY_S <= from_s <= until_s <= about.lasted_s + LEEWAY_S:
        raise WireError("A phase of the half lies outside the test.")
    most_slots = (until_s - from_s + LEEWAY_S) * 1000 / SLOT_MS
    if any(len(slots) > most_slots or any(one < 0 for one in slots) for slots in (phase.up, phase.down)):
        raise WireError("A phase of the half tells of more time than it took.")
    if phase.up_sender or phase.down_sender:
        raise WireError("A phase of the half tells what no page in a browser can know.")
    return phase


def _about(told: Mapping[str, Any]) -> _About:
    about = read(_About, {name: told[name] for name in told if name not in _PACKETS}, "The half")
    if about.cut is not None and about.cut.code not in CUTS:
        raise WireError("The half tells a cut for a reason that is none of the network’s.")
    return about


def _parsed(body: bytes) -> dict[str, Any]:
    try:
        told = json.loads(body)
    except (ValueError, RecursionError):
        raise WireError("What the page delivered is not JSON.") from None
    if not isinstance(told, dict):
        raise WireError("What the page delivered is not an object.")
    return told


def _record(asked: Asked, number: int, told: Any, about: _About) -> Record:
    if not isinstance(told, dict):
        raise WireError(f"Call {number + 1} of the half is not an object.")
    planned = round(asked.seconds * 1000 / asked.ptime_ms)
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
        "ptime_us": asked.ptime_ms * 1000,
        "start_us": about.started_us,
        "up": {"ssrc": number + 1, "dscp_sent": asked.dscp},
        "down": {"ssrc": number + 1, "dscp_sent": asked.dscp},
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
