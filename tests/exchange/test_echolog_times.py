"""Logs of ping with times before their lines, and logs that are none."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from tarnfell.exchange import echolog
from tarnfell.exchange.echolog import EchoLogError, parse_echo_log
from tarnfell.exchange.lines import decode, stamp_of
from tests.exchange.test_echolog_shapes import HEAD, replies

# Times that a shell put before the lines

NINE = datetime(2026, 11, 25, 9, 0, 0)  # noqa: DTZ001 local time, as in the logs
STAMPS = {
    "[1795683600.000000] ": datetime.fromtimestamp(1795683600, UTC),
    "1795683600.0 ": datetime.fromtimestamp(1795683600, UTC),
    "1795683600: ": datetime.fromtimestamp(1795683600, UTC),
    "2026-11-25 09:00:00 ": NINE,
    "[2026-11-25 09:00:00] ": NINE,
    "2026-11-25T09:00:00 - ": NINE,
    "2026-11-25T09:00:00Z ": NINE.replace(tzinfo=UTC),
    "2026-11-25T10:00:00.000+01:00: ": NINE.replace(tzinfo=UTC),
    "2026-11-25T04:00:00-0500 ": NINE.replace(tzinfo=UTC),
    "2026/11/25 09:00:00,000 | ": NINE,
    "25.11.2026 09:00:00 ": NINE,
    "25.11.2026  9:00:00,00 ": NINE,
    "25/11/2026 09:00:00 ": NINE,
    "11/25/2026 9:00:00 AM ": NINE,
    "11/12/2026 9:00:00 AM ": datetime(2026, 11, 12, 9),  # noqa: DTZ001
    "11/12/2026 09:00:00 ": datetime(2026, 12, 11, 9),  # noqa: DTZ001
    "12/11/2026 9:00:00 AM ": datetime(2026, 12, 11, 9),  # noqa: DTZ001
    "25/11/2026 9:00:00 AM ": NINE,
    "Wed Nov 25 09:00:00 UTC 2026: ": NINE.replace(tzinfo=UTC),
    "Wed Nov 25 09:00:00 CET 2026 ": NINE,
    "Wed 25 Nov 2026 09:00:00 AM CET ": NINE,
    "Mi 25. Nov 09:00:00 CET 2026 ": NINE,
    "mer. 25 nov. 2026 09:00:00 CET ": NINE,
    "Wed 11/25/2026  9:00:00.00 ": NINE,
    "Nov 25 09:00:00 ": None,
    "09:00:00 ": None,
    "[09:00:00] ": None,
    "09:00:00.000000 ": None,
}


@pytest.mark.parametrize("prefix", STAMPS)
@pytest.mark.parametrize(
    "line", ["64 bytes from 192.0.2.1: icmp_seq={n} ttl=64 time=7 ms", "Reply from 192.0.2.1: bytes=32 time=7ms TTL=64"]
)
def test_stamps_of_a_shell(prefix: str, line: str) -> None:
    expected = STAMPS[prefix]
    stamp = stamp_of(prefix)
    assert stamp is not None
    assert stamp.at == expected or (expected and stamp.at and stamp.at.timestamp() == expected.timestamp())
    later = prefix.replace(":00:00", ":00:30").replace("1795683600", "1795683630")
    log = parse_echo_log(f"{prefix}{line.format(n=1)}\n{later}{line.format(n=2)}\n")
    assert log.stamped
    assert [(e.at_s, e.rtt_ms) for e in log.samples] == [(0, 7), (30, 7)]
    assert log.strange_count == 0
    assert (log.started is None) == (expected is None)


@pytest.mark.parametrize("text", ["24:00:00", "10:60:00", "10:00:61", "", "   ", "host", "123:00:00"])
def test_what_is_no_time_is_none(text: str) -> None:
    assert stamp_of(text) is None


@pytest.mark.parametrize(
    ("text", "hour"), [("12:00:00 AM", 0), ("12:00:00 PM", 12), ("1:00:00 PM", 13), ("11:00:00 pm", 23)]
)
def test_clocks_of_twelve_hours(text: str, hour: int) -> None:
    stamp = stamp_of(text)
    assert stamp is not None
    assert stamp.clock_s == hour * 3600


def test_a_date_that_cannot_be_is_none() -> None:
    stamp = stamp_of("31.02.2026 10:00:00")
    assert stamp is not None
    assert stamp.day is None


def test_logs_longer_than_can_be_kept_ask_to_be_split(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(echolog, "MAX_SAMPLES", 10)
    assert len(parse_echo_log(replies(*range(1, 11))).samples) == 10
    for text in (replies(*range(1, 12)), replies(1, 2, 12), replies(*range(1, 7)) + HEAD + replies(*range(1, 6))):
        with pytest.raises(EchoLogError, match="more than 10 samples"):
            parse_echo_log(text)


def test_an_outage_in_a_stamped_log_lasts_as_long_as_it_did() -> None:
    text = (
        "10:00:00 64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=1 ms\n"
        "10:01:10 64 bytes from 192.0.2.1: icmp_seq=8 ttl=64 time=1 ms\n"
    )
    assert [e.at_s for e in parse_echo_log(text).samples] == [0, 10, 20, 30, 40, 50, 60, 70]


def test_the_hour_that_autumn_repeats_goes_on() -> None:
    lines = [
        f"2026-10-25 {at} 64 bytes from 192.0.2.1: icmp_seq={n} ttl=64 time=1 ms"
        for n, at in enumerate(("02:59:58", "02:59:59", "02:00:00", "02:00:01"))
    ]
    assert [e.at_s for e in parse_echo_log("\n".join(lines)).samples] == [0, 1, 2, 3]


def test_stamped_runs_keep_their_distance() -> None:
    one = "2026-11-25 09:00:00 64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=1 ms\n"
    log = parse_echo_log(HEAD + one + HEAD + one.replace("09:00", "11:30"))
    assert [e.at_s for e in log.samples] == [0, 9000]
    assert log.notes == ()


@pytest.mark.parametrize(
    "text",
    [
        "",
        "name,people\nPier,3\n",
        "seq,sent_us,recv_us\n1,2,3\n",
        "10:00:00 hello\n",
        "5 packets transmitted, 5 received, 0% loss",
    ],
)
def test_what_is_no_log(text: str) -> None:
    with pytest.raises(EchoLogError, match="no log of ping"):
        parse_echo_log(text)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "cp1252", "cp850"])
def test_encodings(encoding: str) -> None:
    text = "Zeitüberschreitung der Anforderung. Réponse: octets, façade, ñ\n" * 3
    assert decode(text.encode(encoding)) == text
