"""Samples packed by ten minutes: nothing lost or doubled whatever the order, small, and read as what they were."""

from __future__ import annotations

import random
import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tarnfell.core.days.rounds import Rounds
from tarnfell.store import cells as cell_store
from tarnfell.store import watches as watch_store
from tarnfell.store.cells import CELL_US, WatchPlace
from tarnfell.store.db import now_us, open_database
from tarnfell.store.watches import Batch
from tarnfell.wire.record import Record
from tarnfell.work.watch import cells, packing
from tarnfell.work.watch import reading as readings
from tarnfell.work.watch.bench import bench_of
from tarnfell.work.watch.cells import packed, rtt_ms, unpacked
from tarnfell.work.watch.packing import pack_next
from tarnfell.work.watch.reading import kept_reading, named, read_next, rounds_of_cells, sizes_of_cells
from tarnfell.work.watch.retention import let_go_of_old
from tarnfell.work.watch.sample_file import _quoted, lines_of
from tests.core.days.weeks import PLACES, Week, hours
from tests.server.conftest import set_up
from tests.work.watched import batches_of

pytestmark = pytest.mark.usefixtures("told_as_before")

LATER = 4_000_000_000_000_000
MINUTE_US = 60_000_000


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    """A site in London with one probe, which watches the way to far end 1."""
    found = open_database(tmp_path)
    set_up(found, "192.0.2.10", 4870, "key")
    watch_store.want(found, 1, 1, 1000, 46, None)
    return found


def take(db: sqlite3.Connection, batches: list[Batch], pack: bool = True) -> None:
    watch_store.keep(db, batches)
    while pack and pack_next(db, LATER):
        pass


def kept(db: sqlite3.Connection) -> Rounds:
    found = cell_store.cells_between(db, 1, 0, LATER)
    places = cell_store.places_of(db, 1)
    return rounds_of_cells([unpacked(cell) for cell in found], named(db, places), places, 1000)


def part(week: Week, from_s: float, seconds: float) -> Rounds:
    rounds = week.rounds()
    own = week.among(from_s, from_s + seconds)
    return Rounds(
        rounds.places, rounds.at_us[own], rounds.sent[:, own].copy(), rounds.rtt_ms[:, own].copy(), rounds.interval_us
    )


def as_kept(rounds: Rounds) -> np.ndarray:
    """The far end is numbered first."""
    return rounds.rtt_ms[[4, 0, 1, 2, 3]]


def test_what_is_kept_is_what_was_sampled_to_half_a_percent(db: sqlite3.Connection) -> None:
    rounds = part(Week(2, days=1), 500, 1500)
    rounds.rtt_ms[1, 100:130] = np.nan
    rounds.rtt_ms[3, 7] = 59_000.0
    rounds.sent[2, 40:50] = False
    rounds.rtt_ms[2, 40:50] = np.nan
    take(db, batches_of(rounds))
    found = kept(db)
    assert [(place.role, place.name) for place in found.places] == [
        ("far-end", "far"), ("gateway", "192.0.2.1"), ("edge", "198.51.100.1"), ("outside", "203.0.113.53"),
        ("outside", "203.0.113.99"),
    ]  # fmt: skip
    assert found.at_us.tolist() == rounds.at_us.tolist()
    assert np.array_equal(found.sent, rounds.sent[[4, 0, 1, 2, 3]])
    assert np.allclose(found.rtt_ms, as_kept(rounds), rtol=0.0026, equal_nan=True)
    assert [cell.start_us % CELL_US for cell in cell_store.cells_between(db, 1, 0, LATER)] == [0, 0, 0, 0]
    counts = watch_store.counts(db, 1)
    assert (counts.answered, counts.lost, counts.not_sent) == (
        int((~np.isnan(rounds.rtt_ms)).sum()), int(rounds.lost.sum()), 10,
    )  # fmt: skip
    assert (counts.first_us, counts.last_us) == (rounds.at_us[0], rounds.at_us[-1])


