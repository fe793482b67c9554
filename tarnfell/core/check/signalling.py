"""Call signalling: whether a registration and a call go through, and whether anybody rewrites their messages."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from tarnfell.core.causes import FIREWALL, Way
from tarnfell.core.check.case import Case
from tarnfell.core.check.registrar import at_registrar
from tarnfell.core.check.values import Figure, Rung, State
from tarnfell.wire import WireError
from tarnfell.wire.kinds.signalling import SIP_TRANSPORTS, SignallingFacts, SipCall, SipMessage, SipTransport
from tarnfell.wire.sip import Message, long_name

STEPS = (("OPTIONS", 200), ("REGISTER", 401), ("REGISTER", 200), ("INVITE", 200), ("BYE", 200))
"""What a phone does, and how it is answered."""


@dataclass(frozen=True)
class Change:
    """One line of a message that arrived otherwise than it was sent."""

    transport: SipTransport
    way: Way
    message: str
    """By its first line."""
    where: str
    """A header's name, or the line of the session description."""
    was: str
    now: str


def signalling(case: Case) -> Rung:
    """With the far end, and at the customer's own registrar where an account was given."""
    found = _with_far_end(case)
    if case.result.registrar is None:
        return found
    other = at_registrar(case, case.result.registrar)
    states = (found.state, other.state)
    # What was not tried with one of them takes nothing from what was shown with the other.
    state: State = "failed" if "failed" in states else "passed" if "passed" in states else "unproven"
    return Rung("signalling", found.title, state, f"{found.says} {other.says}", {**found.figures, **other.figures})


def _with_far_end(case: Case) -> Rung:
    title, told = "Signalling", case.result.signalling
    if told is None:
        needs = case.result.reach is not None and not case.result.media
        return Rung("signalling", title, "unproven", "It needs the far end’s key." if needs else "It was not asked.")
    if not told.messages:
        return Rung("signalling", title, "unproven", told.failure or "Nothing was said.")
    figures: dict[str, Figure] = {"messages": len(told.messages)}
    words, faults, untried = [], [], False
    for transport in dict.fromkeys(one.transport for one in told.messages):
        name, own = SIP_TRANSPORTS[transport], [one for one in told.messages if one.transport == transport]
        missing = _first_missing(own)
        took_ms = _took_ms(own)
        if missing is None:
            figures[f"{transport}_ms"] = took_ms
            words.append(f"Registering and calling over {name} go through ({took_ms:.0f} ms).")
        elif not any(one.arrived for one in own):
            faults.append(_tell_closed(case, transport, told))
        elif not any(one.way == "up" and one.sent.startswith(f"{missing} ") for one in own):
            words.append(f"Over {name} {missing} was not tried: the check was stopped.")
            untried = True
        else:
            faults.append(f"Over {name} {missing} was not answered as it should be.")
    _tell_media(case, told.calls, words, faults)
    if _is_opened(told):
        faults.append(_tell_tampered(case))
    changes = changes_of(told)
    figures["changes"] = len(changes)
    if changes:
        faults.append(_tell_rewritten(case, changes))
    if faults:
        return Rung("signalling", title, "failed", " ".join([*words, *faults]), figures)
    words.append("Every message arrives as it was sent.")
    return Rung("signalling", title, "unproven" if untried else "passed", " ".join(words), figures)


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


def _tell_closed(case: Case, transport: SipTransport, told: SignallingFacts) -> str:
    port = told.tls_port if transport == "tls" else told.port
    words = f"Nothing of SIP over {SIP_TRANSPORTS[transport]} port {port} arrives at the far end."
    is_explained = transport == "tls" and _is_opened(told)
    if not is_explained and not _is_closed_already(case):
        remedy = f"Let SIP ({SIP_TRANSPORTS[transport]} port {port}) out, if phones here are to use it."
        case.cause("port-blocked", "unknown", CLOSED, words, remedy, FIREWALL, "signalling")
    return words


def _is_closed_already(case: Case) -> bool:
    return any(cause.key in ("udp-blocked", "port-blocked", "line-down", "inside-down") for cause in case.causes)


