"""Call signalling: whether a registration and a call go through, and whether anybody rewrites their messages."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from tarnfell.core.causes import Way
from tarnfell.core.check.case import FIREWALL, Case
from tarnfell.core.check.values import Figure, Rung
from tarnfell.wire import WireError
from tarnfell.wire.kinds.signalling import SignallingFacts, SipMessage
from tarnfell.wire.sip import Message, long_name

STEPS = (("OPTIONS", 200), ("REGISTER", 401), ("REGISTER", 200), ("INVITE", 200), ("BYE", 200))
"""What a phone does, and how it is answered."""
NAMES = {"udp": "UDP", "tcp": "TCP"}


@dataclass(frozen=True)
class Change:
    """One line of a message that arrived otherwise than it was sent."""

    transport: str
    way: Way
    message: str
    """By its first line."""
    where: str
    """A header's name, or the line of the session description."""
    was: str
    now: str


def signalling(case: Case) -> Rung:
    title, told = "Signalling", case.result.signalling
    if told is None:
        needs = case.result.reach is not None and not case.result.media
        return Rung("signalling", title, "unproven", "It needs the far end’s key." if needs else "It was not asked.")
    if not told.messages:
        return Rung("signalling", title, "unproven", told.failure or "Nothing was said.")
    figures: dict[str, Figure] = {"messages": len(told.messages)}
    words, faults = [], []
    for transport in dict.fromkeys(one.transport for one in told.messages):
        name, own = NAMES[transport], [one for one in told.messages if one.transport == transport]
        missing = _first_missing(own)
        took_ms = _took_ms(own)
        if missing is None:
            figures[f"{transport}_ms"] = took_ms
            words.append(f"Registering and calling over {name} goes through ({took_ms:.0f} ms).")
        elif not any(one.arrived for one in own):
            faults.append(_tell_closed(case, name, told))
        else:
            faults.append(f"Over {name} {missing} was not answered as it should be.")
    changes = changes_of(told)
    figures["changes"] = len(changes)
    if changes:
        faults.append(_tell_rewritten(case, changes))
    if faults:
        return Rung("signalling", title, "failed", " ".join([*words, *faults]), figures)
    words.append("Every message arrives as it was sent.")
    return Rung("signalling", title, "passed", " ".join(words), figures)


def _first_missing(own: Sequence[SipMessage]) -> str | None:
    """The first step that was not answered as it should be."""
    answered = [(found.method, found.status) for one in own if one.way == "down" and (found := _parsed(one.arrived))]
    for method, status in STEPS:
        if (method, status) not in answered:
            return method
    return None


def _took_ms(own: Sequence[SipMessage]) -> float:
    """From each request to its final answer, together."""
    asked: dict[str, float] = {}
    took = 0.0
    for one in own:
        told = _parsed(one.sent or one.arrived)
        sequence = (told.get("cseq") or "") if told else ""
        if one.way == "up":
            asked.setdefault(sequence, one.at_ms)
        elif told and (told.status or 0) >= 200 and one.arrived and sequence in asked:
            took += one.at_ms - asked.pop(sequence)
    return took


def _tell_closed(case: Case, name: str, told: SignallingFacts) -> str:
    words = f"Nothing of SIP over {name} port {told.port} arrives at the far end."
    if not any(cause.key in ("udp-blocked", "port-blocked", "line-down", "inside-down") for cause in case.causes):
        remedy = f"Let SIP ({name} port {told.port}) out, if phones here are to use it."
        case.cause("port-blocked", "unknown", "A port is closed", words, remedy, FIREWALL, "signalling")
    return words


def changes_of(told: SignallingFacts) -> list[Change]:
    """Line by line, of messages of which both ends have told."""
    found: list[Change] = []
    for one in told.messages:
        sent, arrived = _parsed(one.sent), _parsed(one.arrived)
        if sent is None or arrived is None:
            continue
        name = f"{sent.status} {sent.method}" if sent.status else sent.method
        for where, was, now in _differences(sent, arrived):
            found.append(Change(one.transport, one.way, name, where, was, now))
    return found


def _differences(sent: Message, arrived: Message) -> list[tuple[str, str, str]]:
    pairs = [("first line", sent.start, arrived.start)] if sent.start != arrived.start else []
    names = dict.fromkeys(long_name(name) for name, _ in (*sent.headers, *arrived.headers))
    for name in names:
        if name == "content-length":
            continue  # it follows the body, which is compared
        was, now = sent.all(name), arrived.all(name)
        if was != now:
            pairs.append((_written(name, sent), ", ".join(was) or "nothing", ", ".join(now) or "nothing"))
    old, new = sent.body.splitlines(), arrived.body.splitlines()
    for line in range(max(len(old), len(new))):
        a, b = (lines[line] if line < len(lines) else "nothing" for lines in (old, new))
        if a != b:
            pairs.append((f"SDP {(a if a != 'nothing' else b)[:2]}", a, b))
    return pairs


def _written(name: str, sent: Message) -> str:
    return next((told for told, _ in sent.headers if long_name(told) == name), name)


def _parsed(text: str) -> Message | None:
    try:
        return Message.parse(text.encode()) if text else None
    except WireError:
        return None


def _tell_rewritten(case: Case, changes: Sequence[Change]) -> str:
    over = " and ".join(dict.fromkeys(NAMES[one.transport] for one in changes))
    lines = ", ".join(dict.fromkeys(one.where for one in changes))
    first = next((one for one in changes if one.where == "Contact"), changes[0])
    words = (
        f"Somebody on the way rewrites SIP over {over}: {len(changes)} lines arrive otherwise than they were sent "
        f"({lines}). {first.where} of {first.message} was “{first.was}” and became “{first.now}”."
    )
    remedy = (
        "Switch off the SIP helper (application layer gateway) in the router and the firewall: phones and servers find "
        "their way through translation by themselves, and what it rewrites breaks calls now and then."
    )
    ways = {one.way for one in changes}
    way: Way = next(iter(ways)) if len(ways) == 1 else "both"
    case.cause(
        "signalling-rewritten", "unknown", "Signalling is rewritten", words, remedy, FIREWALL, "signalling", way=way
    )
    return words
