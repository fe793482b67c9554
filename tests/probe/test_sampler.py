"""Continuous samples: what counts as lost and what as nothing at all, batches, and the way there and back for real."""

from __future__ import annotations

import itertools
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tarnfell.media import host
from tarnfell.media.tracing.errors import CannotAsk
from tarnfell.probe import spool as spools
from tarnfell.probe.sampler import echoes as echo_rounds
from tarnfell.probe.sampler import sample as samplers
from tarnfell.probe.sampler.echoes import Echoes
from tarnfell.probe.sampler.rows import PENDING, SETTLE_US, Row, Rows
from tarnfell.probe.sampler.sample import Orders, sample
from tarnfell.probe.spool import Spool, thinned
from tarnfell.probe.surroundings import link_is_down
from tarnfell.wire.kinds.selfcheck import ClockStep
from tarnfell.wire.kinds.watch import (
    ANSWERED,
    COLUMNS,
    LOST,
    NO_SESSION,
    NOT_SENT,
    STAMPS,
    STOOD_STILL,
    EchoTarget,
    Watch,
    WatchTarget,
)
from tarnfell.wire.record import Record
from tests import rig

SECOND = 1_000_000


def column(batch: bytes, name: str) -> list[int]:
    return list(Record.parse(batch).values(name))


# Rows


def test_a_sample_is_lost_after_three_seconds_and_not_before() -> None:
    rows = Rows()
    rows.add(Row(10 * SECOND, 0, PENDING, 0, t1_ns=5), 1)
    rows.settle(10 * SECOND + SETTLE_US - 1)
    assert rows.batch({}) is None
    rows.settle(10 * SECOND + SETTLE_US)
    first_us, batch = rows.batch({}) or (0, b"")
    assert (first_us, column(batch, "fate")) == (10 * SECOND, [LOST])
    assert SETTLE_US == 3 * SECOND
    assert rows.batch({}) is None


def test_an_answer_counts_once_and_in_time() -> None:
    rows = Rows()
    for number in (1, 2):
        rows.add(Row(number * SECOND, 0, PENDING, 7, t1_ns=100), number)
    rows.answer(1, 110, 111, 120)
    rows.answer(1, 1, 1, 1)
    rows.settle(20 * SECOND)
    rows.answer(2, 110, 111, 120)  # too late
    rows.answer(99, 1, 1, 1)  # nobody asked
    _, batch = rows.batch({}) or (0, b"")
    assert column(batch, "fate") == [ANSWERED, LOST]
    assert [column(batch, name) for name in ("t1_ns", "t2_ns", "t3_ns", "t4_ns")] == [
        [100, 100], [110, 0], [111, 0], [120, 0]
    ]  # fmt: skip
    assert column(batch, "beside") == [7, 7]


def test_what_waits_for_an_answer_holds_back_what_comes_after_it() -> None:
    """Batches are in the order of time, whatever is answered first."""
    rows = Rows()
    rows.add(Row(1 * SECOND, 0, NO_SESSION, 0), 1)
    rows.add(Row(2 * SECOND, 0, PENDING, 0), 2)
    rows.add(Row(3 * SECOND, 0, PENDING, 0), 3)
    rows.answer(3, 1, 1, 1)
    first_us, batch = rows.batch({}) or (0, b"")
    assert (first_us, column(batch, "due_us")) == (SECOND, [SECOND])
    rows.answer(2, 1, 1, 1)
    first_us, batch = rows.batch({}) or (0, b"")
    assert (first_us, column(batch, "due_us")) == (2 * SECOND, [2 * SECOND, 3 * SECOND])


def test_a_machine_that_stood_still_is_a_gap_and_no_loss() -> None:
    rows = Rows()
    rows.add(Row(1 * SECOND, 0, PENDING, 0), 1)
    rows.stood_still(2 * SECOND, 90 * SECOND)
    rows.settle(100 * SECOND)
    rows.answer(1, 1, 1, 1)
    _, batch = rows.batch({"watch": 3}) or (0, b"")
    assert column(batch, "fate") == [STOOD_STILL]
    assert Record.parse(batch).meta == {"watch": 3, "stood_still": [[2 * SECOND, 90 * SECOND]]}


# Batches on the disk


def a_batch(rows: list[tuple[int, int]], **meta: Any) -> bytes:
    """Rows of due time and target."""
    columns = {name: [0] * len(rows) for name in COLUMNS}
    columns["due_us"], columns["target"] = [due for due, _ in rows], [target for _, target in rows]
    return Record.of(meta, columns).serialize()


