"""Address translation and filters that keep state: what packets arrive from, and how long the way back stays open."""

from __future__ import annotations

import ipaddress

from tarnfell.core.causes import FIREWALL
from tarnfell.core.check.case import Case
from tarnfell.core.check.values import Figure, Rung
from tarnfell.wire.kinds.check import ServiceFacts
from tarnfell.wire.kinds.translation import TranslationFacts

PER_DESTINATION = "Translation differs by destination"
ONE_MAPPING = (
    "Have the firewall keep one mapping a socket for UDP (endpoint-independent, RFC 4787); otherwise media between two "
    "such sites needs a relay."
)
SHARED = ipaddress.ip_network("100.64.0.0/10")
"""Between a provider's own translator and its customers (RFC 6598)."""


def translation(case: Case) -> Rung:
    title, told = "Translation", case.result.translation
    if told is None:
        needs = case.result.reach is not None and not case.result.media
        return _by_servers_alone(case, title, "It needs the far end’s key." if needs else "It was not asked.")
    if not told.mapped:
        return _by_servers_alone(case, title, told.failure or "No UDP came back from the far end.")
    figures: dict[str, Figure] = {"seen_from": told.mapped[0].address}
    words, faults = [_seen(told)], []
    shared = _shared(case, told)
    if shared:
        words.append(shared)
    if _per_destination(told):
        faults.append(_tell_per_destination(case, told))
    elif _by_server(case):
        faults.append(_tell_by_server(case))
    words += _let_in(case)
    lives, forgets = kept_between(told)
    figures |= {"binding_at_least_s": lives, "binding_under_s": forgets}
    if forgets is not None and forgets <= case.limits.binding_s:
        faults.append(_tell_forgets(case, lives, forgets))
    elif lives is not None:
        words.append(f"The way back to a socket silent for {lives:.0f} s was still open.")
    if faults:
        return Rung("translation", title, "failed", " ".join([*words, *faults]), figures)
    return Rung("translation", title, "passed", " ".join(words), figures)


def is_translated(told: TranslationFacts) -> bool:
    return any((one.address, one.from_port) != (told.own_address, told.own_port) for one in told.mapped)


def _seen(told: TranslationFacts) -> str:
    seen = told.mapped[0]
    if not is_translated(told):
        return f"Nothing translates on the way: packets arrive from {seen.address} as they were sent."
    return f"{told.own_address} port {told.own_port} is translated to {seen.address} port {seen.from_port}."


def _shared(case: Case, told: TranslationFacts) -> str | None:
    """Signs of a translator at the provider's, which many customers share."""
    addresses = [hop.address for hop in (case.result.path.hops if case.result.path else ()) if hop.address]
    behind = [one for one in addresses[1:] if _is_shared(one)]
    if not behind or not is_translated(told):
        return None
    return (
        f"The public address is shared: {behind[0]} on the way is an address between a provider’s translator and its "
        "customers (RFC 6598)."
    )


def _is_shared(address: str) -> bool:
    found = ipaddress.ip_address(address)
    return found.version == 4 and found in SHARED


def _per_destination(told: TranslationFacts) -> bool:
    """Whether the same socket is seen from another place by another port (RFC 4787 §4.1)."""
    return len({(one.address, one.from_port) for one in told.mapped}) > 1


def _tell_per_destination(case: Case, told: TranslationFacts) -> str:
    seen = "; ".join(f"port {one.port} sees {one.address} port {one.from_port}" for one in told.mapped)
    words = f"Each destination sees another address or port of the same socket ({seen})."
    case.cause("translation-per-destination", "unknown", PER_DESTINATION, words, ONE_MAPPING, FIREWALL, "translation")
    return words


MAPPING = {"none": "any destination", "address": "each address", "address-and-port": "each address and port"}
FILTERS = {
    "none": "anybody’s packets are let in to a socket that has sent",
    "address": "only addresses that were sent to are let in",
    "address-and-port": "only addresses and ports that were sent to are let in",
}


def _by_servers_alone(case: Case, title: str, why: str) -> Rung:
    """The far end has told nothing; STUN servers with two addresses may have."""
    if _by_server(case):
        return Rung("translation", title, "failed", " ".join([_tell_by_server(case), *_let_in(case)]))
    return Rung("translation", title, "unproven", " ".join([why, *_let_in(case)]))


def _by_server(case: Case) -> ServiceFacts | None:
    """A STUN server with two addresses to which the same socket looked like two (RFC 5780 §4.3)."""
    return next(
        (s for s in case.result.services if s.behaviour and s.behaviour.mapping not in (None, "none")), None
    )  # fmt: skip


def _tell_by_server(case: Case) -> str:
    service = _by_server(case)
    assert service is not None
    assert service.behaviour is not None
    assert service.behaviour.mapping is not None
    words = (
        f"{service.asked.name} at {service.asked.host} sees another mapping of the same socket at its second address: "
        f"there is one for {MAPPING[service.behaviour.mapping]} (RFC 5780)."
    )
    case.cause(
        "translation-per-destination", "unknown", PER_DESTINATION, words, ONE_MAPPING, FIREWALL, "translation"
    )  # fmt: skip
    return words


def _let_in(case: Case) -> list[str]:
    """What is let in from outside, by the first server that could tell; no fault either way."""
    told = next((s for s in case.result.services if s.behaviour), None)
    if told is None or told.behaviour is None:
        return []
    return [f"By {told.asked.name}, {FILTERS[told.behaviour.filtering]}."]


def kept_between(told: TranslationFacts) -> tuple[float | None, float | None]:
    """The longest silence after which a packet still came through, and the shortest beyond it after which none did."""
    lives = max((one.silent_s for one in told.kept if one.heard), default=None)
    closed = [one.silent_s for one in told.kept if one.heard is False and one.silent_s > (lives or 0.0)]
    return lives, min(closed, default=None)


def _tell_forgets(case: Case, lives: float | None, forgets: float) -> str:
    since = "" if lives is None else f"; after {lives:.0f} s it still was"
    words = f"The way back to a socket silent for {forgets:.0f} s was closed{since}."
    remedy = (
        f"Raise the firewall’s time-out for UDP to 60 s or more, or have phones send a sign of life every "
        f"{max(1, (lives or forgets / 2)):.0f} s: calls on hold and incoming calls are lost behind it."
    )
    case.cause("translation-forgets", "unknown", "The way back closes too soon", words, remedy, FIREWALL, "translation")
    return words
