"""Logs of ping as three systems print them, with their silences."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.exchange import echolog
from tarnfell.exchange.echolog import EchoLogError, parse_echo_log, parse_echo_logs

LINUX = """PING gate.example (192.0.2.1) 56(84) bytes of data.
[1795000000.250000] 64 bytes from gate.example (192.0.2.1): icmp_seq=1 ttl=64 time=0.45 ms
[1795000001.251000] 64 bytes from gate.example (192.0.2.1): icmp_seq=2 ttl=64 time=12.5 ms
[1795000003.300000] no answer yet for icmp_seq=3
[1795000004.253000] 64 bytes from gate.example (192.0.2.1): icmp_seq=4 ttl=64 time=1.10 ms
[1795000004.254000] 64 bytes from gate.example (192.0.2.1): icmp_seq=4 ttl=64 time=1.90 ms (DUP!)
[1795000007.256000] 64 bytes from gate.example (192.0.2.1): icmp_seq=7 ttl=64 time=0.50 ms

--- gate.example ping statistics ---
7 packets transmitted, 4 received, +1 duplicates, 42.8571% packet loss, time 6011ms
"""
MACOS = """PING 198.51.100.7 (198.51.100.7): 56 data bytes
64 bytes from 198.51.100.7: icmp_seq=0 ttl=57 time=14.301 ms
Request timeout for icmp_seq 1
Request timeout for icmp_seq 2
64 bytes from 198.51.100.7: icmp_seq=3 ttl=57 time=310.002 ms
"""
WINDOWS = """\r
Pinging service.example [198.51.100.20] with 32 bytes of data:\r
Reply from 198.51.100.20: bytes=32 time=18ms TTL=57\r
Request timed out.\r
Reply from 192.0.2.1: Destination host unreachable.\r
Reply from 198.51.100.20: bytes=32 time<1ms TTL=57\r
\r
Ping statistics for 198.51.100.20:\r
    Packets: Sent = 4, Received = 3, Lost = 1 (25% loss),\r
Approximate round trip times in milli-seconds:\r
    Minimum = 0ms, Maximum = 18ms, Average = 9ms\r
