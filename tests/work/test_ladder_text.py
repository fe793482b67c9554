"""Signalling as a file of text: what each end sent and, where that differs, what arrived."""

from __future__ import annotations

from tarnfell.wire.kinds.signalling import SipMessage
from tarnfell.work.judging.checks import ladder_text

INVITE = "INVITE sip:far@192.0.2.9 SIP/2.0\r\nVia: SIP/2.0/UDP 192.0.2.1\r\n\r\n"
RINGING = "SIP/2.0 180 Ringing\r\n\r\n"


def test_a_message_is_told_once_where_it_arrived_as_it_was_sent() -> None:
    told = ladder_text(
        [
            SipMessage("udp", "up", 0.0, INVITE, INVITE),
            SipMessage("udp", "down", 31.24, RINGING, RINGING.replace("Ringing", "Rung")),
            SipMessage("tcp", "up", 40.0, INVITE, ""),
            SipMessage("tls", "down", 45.0, "", RINGING),
        ],
        [SipMessage("udp", "up", 3.0, "REGISTER", ""), SipMessage("udp", "down", 9.0, "", "SIP/2.0 200 OK")],
    )
    # fmt: off
    assert told == "\n".join([
        "=== 3.0 ms, UDP, probe → registrar", "REGISTER", "",
        "=== 9.0 ms, UDP, registrar → probe", "SIP/2.0 200 OK", "",
        "=== 0.0 ms, UDP, probe → far end", "",
        "INVITE sip:far@192.0.2.9 SIP/2.0", "Via: SIP/2.0/UDP 192.0.2.1", "",
        "=== 31.2 ms, UDP, far end → probe", "", "--- sent", "", "SIP/2.0 180 Ringing", "",
        "--- arrived", "", "SIP/2.0 180 Rung", "",
        "=== 40.0 ms, TCP, probe → far end", "", "--- sent", "",
        "INVITE sip:far@192.0.2.9 SIP/2.0", "Via: SIP/2.0/UDP 192.0.2.1", "",
        "--- arrived", "", "(never)", "",
        "=== 45.0 ms, TLS, far end → probe", "", "--- sent", "", "(not told)", "",
        "--- arrived", "", "SIP/2.0 180 Ringing", "",
    ])
    # fmt: on
