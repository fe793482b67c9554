"""The customer's own registrar, judged: whether registering works, and a call to oneself through it.

Only the probe's end is known, so that a change is told as one that the server may have made as well.
"""

from __future__ import annotations

from tarnfell.core.causes import FIREWALL
from tarnfell.core.check.case import Case
from tarnfell.core.check.values import Figure, Rung, State
from tarnfell.wire import WireError
from tarnfell.wire.kinds.signalling import NO_CONNECTION, SIP_TRANSPORTS, RegistrarFacts, SipMessage
from tarnfell.wire.sip import Message

SERVER = "whoever runs the registrar"


def at_registrar(case: Case, told: RegistrarFacts) -> Rung:
    where = f"{told.host}, {SIP_TRANSPORTS[told.transport]} port {told.port}"
    answers = [one for one in told.messages if one.way == "down" and _status(one)]
    if told.failure and not told.failure.startswith(NO_CONNECTION):
        return Rung("signalling", "", "unproven", f"The registrar at {where} was not asked. {told.failure}")
    was_asked = any(_is_request(one, "REGISTER") for one in told.messages)
    if not told.failure and not was_asked:
        return Rung("signalling", "", "unproven", f"Registering at {where} was not tried: the check was stopped.")
    if told.failure or not answers:
        return _silent(case, told, where)
    figures: dict[str, Figure] = {}
    took_ms, status = _final(told, "REGISTER")
    if status == 200:
        figures["registrar_ms"] = took_ms
        words = f"Registering {told.user} at {where} goes through ({took_ms:.0f} ms)."
    elif status is None:
        words = f"{where} does not answer a registration, though it answers."
        remedy = "Ask whoever runs the registrar whether it serves registrations here."
        case.cause("service-silent", "beyond", "The registrar does not answer", words, remedy, SERVER, "signalling")
        return Rung("signalling", "", "failed", words)
    else:
        words = f"{where} answers, and does not register {told.user} ({_last_words(told, 'REGISTER')})."
        if status in (401, 403, 407):
            words += " Check user and password."
        return Rung("signalling", "", "unproven", words)
    call_ms, status = _final(told, "INVITE")
    state: State = "passed"
    if status == 200 and told.came_back:
        figures["registrar_call_ms"] = call_ms
        words += f" A call to itself through it is set up in {call_ms:.0f} ms."
        if _lines(told.offered) != _lines(told.came_back):
            words += (
                " Its session description came back changed: by the server, which may carry media itself, or by "
                "somebody on the way."
            )
    elif status == 200:
        words += " A call to itself through it was answered by something else, which took it before it came back."
    elif status is None:
        words += " A call to itself through it was not answered." if told.offered else " No call was tried."
        state = "failed" if told.offered else "passed"
        if told.offered:
            remedy = "See whether the firewall keeps what the registrar sends to a registered phone."
            case.cause("service-silent", "unknown", "A call is not answered", words, remedy, FIREWALL, "signalling")
    else:
        words += f" It does not put through a call to itself ({_last_words(told, 'INVITE')}), so none was tried."
    if told.trusted is False:
        words += " Its certificate is not one that this machine trusts for that name."
    return Rung("signalling", "", state, words, figures)


def _silent(case: Case, told: RegistrarFacts, where: str) -> Rung:
    words = f"The registrar at {where} does not answer ({(told.failure or 'silence').rstrip('.')})."
    if not any(cause.key in ("udp-blocked", "port-blocked", "line-down", "inside-down") for cause in case.causes):
        # Silence is what a firewall makes; a refusal, or TLS that fails, is somebody's answer.
        if told.failure and not any(word in told.failure.lower() for word in ("timed out", "route", "unreachable")):
            remedy = "Ask whoever runs the registrar whether it is up and speaks this transport."
            case.cause("service-silent", "beyond", "The registrar does not answer", words, remedy, SERVER, "signalling")
        else:
            remedy = f"Let SIP ({SIP_TRANSPORTS[told.transport]} port {told.port}) to {told.host} out."
            case.cause("port-blocked", "unknown", "A port is closed", words, remedy, FIREWALL, "signalling")
    return Rung("signalling", "", "failed", words)


def _final(told: RegistrarFacts, method: str) -> tuple[float, int | None]:
    """Milliseconds from the first such request to its last final answer, and that answer's status; None of none.

    Of registrations only the first counts: the last takes it back.
    """
    began = next((one.at_ms for one in told.messages if one.way == "up" and _is_request(one, method)), 0.0)
    last: tuple[float, int | None] = (0.0, None)
    for one in told.messages:
        status = _status(one)
        if one.way == "down" and status and status >= 200 and _method(one) == method:
            last = (one.at_ms - began, status)
            if status == 200:
                break
    return last


def _last_words(told: RegistrarFacts, method: str) -> str:
    """The last final answer's own, such as “404 Not Found”."""
    lines = [
        one.arrived.partition("\r\n")[0].removeprefix("SIP/2.0 ")
        for one in told.messages
        if one.way == "down" and _method(one) == method and (_status(one) or 0) >= 200
    ]
    return lines[-1] if lines else "no answer"


def _is_request(one: SipMessage, method: str) -> bool:
    return one.sent.startswith(f"{method} ")


def _status(one: SipMessage) -> int | None:
    parsed = _parsed(one)
    return parsed.status if parsed else None


def _method(one: SipMessage) -> str:
    parsed = _parsed(one)
    return parsed.method if parsed else ""


def _parsed(one: SipMessage) -> Message | None:
    try:
        return Message.parse((one.arrived or one.sent).encode())
    except WireError:
        return None


def _lines(description: str) -> list[str]:
    return description.split()