@pytest.mark.parametrize("seed", range(4))
def test_batches_in_any_order_and_twice_come_to_the_same(tmp_path: Path, seed: int) -> None:
    rounds = part(Week(2, days=1), 0, 1800)
    whole = batches_of(rounds)
    chance = random.Random(seed)
    mixed = [*whole, *chance.sample(whole, 40)]
    chance.shuffle(mixed)
    db = open_database(tmp_path)
    set_up(db, "192.0.2.10", 4870, "key")
    watch_store.want(db, 1, 1, 1000, 46, None)
    while mixed:
        take(db, [mixed.pop() for _ in range(min(len(mixed), chance.randrange(1, 30)))])
    assert np.allclose(kept(db).rtt_ms, as_kept(rounds), rtol=0.0026, equal_nan=True)
    assert watch_store.counts(db, 1).answered == int((~np.isnan(rounds.rtt_ms)).sum())
    assert db.execute("SELECT count(*) FROM sample_batch").fetchone()[0] == 0


@pytest.mark.parametrize("longer_first", [True, False])
def test_of_a_sample_in_two_batches_of_one_turn_the_later_counts(db: sqlite3.Connection, longer_first: bool) -> None:
    """Their lengths differ, and so do the places that they asked: batches of one length are unpacked together."""
    lengths = (10, 4) if longer_first else (4, 10)
    first = part(Week(2, days=1), 500, 11)
    second = replace(first, rtt_ms=first.rtt_ms + 100)
    batches = [
        batches_of(replace(one, at_us=one.at_us[begin:], sent=one.sent[:, begin:], rtt_ms=one.rtt_ms[:, begin:]),
                   each=length)[0]
        for one, begin, length in zip((first, second), (0, 1), lengths, strict=True)
    ]  # fmt: skip
    take(db, batches)
    found = kept(db)
    overwritten = range(1, 1 + lengths[1])
    expected = as_kept(first)[:, : max(lengths[0], 1 + lengths[1])].copy()
    for at in overwritten:
        expected[:, at] += 100
    np.testing.assert_allclose(found.rtt_ms, expected, rtol=0.003)


def test_places_of_batches_of_one_turn_are_each_batchs_own(db: sqlite3.Connection) -> None:
    """The second of two batches asks the same places in another order."""
    rounds = part(Week(2, days=1), 500, 20)
    turned = [3, 2, 1, 0, 4]
    other = replace(
        rounds, places=tuple(rounds.places[i] for i in turned), sent=rounds.sent[turned], rtt_ms=rounds.rtt_ms[turned]
    )
    take(db, [batches_of(rounds)[0], batches_of(other)[1]])
    np.testing.assert_allclose(kept(db).rtt_ms, as_kept(rounds), rtol=0.003)


def test_a_sample_takes_less_than_two_bytes(db: sqlite3.Connection) -> None:
    week = Week(2, days=1)
    week.rhythm()
    rounds = part(week, 0, 7200)
    take(db, batches_of(rounds))
    size = db.execute("SELECT sum(length(tens) + length(minutes) + length(rounds)) FROM sample_cell").fetchone()[0]
    assert size / rounds.rtt_ms.size < 2


def test_figures_of_ten_minutes_and_of_each(db: sqlite3.Connection) -> None:
    rounds = part(Week(2, days=1), 1200, 600)
    rounds.rtt_ms[0, 60:90] = np.nan
    take(db, batches_of(rounds))
    (cell,) = cell_store.cells_between(db, 1, 0, LATER)
    table = cells.tens_table([cell.tens], 5)
    sent, lost, *delays = table[0, 1].tolist()
    known = rounds.rtt_ms[0][~np.isnan(rounds.rtt_ms[0])]
    assert (sent, lost) == (600, 30 + int(np.isnan(rounds.rtt_ms[0]).sum()) - 30)
    assert [float(rtt_ms(np.array([code]))[0]) for code in delays] == pytest.approx(
        [float(np.percentile(known, share)) for share in (0, 50, 95, 100)], rel=0.03
    )
    minutes = cells.minutes_table([cell], 5)
    assert minutes.shape == (1, 5, 10, 6)
    assert minutes[0, 1, 1, :2].tolist() == [60, 30 + int(np.isnan(rounds.rtt_ms[0, 90:120]).sum())]
    assert minutes[0, 1, :, 0].tolist() == [60] * 10
    assert cells.tens_table([cell.tens], 7)[0, 6].tolist() == [0] * 6  # one that it did not know


