"""The near end of the way: own addresses, gateway, provider's edge, and addresses outside, by echoes."""

from __future__ import annotations

import statistics
from collections.abc import Iterable

from tarnfell.core.causes import NETWORK, PROVIDER, CauseKey, LegName
from tarnfell.core.check.case import Case
from tarnfell.core.check.values import Figure, Rung, RungKey
from tarnfell.wire.kinds.check import EchoFacts

WEAK_DBM = -70
"""Below it voice over Wi-Fi begins to suffer; planners of such networks ask for -67 and better."""
LINE_DOWN = "The line is down"
CALL_PROVIDER = "Look at the modem’s lights and call the provider with these figures."


def own_stack(case: Case) -> Rung:
    stack = case.result.stack
    figures: dict[str, Figure] = {
        "gateway": stack.gateway, "interface": stack.interface, "medium": stack.medium, "mtu": stack.mtu
    }  # fmt: skip
    if not stack.addresses:
        words = "This machine has no address on any network."
        remedy = "Look at the cable or the Wi-Fi sign-in, and at DHCP."
        case.cause("inside-down", "inside", "No address", words, remedy, NETWORK, "own-stack")
        return Rung("own-stack", "Own addresses", "failed", words, figures)
    if stack.gateway is None and not case.far_heard:
        words = f"{stack.addresses[0]} is there, but no way out: the system has no default route."
        remedy = "Have DHCP give a gateway, or enter one."
        case.cause("inside-down", "inside", "No way out of the network", words, remedy, NETWORK, "own-stack")
        return Rung("own-stack", "Own addresses", "failed", words, figures)
    way_out = f", out by {stack.gateway}" if stack.gateway else ", without a gateway"
    radio = ""
    if stack.wifi_signal_dbm is not None:
        figures["wifi_signal_dbm"] = stack.wifi_signal_dbm
        weak = ": weak, the access point is far away or behind walls" if stack.wifi_signal_dbm < WEAK_DBM else ""
        radio = f" Wi-Fi at −{abs(stack.wifi_signal_dbm)} dBm{weak}."
    return Rung("own-stack", "Own addresses", "passed", f"{', '.join(stack.addresses)}{way_out}.{radio}", figures)


def gateway(case: Case) -> Rung:
    title, echo = "Gateway", case.echo_of("gateway")
    if case.result.stack.gateway is None:
        return Rung("gateway", title, "unproven", "There is no gateway to ask.")
    if echo is None:
        return Rung("gateway", title, "unproven", case.why_not("No echo could be sent to it."))
    if not echo.answered:
        return _silent_gateway(case, title, echo)
    return _echoed(case, "gateway", title, echo)


def _silent_gateway(case: Case, title: str, echo: EchoFacts) -> Rung:
    said = f"{echo.address} answered none of {echo.sent} echoes"
    if case.beyond_gateway:
        case.no_fault("echo-muted", f"{said}, while everything beyond it answers: it is told not to.")
        return Rung("gateway", title, "unproven", f"{said}; what lies beyond it answers.", _figures(echo))
    words = f"{said}, and nothing beyond it was heard."
    remedy = "Look at the gateway itself, the cable to it and the address it should have."
    case.cause("inside-down", "inside", "The gateway does not answer", words, remedy, NETWORK, "gateway")
    return Rung("gateway", title, "failed", words, _figures(echo))


def edge(case: Case) -> Rung:
    title, address = "Provider’s edge", case.result.edge
    if address is None:
        if case.answers("gateway") and not case.beyond_gateway:
            words = "The gateway answers, and nothing beyond it was heard."
            case.cause("line-down", "line", LINE_DOWN, words, CALL_PROVIDER, PROVIDER, "edge")
            return Rung("edge", title, "failed", words)
        path = case.result.path
        if path and path.reached and len(path.hops) == 1:
            return Rung("edge", title, "unproven", "The far end is one hop away: the way to it crosses no line.")
        return Rung("edge", title, "unproven", case.why_not("No router between gateway and far end says who it is."))
    echo = case.echo_of("edge")
    if echo is not None and echo.answered:
        return _echoed(case, "edge", title, echo)
    if address in case.heard:
        said = f"{address} answers on the path, though to none of {echo.sent if echo else 0} echoes."
        return Rung("edge", title, "passed", said, _figures(echo) if echo else {})
    if echo is None or case.beyond_edge:
        if echo is not None:
            said = f"{address} answered none of {echo.sent} echoes, while what lies beyond it answers."
            case.no_fault("echo-muted", said)
        return Rung("edge", title, "unproven", case.why_not(f"{address} does not answer echoes."))
    return _line_down(case, title, echo)


