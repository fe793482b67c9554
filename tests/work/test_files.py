"""Imported files, read and placed in time: minutes of a log, cells of a day, the interval of a stream."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.imported import Choices, EchoMinute, FileContents
from tarnfell.core.quality import criterion_for
from tarnfell.exchange.echolog import parse_echo_log
from tarnfell.exchange.writing import write_capture
from tarnfell.work.ingest.files import cells_of, imported_echo, read_file, started_us, target_of
from tests.exchange.test_capture import packets

pytestmark = pytest.mark.usefixtures("told_as_before")

LONDON = ZoneInfo("Europe/London")
BEGAN = datetime(2026, 7, 1, 9, 0, 30)  # noqa: DTZ001 as a shell writes it


def log(count: int, lost: tuple[int, ...] = (), step_s: int = 1) -> str:
    return "\n".join(
        f"{BEGAN + timedelta(seconds=n * step_s)} 64 bytes from 192.0.2.1: icmp_seq={n + 1} ttl=64 time={n % 50} ms"
        for n in range(count)
        if n not in lost
    )


def test_minutes_are_those_of_the_clock() -> None:
    echo = imported_echo(parse_echo_log(log(95, lost=(3, 40, 41))))
    assert [m[:3] for m in echo.minutes] == [(0, 30, 1), (1, 60, 2), (2, 5, 0)]
    assert echo.minutes[0].p50_ms == pytest.approx(15, abs=1)
    began = started_us(echo, Choices(), LONDON)
    assert began is not None
    first = began // 60_000_000
    # In July the site is an hour ahead of UTC.
    assert datetime.fromtimestamp(first * 60, ZoneInfo("UTC")).hour == 8
    target = target_of(echo, "gateway", began)
    assert target.minutes is not None
    assert sorted(m - first for m in target.minutes) == [0, 1, 2]
    fewer = target_of(imported_echo(parse_echo_log(log(94))), "gateway", began)
    assert fewer.minutes is not None
    assert sorted(m - first for m in fewer.minutes) == [0, 1]  # four echoes are too few for a minute
    assert target_of(echo, "gateway", None).minutes is None


def test_a_long_log_is_thinned_to_its_least_and_most() -> None:
    echo = imported_echo(parse_echo_log(log(20_000, lost=(777,))))
    assert len(echo.points) <= 1500
    known = [rtt for _, rtt in echo.points if rtt is not None]
    assert (min(known), max(known)) == (0, 49)
    # Of every stretch of forty both ends of what was seen are kept.
    assert sum(rtt <= 11 for rtt in known) > 400
    assert sum(rtt >= 38 for rtt in known) > 400
    assert sum(rtt is None for _, rtt in echo.points) == 1


@pytest.mark.parametrize(("echoes", "points"), [(1400, 1400), (1500, 1500), (1501, 1000)])
def test_a_log_that_fits_is_drawn_as_it_is(echoes: int, points: int) -> None:
    """Of a longer one each of five hundred stretches has its least and its most."""
    assert len(imported_echo(parse_echo_log(log(echoes))).points) == points


def test_cells_are_of_the_local_day_with_the_worst_in_them() -> None:
    kind, result = read_file(
        write_capture(packets(count=1500, lost=tuple(range(500, 550)))), "x", Choices(), find_codec
    )
    assert kind == "capture"
    first = result.streams[0].first_us
    (cell,) = cells_of(result, Choices(), LONDON)
    local = datetime.fromtimestamp(first / 1e6, LONDON)
    assert (cell.day, cell.cell) == (local.date().isoformat(), (local.hour * 60 + local.minute) // 10)
    assert cell.mos == 1.0
    assert cell.loss_pct == pytest.approx(100 * 50 / 1500, abs=0.2)


def test_a_stream_is_judged_at_the_interval_it_was_sent_at() -> None:
    sent = [p for i, p in enumerate(packets(count=900)) if i % 3 == 0]
    renumbered = [
        type(p)(
            p.at_us, p.source, p.destination, p.dscp, p.ttl, type(p.packet)(8, 100 + i, 480 * i, 7, payload=bytes(480))
        )
        for i, p in enumerate(sent)
    ]
    _, result = read_file(write_capture(renumbered), "x", Choices(), find_codec)
    (stream,) = result.streams
    assert stream.ptime_ms == pytest.approx(60)
    assert stream.r_factor == pytest.approx(float(criterion_for(find_codec("g711a"), 60).rating(60 + 60, 0, 1)))


@pytest.mark.parametrize("body", [b"\x00\x01\x02\x03", b"GIF89a\x01\x00", b"text with a \x07 bell", b"\x00aaa" * 100])
def test_what_is_neither_capture_nor_text(body: bytes) -> None:
    with pytest.raises(ValueError, match="neither a capture"):
        read_file(body, "x", Choices(), find_codec)


def test_a_log_stands_in_the_ten_minutes_that_its_minutes_fall_in() -> None:
    """Across the site's midnight: 23:55 and the two quarters of an hour after it."""
    minutes = [(0, 60, 3), (4, 60, 3), (5, 60, 0), (24, 50, 25)]
    echo = replace(
        imported_echo(parse_echo_log(log(95))),
        started="2026-07-01T22:55:10+00:00",
        minutes=tuple(EchoMinute(*minute, 1.0, 2.0) for minute in minutes),
    )
    result = FileContents(echoes=(echo,))
    cells = cells_of(result, Choices(), LONDON)
    assert [(c.day, c.cell, c.loss_pct, c.mos) for c in cells] == [
        ("2026-07-01", 143, 5.0, None), ("2026-07-02", 0, 0.0, None), ("2026-07-02", 1, 50.0, None),
    ]  # fmt: skip