def test_an_hour_is_told_by_its_ten_minutes() -> None:
    """Of two places: one that was asked all the time, and one that did not answer before the second hour."""
    start_us = cells.HOUR_US * 400_000 + 2 * CELL_US
    tens = np.zeros((6, 2, 6), np.int64)
    tens[:, 0] = [
        [600, 0, 90, 101, 120, 150], [600, 6, 80, 103, 110, 140], [600, 600, 0, 0, 0, 0], [300, 1, 95, 99, 130, 133],
        [600, 2, 70, 104, 105, 106], [600, 0, 85, 100, 107, 160],
    ]  # fmt: skip
    tens[:4, 1, 0] = tens[:4, 1, 1] = 5
    tens[4, 1] = [600, 0, 50, 60, 70, 80]
    at_us, hours = cells.by_hour(start_us + CELL_US * np.arange(6), tens)
    assert at_us.tolist() == [cells.HOUR_US * 400_000, cells.HOUR_US * 400_001]
    assert hours[:, 0].tolist() == [[2100, 607, 80, 101, 130, 150], [1200, 2, 70, 100, 107, 160]]
    assert hours[:, 1].tolist() == [[20, 20, 0, 0, 0, 0], [600, 0, 50, 60, 70, 80]]


def test_places_that_came_later_are_told_beside_those_of_before() -> None:
    one, two = (np.arange(6 * count, dtype="<u2") + 1 for count in (1, 2))
    table = cells.tens_table([one.tobytes(), two.tobytes(), one.tobytes()], 2)
    assert table.reshape(3, 12).tolist() == [[*range(1, 7), *[0] * 6], [*range(1, 13)], [*range(1, 7), *[0] * 6]]
    assert cells.tens_table([], 2).shape == (0, 2, 6)