def test_thinning_keeps_every_second_sample_of_each_target() -> None:
    batch = a_batch([(due, target) for due in range(5) for target in (0, 1)])
    once = Record.parse(thinned(batch))
    assert list(zip(once.values("due_us"), once.values("target"), strict=True)) == [
        (0, 0),
        (0, 1),
        (2, 0),
        (2, 1),
        (4, 0),
        (4, 1),
    ]
    assert once.meta["one_in"] == 2
    twice = Record.parse(thinned(thinned(batch)))
    assert (twice.values("due_us"), twice.meta["one_in"]) == ([0, 0, 4, 4], 4)


def test_where_room_is_short_the_oldest_samples_are_thinned_and_results_are_not(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    spool = Spool(tmp_path)
    spool.keep_record(9, b"r" * 4000)
    import random

    chance = random.Random(1)
    rows = [(chance.randrange(1 << 40), 0) for _ in range(100)]
    monkeypatch.setattr(spools, "MOST_SAMPLE_BYTES", 3.5 * len(a_batch(rows)))
    for first_us in (1, 2, 3):
        spool.keep_samples(5, first_us, a_batch(rows))
    kept = [path for path in spool.waiting() if path.suffix == ".samples"]
    assert ["one_in" in Record.parse(path.read_bytes()).meta for path in kept] == [False, False, False]
    spool.keep_samples(5, 4, a_batch(rows))
    kept = [path for path in spool.waiting() if path.suffix == ".samples"]
    assert [Record.parse(path.read_bytes()).meta.get("one_in", 1) for path in kept] == [2, 2, 1, 1]
    assert spool.record(9) == b"r" * 4000


def test_a_folder_of_many_batches_is_not_looked_through_for_each(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A probe that is without its server for a week keeps sixty thousand."""
    looked: list[int] = []
    real = Spool.waiting

    def waiting(spool: Spool) -> list[Path]:
        looked.append(len(real(spool)))
        return real(spool)

    monkeypatch.setattr(Spool, "waiting", waiting)
    monkeypatch.setattr(spools, "MOST_SAMPLE_BYTES", 1000)
    spool = Spool(tmp_path)
    for first_us in range(100):
        spool.keep_samples(1, first_us, b"x" * 10)
    assert looked == [1]
    spool.keep_samples(1, 100, b"x" * 10)
    assert looked == [1, 101]
    Spool(tmp_path).keep_samples(1, 101, b"x")
    assert looked == [1, 101, 102]  # a program that starts anew does not know what is there


def test_results_go_before_samples_and_samples_in_the_order_of_time(tmp_path: Path) -> None:
    spool = Spool(tmp_path)
    for first_us in (2_000_000_000_000_000, 999):
        spool.keep_samples(1, first_us, b"")
    spool.keep_outcome(30, {})
    spool.keep_record(4, b"")
    assert [path.name for path in spool.waiting()] == [
        "000000004.record", "000000030.outcome", "000000001-0000000000000999.samples",
        "000000001-2000000000000000.samples",
    ]  # fmt: skip
    assert spool.jobs() == {4, 30}


# For real


class Kept:
    """Batches as they are kept, and the samples in them."""

    def __init__(self) -> None:
        self.batches: list[tuple[int, bytes]] = []
        self.troubles: list[str | None] = []
        self.beside = 0
        self.full = False
        self.stalls_s = 0.0

    def keep(self, first_us: int, batch: bytes) -> None:
        stalls_s, self.stalls_s = self.stalls_s, 0.0
        time.sleep(stalls_s)
        if self.full:
            raise OSError(28, "No space left on device")
        self.batches.append((first_us, batch))

    def column(self, name: str) -> list[int]:
        return [value for _, batch in self.batches for value in column(batch, name)]

    def fates(self) -> set[int]:
        return set(self.column("fate"))


@contextmanager
def sampling(target: WatchTarget, interval_ms: int = 100) -> Iterator[Kept]:
    with watching(Watch(1, 1, interval_ms, (target,))) as kept:
        yield kept


@contextmanager
def watching(watch: Watch, to_the_last: bool = False) -> Iterator[Kept]:
    kept, stop = Kept(), threading.Event()
    orders = Orders(lambda: not stop.is_set(), lambda: kept.beside, kept.keep, kept.troubles.append)
    failed: list[BaseException] = []

    def run() -> None:
        try:
            sample(watch, orders, to_the_last)
        except BaseException as error:
            failed.append(error)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        yield kept
    finally:
        stop.set()
        thread.join(rig.PATIENCE * 40)
    assert not thread.is_alive()
    assert failed == []


@pytest.fixture(autouse=True)
def _short_batches(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(samplers, "BATCH_US", 200_000)


@pytest.fixture
def far(tmp_path: Path) -> Iterator[str]:
    address = rig.own_address()
    with rig.far_end(tmp_path, address):
        yield address


def target_at(address: str, port: int = rig.CONTROL_PORT) -> WatchTarget:
    return WatchTarget(1, address, port, rig.KEY, 46)


def until(kept: Kept, holds: Callable[[], bool], what: str) -> None:
    rig.eventually(holds, what)


def test_samples_tell_the_delay_that_a_path_put_there(tmp_path: Path, far: str) -> None:
    """30 ms up and 10 ms down; an outage up the line, then as before. Loss and delay as the path's own log has them."""
    listen = rig.own_address()
    lanes = {"up": {"delay_ms": 30}, "down": {"delay_ms": 10}}
    script = {"seed": 3, **lanes}
    with rig.path(tmp_path, listen, far, script), sampling(target_at(listen)) as kept:
        # In turn, and not by the clock: on a busy machine the sampler may begin after an outage that was set for it.
        rig.eventually(lambda: kept.column("fate").count(ANSWERED) >= 10, "samples to be answered")
        rig.put_on_path(tmp_path, {**script, "up": {"delay_ms": 30, "loss_pct": 100}})
        rig.eventually(lambda: LOST in kept.fates(), "samples to be lost")
        rig.put_on_path(tmp_path, script)
        rig.eventually(lambda: (kept.column("fate") or [LOST])[-1] == ANSWERED, "the way to be open again")
    fates = kept.column("fate")
    stamps = list(zip(*(kept.column(name) for name in ("t1_ns", "t2_ns", "t3_ns", "t4_ns")), strict=True))
    answered = [one for one, fate in zip(stamps, fates, strict=True) if fate == ANSWERED]
    assert len(answered) >= 10
    up = sorted((t2 - t1) / 1e6 for t1, t2, _, _ in answered)
    down = sorted((t4 - t3) / 1e6 for _, _, t3, t4 in answered)
    # One clock: the least is the path's own delay, whatever this machine adds to single ones.
    assert 30 <= up[0] < 33
    assert 10 <= down[0] < 13
    lost = [i for i, fate in enumerate(fates) if fate == LOST]
    assert lost == list(range(lost[0], lost[-1] + 1))
    assert kept.troubles[-1] is None


def test_without_a_far_end_nothing_is_lost_and_the_reason_is_told(tmp_path: Path) -> None:
    address = rig.own_address()
    with sampling(target_at(address)) as kept:
        rig.eventually(lambda: len(kept.column("fate")) > 5, "samples that were due")
        assert kept.fates() == {NO_SESSION}
        rig.eventually(lambda: any("no far end listens" in str(t) for t in kept.troubles), "the reason")
        with rig.far_end(tmp_path, address):
            rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
            rig.eventually(lambda: kept.troubles[-1] is None, "the trouble to be over")


def test_a_far_end_that_is_started_again_is_asked_again_and_what_was_sent_meanwhile_is_lost(tmp_path: Path) -> None:
    address = rig.own_address()
    with sampling(target_at(address)) as kept:
        with rig.far_end(tmp_path, address):
            rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
        rig.eventually(lambda: LOST in kept.fates(), "loss")
        with rig.far_end(tmp_path, address):
            before = kept.column("fate").count(ANSWERED)
            rig.eventually(lambda: kept.column("fate").count(ANSWERED) > before + 5, "answers again", within_s=90)


def test_the_last_samples_are_waited_for_and_lost_where_nobody_answers(tmp_path: Path) -> None:
    address = rig.own_address()
    with rig.far_end(tmp_path, address) as child:
        with watching(Watch(1, 1, 100, (target_at(address),)), to_the_last=True) as kept:
            rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
            processes = [child.pid, *rig.processes_below(child.pid)]
            for pid in processes:
                os.kill(pid, signal.SIGSTOP)
            rig.eventually(lambda: LOST in kept.fates(), "loss")  # the newest three seconds still wait for an answer
        for pid in processes:
            os.kill(pid, signal.SIGCONT)
    assert kept.column("fate")[-1] == LOST


def test_samples_are_labelled_with_what_loads_the_line(far: str) -> None:
    with sampling(target_at(far)) as kept:
        rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
        kept.beside = 42
        rig.eventually(lambda: 42 in kept.column("beside"), "labelled samples")
        kept.beside = 0
        rig.eventually(lambda: kept.column("beside")[-1] == 0, "samples with none beside")
    labels = kept.column("beside")
    assert sorted(set(labels)) == [0, 42]
    assert labels.index(42) > 0


def test_a_machine_that_slept_shows_it(far: str, monkeypatch: pytest.MonkeyPatch) -> None:
    asleep = [0]
    monkeypatch.setattr(host, "asleep_ns", lambda: asleep[0])
    with sampling(target_at(far)) as kept:
        rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
        asleep[0] = 3600 * 1_000_000_000
        slept_by = time.time_ns() // 1000
        rig.eventually(lambda: any(_gaps(batch) for _, batch in kept.batches), "the gap to be told")
    gaps = [gap for _, batch in kept.batches for gap in _gaps(batch) if gap[1] - gap[0] > 60 * SECOND]
    assert len(gaps) == 1
    (start, end) = gaps[0]
    assert end - start == 3600 * SECOND
    assert end >= slept_by


def test_rounds_that_were_missed_are_a_gap_and_are_not_made_up_for(far: str) -> None:
    """A disk that took its time held the sampler up."""
    every, near = 500_000, 200_000
    with sampling(target_at(far), 500) as kept:
        rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
        kept.stalls_s = 3.2
        rig.eventually(lambda: any(_gaps(batch) for _, batch in kept.batches), "the gap to be told")
        told = len(kept.column("due_us"))
        rig.eventually(lambda: len(kept.column("due_us")) > told + 2, "samples after it")
    begin, end = next(gap for _, batch in kept.batches for gap in _gaps(batch) if gap[1] - gap[0] > 4 * every)
    due = kept.column("due_us")
    assert [one for one in due if begin - near < one < end - near] == []
    assert max(one for one in due if one < begin) == pytest.approx(begin - every, abs=near)
    assert min(one for one in due if one > begin) == pytest.approx(end, abs=near)
    assert (end - begin) / every == pytest.approx(round((end - begin) / every), abs=near / every)


def _gaps(batch: bytes) -> list[list[int]]:
    return list(Record.parse(batch).meta["stood_still"])


def test_a_full_disk_loses_no_samples_and_is_told(far: str) -> None:
    with sampling(target_at(far)) as kept:
        rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
        kept.full = True
        rig.eventually(lambda: any("No space left" in str(t) for t in kept.troubles), "the trouble to be told")
        stalled = len(kept.batches)
        kept.full = False
        rig.eventually(lambda: len(kept.batches) > stalled + 1, "the batches that waited")
        rig.eventually(lambda: kept.troubles[-1] is None, "the trouble to be over")
    due = kept.column("due_us")
    assert due == sorted(due)
    assert max(b - a for a, b in itertools.pairwise(due)) < 60 * SECOND
    assert len(due) == len(set(due))


# Places on the way

needs_echoes = pytest.mark.skipif(os.geteuid() != 0, reason="needs a right to send echoes")


@needs_echoes
def test_all_places_are_asked_in_one_round_some_by_large_packets(far: str) -> None:
    places = (EchoTarget("gateway", "127.0.0.1"), EchoTarget("edge", "127.0.0.2"))
    with watching(Watch(1, 1, 100, (target_at(far),), places, large_every=3, large_bytes=1200)) as kept:
        rig.eventually(lambda: kept.column("fate").count(ANSWERED) >= 30, "answers")
    rows = list(zip(*(kept.column(name) for name in ("due_us", "target", "fate", "large", *STAMPS)), strict=True))
    by_due: dict[int, list[int]] = {}
    for due, number, *_ in rows:
        by_due.setdefault(due, []).append(number)
    assert set(map(tuple, list(by_due.values())[:-1])) == {(0, 1, 2)}
    echoed = [row for row in rows if row[1] > 0 and row[2] == ANSWERED]
    assert all(t1 > 0 and (t2, t3) == (0, 0) and t4 > t1 for *_, t1, t2, t3, t4 in echoed)
    sizes = [large for _, number, _, large, *_ in rows if number == 1]
    assert sizes[:9] == [0, 0, 1] * 3
    assert [large for _, number, _, large, *_ in rows if number == 0] == sizes
    # Large ones to the far end are answered, as large as they came (RFC 8972 §4.1).
    assert {fate for _, number, fate, large, *_ in rows if number == 0 and large} == {ANSWERED}
    meta = Record.parse(kept.batches[0][1]).meta
    assert (meta["echoes"], meta["targets"], meta["large_bytes"]) == (
        [["gateway", "127.0.0.1"], ["edge", "127.0.0.2"]], [1], 1200,
    )  # fmt: skip


@needs_echoes
def test_who_has_no_address_is_not_asked_and_that_is_no_loss() -> None:
    """A machine without a default route has no gateway; its other places are asked all the same."""
    asked = Echoes((EchoTarget("gateway"), EchoTarget("outside", "127.0.0.1")), 1400, Path("/nowhere"))
    try:
        gateway, outside = asked.send(False)
        assert gateway is None
        assert outside is not None
        found: list[object] = []
        rig.eventually(lambda: bool(found.extend(asked.answers()) or found), "the answer")
        ((number, took_ns),) = found  # type: ignore[misc]
        assert number == outside.number
        assert 0 < took_ns < 1_000_000_000
    finally:
        asked.close()


@needs_echoes
def test_weeks_of_echoes_take_no_more_room_than_seconds(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(echo_rounds, "FORGET_US", 0)
    asked = Echoes((EchoTarget("outside", "127.0.0.1"), EchoTarget("edge", "240.0.0.1")), 1400)
    try:
        for _ in range(50):
            asked.send(False)
            list(asked.answers())
        (small, _) = asked._asked
        assert max(len(one.sent_us) + len(one.rtt_ms) for one in small.found) <= 2
        assert max(len(asker._sent) for asker in small._askers) <= 4
    finally:
        asked.close()


def test_without_the_right_to_echoes_it_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    def no(*_: object) -> None:
        raise CannotAsk("This system lets the probe send no ICMP echo.")

    monkeypatch.setattr(echo_rounds, "TimedEchoes", no)
    with watching(Watch(1, 1, 100, (), (EchoTarget("edge", "127.0.0.1"),))) as kept:
        rig.eventually(lambda: any("no ICMP echo" in str(one) for one in kept.troubles), "the trouble")
        rig.eventually(lambda: NOT_SENT in kept.fates(), "samples that were not sent")
    assert kept.fates() == {NOT_SENT}


def test_without_a_carrier_nothing_is_sent_and_nothing_lost(far: str, monkeypatch: pytest.MonkeyPatch) -> None:
    down = [False]
    monkeypatch.setattr(samplers, "link_is_down", lambda: down[0])
    with watching(Watch(1, 1, 100, (target_at(far),), (EchoTarget("edge", "127.0.0.1"),))) as kept:
        rig.eventually(lambda: ANSWERED in kept.fates(), "answers")
        down[0] = True
        rig.eventually(lambda: kept.column("fate").count(NOT_SENT) >= 6, "samples that were not sent")
        down[0] = False
        rig.eventually(lambda: kept.column("fate")[-2:] == [ANSWERED, ANSWERED], "answers again")
    assert kept.fates() == {ANSWERED, NOT_SENT}


def test_the_carrier_is_read_off_the_interface_of_the_way_out(tmp_path: Path) -> None:
    assert not link_is_down(tmp_path)
    (tmp_path / "proc/net").mkdir(parents=True)
    (tmp_path / "proc/net/route").write_text(
        "Iface Destination Gateway Flags RefCnt Use Metric Mask\nlan0 00000000 010200C0 0003 0 0 100 00000000\n"
    )
    assert not link_is_down(tmp_path)  # the system does not tell
    carrier = tmp_path / "sys/class/net/lan0/carrier"
    carrier.parent.mkdir(parents=True)
    for said, down in (("1\n", False), ("0\n", True)):
        carrier.write_text(said)
        assert link_is_down(tmp_path) == down


def test_a_clock_that_is_set_begins_a_batch_of_its_own(far: str, monkeypatch: pytest.MonkeyPatch) -> None:
    class Clock:
        def __init__(self) -> None:
            self.steps: list[ClockStep] = []
            self.looks = 0

        def look(self) -> None:
            self.looks += 1
            if self.looks % 7 == 0:
                self.steps.append(ClockStep(1, 5000.0))

    monkeypatch.setattr(samplers, "BATCH_US", 3_600_000_000)
    monkeypatch.setattr(host, "ClockWatch", Clock)
    with sampling(target_at(far)) as kept:
        rig.eventually(lambda: len(kept.batches) >= 3, "batches")
    for _, batch in kept.batches:
        assert column(batch, "due_us") == sorted(column(batch, "due_us"))
    assert kept.fates() <= {ANSWERED, STOOD_STILL}


def test_giving_up_leaves_what_was_answered(tmp_path: Path) -> None:
    rows = Rows()
    for number in (1, 2):
        rows.add(Row(number * SECOND, 0, PENDING, 0, t1_ns=100), number)
    rows.answer_echo(1, 30)
    assert rows.waits()
    rows.give_up()
    assert not rows.waits()
    _, batch = rows.batch({}) or (0, b"")
    assert column(batch, "fate") == [ANSWERED, STOOD_STILL]
    assert column(batch, "t4_ns") == [130, 0]
