"""Descriptions of sessions (RFC 8866) as browsers and the far end write them, made to fit a measuring far end."""

from __future__ import annotations

import ipaddress

_NOBODY = "a=candidate:1 1 udp 1 192.0.2.1 9 typ host"
"""A documentation address (RFC 5737): as long as its checks go on, ICE waits for the browser's own to arrive."""


def without_names(offer: str) -> str:
    """The offer with no candidates but one that nobody answers.

    The browser reaches out to the far end, whose checks find where from (RFC 8445 §7.3.1.3). What a browser tells of
    itself are names that only its own network can look up, or private addresses, which say nothing here: a far end
    sends to nobody that has not sent first.
    """
    lines = [line for line in offer.splitlines() if not line.startswith(("a=candidate:", "a=end-of-candidates"))]
    return "\r\n".join([*lines, _NOBODY, "a=end-of-candidates", ""])


def reached_at(answer: str, address: str) -> str:
    """The answer with each of its candidates at ``address`` as well, where that is not among them.

    A far end behind translation knows its own address and not the one it is reached by; the ports are the same there.
    """
    try:
        wanted = str(ipaddress.ip_address(address))
    except ValueError:
        return answer
    lines = answer.splitlines()
    own = [line for line in lines if line.startswith("a=candidate:")]
    if any(line.split()[4] == wanted for line in own):
        return answer
    more: list[str] = []
    for line in lines:
        more.append(line)
        parts = line.split()
        if line.startswith("a=candidate:") and _family(parts[4]) == _family(wanted):
            more.append(" ".join([f"{parts[0]}9", *parts[1:4], wanted, *parts[5:]]))
    return "\r\n".join([*more, ""])


def _family(address: str) -> int:
    return ipaddress.ip_address(address).version
