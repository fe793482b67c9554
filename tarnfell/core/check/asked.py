"""Name servers and services: who answers, and whether it is the right answer."""

from __future__ import annotations

import statistics
from collections.abc import Iterable

from tarnfell.core.causes import FAR_END, FIREWALL, NETWORK, LegName
from tarnfell.core.check.case import Case, private
from tarnfell.core.check.values import Figure, Rung
from tarnfell.wire.kinds.check import NameFacts, ServiceFacts

UDP = ("stun", "dns", "sip")


def names(case: Case) -> Rung:
    title, asked = "Names", case.result.names
    if not asked:
        none = (
            "Names are looked up by no server here."
            if not case.result.stack.resolvers
            else "No name was given to ask for."
        )
        return Rung("names", title, "unproven", none)
    servers = list(dict.fromkeys(one.resolver for one in asked))
    dead = [server for server in servers if all(n.rcode is None for n in asked if n.resolver == server)]
    took = [n.took_ms for n in asked if n.took_ms is not None]
    figures: dict[str, Figure] = {"servers": len(servers), "median_ms": statistics.median(took) if took else None}
    faults = [_dead_resolver(case, server, asked, len(servers) - len(dead)) for server in dead]
    faults += _wrong_names(case, asked)
    if took and statistics.median(took) > case.limits.name_ms:
        words = (
            f"A name takes {statistics.median(took):.0f} ms to look up; {case.limits.name_ms:.0f} ms are usual at most."
        )
        remedy = "Use a name server that is nearer, or look at what keeps this one busy."
        case.cause("names-slow", "unknown", "Names are slow to look up", words, remedy, NETWORK, "names")
        faults.append(words)
    if faults:
        return Rung("names", title, "failed", " ".join(faults), figures)
    words = f"{', '.join(servers)} {'answers' if len(servers) == 1 else 'answer'} in {statistics.median(took):.1f} ms."
    return Rung("names", title, "passed", words, figures)


def _dead_resolver(case: Case, server: str, asked: Iterable[NameFacts], alive: int) -> str:
    why = next(n.failure or "no answer" for n in asked if n.resolver == server)
    others = "another one does" if alive else "nor does any other"
    words = f"The name server {server} does not answer ({why}); {others}."
    remedy = f"Take {server} out of what DHCP gives, or mend it. Calls wait seconds for a server that is silent."
    leg: LegName = "inside" if private(server) else "unknown"
    case.cause("resolver-dead", leg, "A name server does not answer", words, remedy, NETWORK, "names")
    return words


def _wrong_names(case: Case, asked: Iterable[NameFacts]) -> list[str]:
    """A name that one server knows and another denies."""
    found = []
    answered = [n for n in asked if n.rcode is not None]
    for name in dict.fromkeys(n.name for n in answered):
        mine = [n for n in answered if n.name == name]
        known = [n for n in mine if n.addresses]
        for one in mine:
            if known and not one.addresses:
                words = f"{one.resolver} has no address for {name}; {known[0].resolver} has {known[0].addresses[0]}."
                remedy = f"Have {one.resolver} ask the same source as the other, or take it out of what DHCP gives."
                case.cause(
                    "names-wrong", "unknown", "A name server gives wrong answers", words, remedy, NETWORK, "names"
                )
                found.append(words)
    return found


def services(case: Case) -> Rung:
    title, asked = "Services", case.result.services
    if not asked:
        return Rung("services", title, "unproven", "No service was given to ask.")
    good = [one for one in asked if one.state == "open"]
    figures: dict[str, Figure] = {"asked": len(asked), "open": len(good)}
    # A name without an address is a fault of names where these work; else its service was just not asked.
    untried = [one for one in asked if one.state == "nameless" and not case.names_work]
    faults = [_service_fault(case, one) for one in asked if one.state != "open" and one not in untried]
    left = [f"{one.asked.name} was not asked: {one.says}." for one in untried]
    if faults:
        return Rung("services", title, "failed", " ".join([*faults, *left]), figures)
    if left:
        return Rung("services", title, "unproven", " ".join(left), figures)
    return Rung("services", title, "passed", f"All {len(asked)} answer.{_slowest(good)}", figures)


def _slowest(good: list[ServiceFacts]) -> str:
    timed = [one for one in good if one.took_ms is not None]
    if not timed:
        return ""
    last = max(timed, key=lambda one: one.took_ms or 0.0)
    return f" The slowest, {last.asked.name}, in {last.took_ms:.0f} ms."


def _service_fault(case: Case, one: ServiceFacts) -> str:
    asked = one.asked
    where = f"{asked.name} at {asked.host}, {'UDP' if asked.protocol in UDP else 'TCP'} {asked.port}"
    if one.state == "nameless":
        words = f"{where} was not asked: {one.says}."
        remedy = f"Check how {asked.host} is spelled, and that the site’s name servers know it."
        case.cause("names-wrong", "unknown", "A service’s name has no address", words, remedy, NETWORK, "services")
    elif one.trusted is False:
        words = f"{where}: {one.says}."
        remedy = "Have the firewall leave this service’s TLS alone: calls fail where their encryption is opened."
        case.cause(
            "service-tampered",
            "unknown",
            "Somebody else answers for a service",
            words,
            remedy,
            FIREWALL,
            "services",
        )
    elif one.state == "stalled" and any(cause.key == "mtu-hole" for cause in case.causes):
        words = f"{where}: {one.says}, as large packets vanish."
    elif one.state == "filtered":
        words = f"{where} does not answer ({one.says or 'silence'})."
        remedy = f"Let {asked.protocol.upper()} to {asked.host} port {asked.port} out."
        case.cause("port-blocked", "unknown", "A port is closed", words, remedy, FIREWALL, "services")
    else:
        words = f"{where}: {one.says or one.state}."
        remedy = "Ask whoever runs the service whether it is up."
        case.cause(
            "service-silent", "beyond", "A service does not answer as it should", words, remedy, FAR_END, "services"
        )
    return words