def _tell_media(case: Case, calls: Sequence[SipCall], words: list[str], faults: list[str]) -> None:
    """What became of the media of calls; those that fared alike are told together."""
    fates: dict[tuple[_Fate, str], list[SipCall]] = {}
    for call in calls:
        fates.setdefault((_fate(call), call.elsewhere), []).append(call)
    for (fate, elsewhere), alike in fates.items():
        over = _listed([SIP_TRANSPORTS[call.transport] for call in alike])
        which = f"The call over {over}" if len(alike) == 1 else f"The calls over {over}"
        up, down = (_counted([way(call) for call in alike]) for way in (_counts_up, _counts_down))
        if fate == "both ways":
            words.append(f"{which} {_verb(alike, 'carry')} media both ways: {up} packets up, {down} down.")
        elif fate == "half told":
            words.append(f"{which}: {down} media packets came down; the far end has not told its side.")
        elif fate == "elsewhere":
            faults.append(
                f"{which} {_verb(alike, 'be')} answered with an address for media that is not the far end’s "
                f"({elsewhere}), so none was sent."
            )
        elif fate == "none":
            sent = sum(len(call.own_sent.sent_us) for call in alike)
            said = f"{which}: no media packet of {sent} reaches the far end, which then sends none."
            faults.append(said)
            if not _is_closed_already(case):
                case.cause("port-blocked", "unknown", CLOSED, said, LET_MEDIA, FIREWALL, "signalling", way="up")
        else:
            faults.append(f"{which} {_verb(alike, 'be')} one-way: {up} packets arrive up, {down} down.")
            if not any(cause.key == "one-way" for cause in case.causes):
                title = "Media flows one way only"
                case.cause("one-way", "unknown", title, faults[-1], LET_MEDIA, FIREWALL, "signalling", way="down")


CLOSED = "A port is closed"
LET_MEDIA = "Let the ports through that a call’s two ends name to each other, both ways, for as long as it lasts."
_Fate = Literal["both ways", "half told", "elsewhere", "none", "one-way"]


def _fate(call: SipCall) -> _Fate:
    if call.elsewhere:
        return "elsewhere"
    if call.far_sent is None or call.far_arrived is None:
        return "half told"
    if not call.far_arrived.seq:
        return "none"
    return "both ways" if call.own_arrived.seq else "one-way"


def _counts_up(call: SipCall) -> tuple[int, int]:
    return len(set(call.far_arrived.seq)) if call.far_arrived else 0, len(call.own_sent.sent_us)


def _counts_down(call: SipCall) -> tuple[int, int]:
    return len(set(call.own_arrived.seq)), len(call.far_sent.sent_us) if call.far_sent else 0


def _counted(counts: Sequence[tuple[int, int]]) -> str:
    """Of all calls together: so many of so many."""
    came, sent = (sum(side) for side in zip(*counts, strict=True))
    return f"{came} of {sent}" if sent else str(came)


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _verb(alike: Sequence[SipCall], verb: Literal["be", "carry"]) -> str:
    singular, plural = {"be": ("is", "are"), "carry": ("carries", "carry")}[verb]
    return singular if len(alike) == 1 else plural


def _is_opened(told: SignallingFacts) -> bool:
    return told.certificate_seen not in ("", told.certificate)


def _tell_tampered(case: Case) -> str:
    words = "Another certificate than the far end’s answers for SIP over TLS: somebody on the way opens it."
    remedy = "Take SIP over TLS out of the inspection of TLS: phones refuse a certificate that is not their server’s."
    case.cause("service-tampered", "unknown", "TLS is intercepted", words, remedy, FIREWALL, "signalling")
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
    over = " and ".join(dict.fromkeys(SIP_TRANSPORTS[one.transport] for one in changes))
    lines = ", ".join(dict.fromkeys(one.where for one in changes))
    first = next((one for one in changes if one.where == "Contact"), changes[0])
    arrive = (
        "1 line arrives otherwise than it was"
        if len(changes) == 1
        else f"{len(changes)} lines arrive otherwise than they were"
    )
    words = (
        f"Somebody on the way rewrites SIP over {over}: {arrive} sent ({lines}). "
        f"{first.where} of {first.message} was “{first.was}” and became “{first.now}”."
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