def _line_down(case: Case, title: str, echo: EchoFacts) -> Rung:
    words = f"{echo.address} answered none of {echo.sent} echoes, and nothing beyond the gateway was heard."
    if case.answers("gateway"):
        case.cause("line-down", "line", LINE_DOWN, words, CALL_PROVIDER, PROVIDER, "edge")
    return Rung("edge", title, "failed", words, _figures(echo))


def outside(case: Case) -> Rung:
    title, asked = "Outside addresses", [one for one in case.result.echoes if one.role == "outside"]
    if not asked:
        return Rung("outside", title, "unproven", case.why_not("No address outside was given to ask."))
    answered = [one for one in asked if one.answered]
    names = ", ".join(one.address for one in asked)
    if not answered:
        heard = case.beyond_edge
        words = f"None of {names} answered an echo" + (", though others outside answer." if heard else ".")
        return Rung("outside", title, "unproven" if heard else "failed", words)
    best = min(answered, key=lambda one: statistics.median(one.rtt_ms))
    words = f"{len(answered)} of {len(asked)} answer; the nearest in {statistics.median(best.rtt_ms):.1f} ms."
    return Rung("outside", title, "passed", words, _figures(best))


def _echoed(case: Case, key: RungKey, title: str, echo: EchoFacts) -> Rung:
    """By loss that all beyond share, and by delay against what is usual for the medium."""
    figures, middle = _figures(echo), statistics.median(echo.rtt_ms)
    lost = min(_loss_pct(one) for one in _from(case, echo) if one.answered)
    own = _loss_pct(echo)
    if lost >= case.limits.loss_pct:
        words = f"{echo.address} and all beyond it lost at least {lost:.0f} % of {echo.sent} echoes."
        leg: LegName = "inside" if key == "gateway" else "inside or line"
        cause: CauseKey = "line-loss"
        if key == "gateway":
            cause = "inside-radio" if case.result.stack.medium == "Wi-Fi" else "inside-cable"
        remedy = "Place calls from here: they tell whether it comes with load, and when."
        who = NETWORK if key == "gateway" else PROVIDER
        if not any(finding.key in ("inside-radio", "inside-cable") for finding in case.causes):
            case.cause(cause, leg, "Packets are lost on the way", words, remedy, who, key)
        return Rung(key, title, "failed", words, figures)
    wireless = case.result.stack.medium == "Wi-Fi"
    limit = case.limits.gateway_wireless_ms if wireless else case.limits.gateway_ms
    words = f"{echo.address} answers in {middle:.1f} ms"
    if key == "gateway" and middle > limit:
        words += f"; over {'Wi-Fi' if wireless else 'a cable'} {limit:.0f} ms are usual at most"
    if own >= case.limits.loss_pct:
        words += f"; it left {own:.0f} % of echoes unanswered that those beyond it answer"
    return Rung(key, title, "passed", f"{words}.", figures)


def _from(case: Case, echo: EchoFacts) -> Iterable[EchoFacts]:
    """It and everything farther away."""
    roles = ("gateway", "edge", "outside", "far-end")
    return [one for one in case.result.echoes if roles.index(one.role) >= roles.index(echo.role)]


def _loss_pct(echo: EchoFacts) -> float:
    return 100 * (echo.sent - echo.answered) / echo.sent if echo.sent else 0.0


def _figures(echo: EchoFacts) -> dict[str, Figure]:
    rtt = sorted(echo.rtt_ms)
    return {
        "sent": echo.sent,
        "answered": echo.answered,
        "min_ms": rtt[0] if rtt else None,
        "p50_ms": statistics.median(rtt) if rtt else None,
        "max_ms": rtt[-1] if rtt else None,
    }