"""
GERMAN = """Ping wird ausgeführt für 192.0.2.1 mit 32 Bytes Daten:
Antwort von 192.0.2.1: Bytes=32 Zeit=7ms TTL=64
Zeitüberschreitung der Anforderung.
Antwort von 192.0.2.1: Bytes=32 Zeit=9ms TTL=64
"""


def rtts(text: str) -> list[float | None]:
    return [e.rtt_ms for e in parse_echo_log(text).samples]


def test_linux_with_stamps_silences_and_a_gap() -> None:
    log = parse_echo_log(LINUX)
    assert (log.system, log.host, log.stamped) == ("Linux", "gate.example", True)
    assert [e.rtt_ms for e in log.samples] == [0.45, 12.5, None, 1.1, None, None, 0.5]
    assert log.samples[3].at_s == pytest.approx(4.003)
    figures = log.figures()
    assert (figures.sent, figures.lost, figures.longest_loss_run) == (7, 3, 2)
    assert figures.rtt_max_ms == 12.5


def test_macos() -> None:
    log = parse_echo_log(MACOS)
    assert (log.system, log.host) == ("macOS", "198.51.100.7")
    assert [e.rtt_ms for e in log.samples] == [14.301, None, None, 310.002]


@pytest.mark.parametrize(("text", "expected"), [(WINDOWS, [18, None, None, 1]), (GERMAN, [7, None, 9])])
def test_windows(text: str, expected: list[float | None]) -> None:
    log = parse_echo_log(text)
    assert (log.system, rtts(text)) == ("Windows", expected)
    assert log.host in ("service.example", "192.0.2.1")


def test_numbers_that_wrap_go_on() -> None:
    lines = [f"64 bytes from 192.0.2.1: icmp_seq={n % 65536} ttl=64 time=1 ms" for n in (65534, 65535, 65536, 65538)]
    assert rtts("\n".join(lines)) == [1, 1, 1, None, 1]


def test_clock_times_pass_midnight() -> None:
    text = (
        "23:59:59.500000 64 bytes from 192.0.2.1: icmp_seq=0 ttl=64 time=1 ms\n"
        "00:00:00.500000 64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=1 ms\n"
    )
    assert [e.at_s for e in parse_echo_log(text).samples] == [0, 1]


@pytest.mark.parametrize("text", ["", "hello\n", "name,people\nPier,3\n", "\x00" * 100])
def test_what_is_no_log(text: str) -> None:
    with pytest.raises(EchoLogError, match="no log of ping"):
        parse_echo_log(text)


@given(st.text(max_size=300))
def test_any_text_is_read_or_turned_away(text: str) -> None:
    try:
        assert parse_echo_log(text).samples
    except EchoLogError:
        pass


@given(st.lists(st.one_of(st.none(), st.floats(0.1, 5000)), min_size=2, max_size=60))
def test_a_linux_log_of_any_outcome_reads_back(outcomes: list[float | None]) -> None:
    """Silences at the very end leave no trace in the log and cannot be known."""
    while outcomes and outcomes[-1] is None:
        outcomes.pop()
    known = [i for i, rtt in enumerate(outcomes) if rtt is not None]
    if not known:
        return
    lines = [
        f"64 bytes from 192.0.2.1: icmp_seq={i + 1} ttl=64 time={rtt:.3f} ms"
        for i, rtt in enumerate(outcomes)
        if rtt is not None
    ]
    expected = outcomes[known[0] :]
    got = rtts("\n".join(lines))
    assert [r is None for r in got] == [r is None for r in expected]
    assert [r for r in got if r is not None] == pytest.approx([r for r in expected if r is not None], abs=0.001)


@pytest.mark.parametrize(
    ("words", "language"),
    [
        ("Délai d'attente de la demande dépassé.", "French"),
        ("Tiempo de espera agotado para esta solicitud.", "Spanish"),
        ("Richiesta scaduta.", "Italian"),
        ("Antwort von 192.0.2.1: Zielhost nicht erreichbar.", "German"),
        ("PING: transmit failed. General failure.", "English"),
    ],
)
def test_silences_in_other_languages(words: str, language: str) -> None:
    text = f"Pinging 192.0.2.1 with 32 bytes of data:\nReply from 192.0.2.1: bytes=32 time=5ms TTL=64\n{words}\n"
    assert rtts(text) == [5, None], language


def test_figures_of_a_log_nobody_answered() -> None:
    log = parse_echo_log("PING 192.0.2.9 (192.0.2.9): 56 data bytes\n" + "Request timeout for icmp_seq 0\n")
    assert log.figures().rtt_p50_ms is None
    assert log.figures().loss_pct == 100


def test_a_line_longer_than_any_system_prints_is_strange_and_never_a_number() -> None:
    long = "64 bytes from 192.0.2.1: icmp_seq=2 ttl=64 time=" + "1" * 1000
    text = "PING 192.0.2.1 (192.0.2.1) 56(84) bytes of data.\n64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=5 ms\n"
    (log,) = parse_echo_logs(text + long + "\n")
    assert [e.rtt_ms for e in log.samples] == [5.0]
    assert [number for number, _ in log.strange] == [3]
    with pytest.raises(EchoLogError, match="no log of ping"):
        parse_echo_logs(long)


def test_more_lines_than_are_read_are_not_even_split(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(echolog, "MAX_LINES", 3)
    text = "PING 192.0.2.1 (192.0.2.1) 56(84) bytes of data.\n64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=5 ms\n"
    assert len(parse_echo_logs(text + "\n")) == 1
    with pytest.raises(EchoLogError, match="more than 3 lines"):
        parse_echo_logs(text + "\n\n")