def test_a_cell_still_growing_waits_and_one_of_a_clock_ahead_does_not(
    db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    batches = batches_of(part(Week(2, days=1), 0, 60))
    take(db, batches, pack=False)
    last = batches[0].last_us
    assert not pack_next(db, last + packing.SOONEST_US - 1)
    assert not pack_next(db, last - packing.SOONEST_US + 1)
    assert pack_next(db, last - packing.SOONEST_US)
    assert not pack_next(db, LATER)
    monkeypatch.setattr(packing, "AT_ONCE", 6)
    take(db, batches, pack=False)
    assert pack_next(db, last)  # as many as one turn takes


def test_thinned_samples_count_for_those_that_had_to_go(db: sqlite3.Connection) -> None:
    rounds = part(Week(2, days=1), 0, 20)
    rounds.rtt_ms[:] = 5.0
    rounds.rtt_ms[0, 3] = np.nan
    take(db, batches_of(rounds, one_in=4))
    counts = watch_store.counts(db, 1)
    assert (counts.answered, counts.lost) == (4 * 99, 4)


def test_time_without_samples_counts_within_a_cell_and_between(db: sqlite3.Connection) -> None:
    week = Week(2, days=1)
    for from_s, seconds in ((0, 10), (100, 10), (4000, 10)):
        take(db, batches_of(part(week, from_s, seconds)))
    assert watch_store.counts(db, 1).without_us == (91 + 3891) * 1_000_000


def test_large_packets_and_what_was_taken_beside_calls_are_kept_and_not_judged(db: sqlite3.Connection) -> None:
    rounds = part(Week(2, days=1), 0, 100)
    rounds.rtt_ms[:4, 4::5] += 15
    take(db, batches_of(rounds, large_every=5))
    (cell,) = [unpacked(one) for one in cell_store.cells_between(db, 1, 0, LATER)]
    assert cell.large.tolist() == [0, 0, 0, 0, 1] * 20
    found = kept(db)
    assert found.sent[0].sum() == 100  # time stamps are never large
    assert found.sent[1].sum() == 80
    assert float(np.nanmax(found.rtt_ms[1])) < 12
    loaded = replace(cell, beside=np.arange(100) % 2 * 7)
    places = cell_store.places_of(db, 1)
    counted = [
        packed(
            1,
            int(cell.at_ms[0]) * 1000 // CELL_US * CELL_US,
            replace(loaded, codes=np.vstack([codes, cell.codes[1:]]), one_in=one_in),
        ).beside
        for codes, one_in in (
            (cell.codes[:1], cell.one_in),
            (np.where(np.arange(100) < 50, cells.NOT_SENT, cell.codes[:1]), cell.one_in),
            (np.where(np.arange(100) < 50, cells.LOST, cell.codes[:1]), np.where(np.arange(100) < 60, 1, 3)),
        )
    ]
    each = len(cell.codes)
    assert counted == [50 * each, 50 * each - 25, 30 * each + 20 * 3 * each]
    assert len(rounds_of_cells([loaded], named(db, places), places, 1000).at_us) == 50


def test_one_way_delays_are_kept_whatever_the_clocks_say(db: sqlite3.Connection) -> None:
    rounds = part(Week(2, days=1), 0, 60)
    rounds.rtt_ms[4, 10] = np.nan
    take(db, batches_of(rounds))
    (cell,) = [unpacked(one) for one in cell_store.cells_between(db, 1, 0, LATER)]
    up_ms = cell.up[0] * cells.UP_UNIT_US / 1000
    expected = np.where(np.isnan(rounds.rtt_ms[4]), 0, 5000 + rounds.rtt_ms[4] / 3)
    assert np.allclose(up_ms, expected, atol=0.03)
    assert not cell.up[1:].any()


def test_places_are_added_as_they_are_asked_and_bounded(
    db: sqlite3.Connection, caplog: pytest.LogCaptureFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    rounds = part(Week(2, days=1), 0, 20)
    take(db, batches_of(rounds)[:1])
    assert cell_store.places_of(db, 1)[1] == WatchPlace(1, "gateway", "192.0.2.1", None)
    moved = Rounds(
        (*PLACES[:1], PLACES[2].__class__("edge", "198.51.100.9"), *PLACES[2:]), rounds.at_us, rounds.sent,
        rounds.rtt_ms, rounds.interval_us,
    )  # fmt: skip
    take(db, batches_of(moved)[1:])
    assert [one.address for one in cell_store.places_of(db, 1)][-1] == "198.51.100.9"
    found = kept(db)
    assert found.sent[2].tolist() == [True] * 10 + [False] * 10
    assert found.sent[5].tolist() == [False] * 10 + [True] * 10
    monkeypatch.setattr(packing, "MOST_PLACES", 6)
    other = Rounds(
        (PLACES[0].__class__("gateway", "192.0.2.77"), *PLACES[1:]), rounds.at_us + 60_000_000, rounds.sent,
        rounds.rtt_ms, rounds.interval_us,
    )  # fmt: skip
    take(db, batches_of(other))
    assert len(cell_store.places_of(db, 1)) == 6
    assert "more than 6 places" in caplog.text
    assert db.execute("SELECT count(*) FROM sample_batch").fetchone()[0] == 0


def test_what_the_disk_has_damaged_does_not_stop_what_comes_after(
    db: sqlite3.Connection, caplog: pytest.LogCaptureFixture
) -> None:
    first, second = batches_of(part(Week(2, days=1), 0, 20))
    far = Record.parse(second.record)
    strange = replace(
        second, first_us=second.first_us + 1, record=Record({**far.meta, "targets": [99]}, far.columns).serialize()
    )
    take(db, [replace(first, record=b"TFR1 nothing"), second, strange])
    assert len(kept(db).at_us) == 10
    assert "There is no far end 99." in caplog.text
    assert caplog.text.count("are dropped") == 2


# Read


def test_what_samples_say_is_read_and_read_again_when_more_comes(db: sqlite3.Connection) -> None:
    week = Week(2, days=1)
    week.outage("line", hours(0, 1), 120)
    week.outage("far", hours(0, 1.25), 60)
    batches = batches_of(part(week, hours(0, 0.5), 3600), each=60)
    take(db, batches[:40])
    at = now_us()
    assert kept_reading(db, 1) is None
    assert read_next(db, at)
    assert not read_next(db, at + 10**9)  # nothing has come since
    reading = kept_reading(db, 1)
    assert reading is not None
    assert [(one.leg, one.kind, one.seen_at) for one in reading.episodes] == [("line", "outage", "far")]
    assert [one.key for one in reading.findings] == ["line-down"]
    gateway = next(place for place in reading.places if place.role == "gateway")
    assert (gateway.sent, gateway.forming, gateway.baseline_by) == (2400, True, "all hours")
    assert gateway.levels[0][0] == batches[0].first_us
    assert gateway.levels[0][1] == pytest.approx(1.2, abs=0.2)
    assert gateway.normal_ms[0] == pytest.approx(1.2, abs=0.2)
    take(db, batches[40:])
    made = cell_store.reading_of(db, 1).made_us  # type: ignore[union-attr]
    assert not read_next(db, made + 71_000_000)  # a fiftieth of an hour has not passed
    assert read_next(db, made + 73_000_000)
    again = kept_reading(db, 1)
    assert again is not None
    assert [one.leg for one in again.episodes] == ["line", "beyond"]


def test_late_samples_open_what_was_read_at_once(db: sqlite3.Connection) -> None:
    """A probe that was offline brings the outage after what came later was read."""
    week = Week(2, days=1)
    week.outage("inside", hours(0, 1), 120)
    batches = batches_of(part(week, hours(0, 0.5), 3600), each=60)
    take(db, [*batches[:25], *batches[40:]])
    read_next(db, now_us())
    reading = kept_reading(db, 1)
    assert reading is not None
    assert (reading.episodes, len(reading.gaps)) == ((), 1)
    take(db, batches[25:40])
    assert read_next(db, now_us())
    again = kept_reading(db, 1)
    assert again is not None
    assert ([one.leg for one in again.episodes], again.gaps) == (["inside"], ())


def test_what_lies_too_far_back_to_be_read_again_keeps_its_episodes(
    db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    week = Week(2, days=1)
    week.outage("line", hours(0, 0.2), 60)
    week.outage("far", hours(0, 1.5), 60)
    batches = batches_of(part(week, 0, 7200), each=60)
    take(db, batches[:40])
    read_next(db, now_us())
    monkeypatch.setattr(readings, "LONGEST_US", 3600 * 1_000_000)
    take(db, batches[40:])
    read_next(db, now_us() + 10**12)
    reading = kept_reading(db, 1)
    assert reading is not None
    assert reading.rounds < 4300
    assert [one.leg for one in reading.episodes] == ["line", "beyond"]
    assert [(one.key, one.episodes) for one in reading.findings] == [("beyond-down", (1,))]


def test_of_what_lies_too_far_back_the_newest_episodes_stay(
    db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    week = Week(2, days=1)
    week.outage("line", hours(0, 0.2), 60)
    take(db, batches_of(part(week, 0, 3600), each=60))
    read_next(db, now_us())
    reading = kept_reading(db, 1)
    assert reading is not None
    (one,) = reading.episodes
    before = tuple(replace(one, from_us=n, until_us=n + 1) for n in (1, 2, 3, 4))
    monkeypatch.setattr(readings, "MOST_OLDER", 2)
    found = readings._with_older(reading, replace(reading, episodes=before), 4)
    assert found.episodes == (*before[1:3], one)
    assert [finding.episodes for finding in found.findings] == [(2,)]


def test_legs_are_told_of_the_newest_days(db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of two hours the newest: an outage lies before them, one reaches into them, and one lies in them."""
    monkeypatch.setattr(readings, "WEEK_US", 3600 * 1_000_000)
    week = Week(2, days=1)
    week.outage("inside", hours(0, 0.2), 60)
    week.outage("line", hours(0, 1) - 60, 120)
    week.outage("far", hours(0, 1.5), 90)
    take(db, batches_of(part(week, 0, 7200), each=60))
    read_next(db, now_us())
    told = readings.kept_legs(db, 1)
    assert told is not None
    assert {leg.leg: leg.spoiled_s for leg in told.legs} == {
        "inside": 0, "line": pytest.approx(60, abs=2), "beyond": pytest.approx(90, abs=2),
    }  # fmt: skip
    assert told.moments == 6


def test_a_reading_of_another_form_is_none(db: sqlite3.Connection) -> None:
    take(db, batches_of(part(Week(2, days=1), 0, 60)))
    read_next(db, now_us())
    db.execute("UPDATE watch_reading SET reading = '{}'")
    assert kept_reading(db, 1) is None


def test_samples_let_go_of_leave_their_minutes_and_figures(db: sqlite3.Connection) -> None:
    rounds = part(Week(2, days=1), 0, 3 * 3600)
    batches = batches_of(rounds)
    take(db, batches)
    before = cell_store.cells_between(db, 1, 0, LATER)
    counts, edge_us = watch_store.counts(db, 1), before[6].start_us
    at_us = edge_us + 15 * 86_400_000_000
    with pytest.raises(ValueError, match="15 days at least"):
        let_go_of_old(db, 14, at_us)
    assert let_go_of_old(db, 15, at_us - 1) == 5
    assert let_go_of_old(db, 15, at_us) == 1
    assert let_go_of_old(db, 15, at_us) == 0
    after = cell_store.cells_between(db, 1, 0, LATER)
    assert [bool(cell.rounds) for cell in after] == [False] * 6 + [True] * (len(before) - 6)
    assert [replace(cell, rounds=b"") for cell in after] == [replace(cell, rounds=b"") for cell in before]
    assert watch_store.counts(db, 1) == counts
    first_us = before[0].start_us
    old, new = (bench_of(db, 1, 1, from_us, from_us + CELL_US) for from_us in (first_us, edge_us))
    assert (old.step, len(old.at_us), new.step) == ("minute", 10, "round")
    assert sum(old.lanes[0].sent) == 600
    with pytest.raises(ValueError, match="were let go of"):
        lines_of(db, 1, edge_us - 1, edge_us + CELL_US)
    assert len("".join(lines_of(db, 1, edge_us, edge_us + CELL_US)).splitlines()) == 1 + 600 * 5
    # What comes later than that changes nothing of what is known.
    take(db, batches[:1])
    assert cell_store.cells_between(db, 1, 0, LATER) == after
    assert cell_store.waiting_batches(db, 10) == []


def test_large_packets_to_far_ends_are_told_apart_from_those_of_older_probes(db: sqlite3.Connection) -> None:
    """Those asked far ends by small ones in every round."""
    week = Week(2, days=1)
    for from_s, far_too in ((0, False), (1200, True)):
        watch_store.keep(db, batches_of(part(week, from_s, 1200), large_every=5, large_far=far_too))
    while pack_next(db, LATER):
        pass
    parts = [unpacked(cell) for cell in cell_store.cells_between(db, 1, 0, LATER)]
    sizes = sizes_of_cells(parts, cell_store.places_of(db, 1))
    far, gateway = 0, 1
    assert sizes.large_sent[far].sum() == 240
    assert sizes.small_sent[far].sum() == 1200 + 960
    assert sizes.large_sent[gateway].sum() == 480
    assert sizes.small_sent[gateway].sum() == 1920
    assert kept(db).sent[far].sum() == 1200 + 960
    begun_us = int(parts[0].at_ms[0]) * 1000
    lines = [line.split(",") for line in "".join(lines_of(db, 1, begun_us, begun_us + 3_600_000_000)).splitlines()[1:]]
    assert sum(line[2] == "far-end" and line[4] == "1" for line in lines) == 240
    # Round by round, in each the places in one order; a span has the round it begins with, and not that it ends with.
    assert [line[0] for line in lines] == sorted(line[0] for line in lines)
    places = [line[1] for line in lines[:5]]
    assert [line[1] for line in lines] == places * (len(lines) // 5)
    first_us, last_us = (int(parts[0].at_ms[n]) * 1000 for n in (1, 3))
    part_of = "".join(lines_of(db, 1, first_us, last_us)).splitlines()[1:]
    assert [line.split(",") for line in part_of] == lines[5:15]


def test_a_file_of_samples_is_of_a_day_at_the_most(db: sqlite3.Connection) -> None:
    day_us = 86_400_000_000
    assert next(lines_of(db, 1, 0, day_us)).startswith("at,")
    for until_us in (0, -1, day_us + 1):
        with pytest.raises(ValueError, match="a span of up to a day"):
            lines_of(db, 1, 0, until_us)


def test_a_name_with_marks_of_its_own_is_quoted_in_a_file_of_samples() -> None:
    assert [_quoted(name) for name in ("gate", 'a, "b"', "a\nb", "=1+1")] == [
        "gate", '"a, ""b"""', '"a\nb"', "'=1+1",
    ]  # fmt: skip


def test_a_bench_by_minutes_shows_those_that_were_sampled_in_its_time_alone(db: sqlite3.Connection) -> None:
    rounds = part(Week(2, days=1), 0, 3 * 3600)
    start_us = int(rounds.at_us[0]) // CELL_US * CELL_US
    rounds.rtt_ms[0, rounds.at_us // MINUTE_US == start_us // MINUTE_US + 4] = np.nan  # nothing came back
    take(db, batches_of(rounds))
    let_go_of_old(db, 15, LATER)
    shown = bench_of(db, 1, 1, start_us + 3 * MINUTE_US, start_us + 9 * MINUTE_US)
    assert (shown.step, shown.at_us) == ("minute", [start_us + n * MINUTE_US for n in range(3, 9)])
    gateway = next(lane for lane in shown.lanes if lane.role == "gateway")
    assert [middle is None for middle in gateway.p50_ms] == [False, True, False, False, False, False]
    after_us = start_us + 3 * 3600 * 1_000_000
    assert bench_of(db, 1, 1, after_us, after_us + 5 * MINUTE_US).at_us == []
