"""Looking at addresses: counts, order and duplicates as they really were, and a call beside them."""

from __future__ import annotations

import itertools
import json
import os
import socket
import time
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for
from tarnfell.probe.asking import echo, looking
from tarnfell.probe.asking.echo import Echoed, TimedEchoes
from tarnfell.probe.asking.looking import Look, percentile, series_of
from tarnfell.probe.works.look import look
from tarnfell.wire.icmp import Echo
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.look import LookArguments, LookResult, LookTarget
from tarnfell.work.ingest.survey import judge_told
from tarnfell.work.placing.call_plan import call_plan
from tests import rig

HERE = LookTarget("any", "127.0.0.1")
MAY_ECHO = pytest.mark.skipif(os.geteuid() != 0, reason="needs a right to ICMP")


class Hands:
    """As works see the supervisor."""

    def __init__(self) -> None:
        self.job, self.spool, self.kept, self.told = 7, self, list[Any](), list[LookResult]()

    def begin(self) -> None:
        pass

    def go_on(self) -> bool:
        return True

    def tell(self, what: dict[str, Any]) -> None:
        self.told.append(read(LookResult, what["result"]))

    def keep_outcome(self, job: int, result: dict[str, Any]) -> None:
        self.kept.append((job, read(LookResult, json.loads(json.dumps(result)))))


@MAY_ECHO
def test_small_and_large_to_each_target_and_what_cannot_be_asked() -> None:
    targets = (HERE, LookTarget("any", "no-such-name.invalid"))
    told: list[LookResult] = []
    result = Look(LookArguments(targets, 1.5, 0.1, 64, 1400), lambda: True, told.append).run()
    assert [(one.host, one.packet_bytes) for one in result.series] == [
        ("127.0.0.1", 64), ("no-such-name.invalid", 64), ("127.0.0.1", 1400), ("no-such-name.invalid", 1400),
    ]  # fmt: skip
    here, nowhere = result.series[:2]
    assert (here.sent, here.answered, here.lost, here.reordered, here.duplicates, here.ttls) == (15, 15, 0, 0, 0, (64,))
    assert len(here.rtt_us) == 15
    assert here.min_ms <= here.median_ms <= here.p95_ms <= here.max_ms  # type: ignore[operator]
    assert (nowhere.sent, nowhere.address) == (0, None)
    assert "cannot be looked up" in str(nowhere.failure)
    assert told
    assert told[0].series[0].sent < 15
    assert read(LookResult, json.loads(json.dumps(plain(result)))) == result


@MAY_ECHO
def test_a_look_that_is_stopped_keeps_what_it_saw() -> None:
    wanted = itertools.chain([True] * 8, itertools.repeat(False))  # asked once a round at the least
    result = Look(LookArguments((HERE,), 60, 0.05, 64, 0), lambda: next(wanted), print).run()
    assert 1 <= result.series[0].answered <= 8
    assert len(result.series) == 1


@MAY_ECHO
def test_order_and_duplicates_are_counted(monkeypatch: pytest.MonkeyPatch) -> None:
    asked = TimedEchoes([("outside", "127.0.0.1")])
    (asker,) = asked._askers
    sent = [asker.send_round() for _ in range(4)]
    assert len(sent) == 4
    numbers = list(asker._sent)

    def came(number: int) -> None:
        reply = bytearray(Echo(asker._identifier, number, asker._payload).serialize())
        reply[0] = 0
        head = bytes([0x45, 0, 0, 0, 0, 0, 0, 0, 61, 1, 0, 0, 127, 0, 0, 1, 127, 0, 0, 1])
        asker._take_answer(head + bytes(reply), "127.0.0.1", time.time_ns(), 61)

    for number in (numbers[0], numbers[2], numbers[1], numbers[1], numbers[3]):
        came(number)
    one = asked.found[0]
    assert (len(one.rtt_ms), one.reordered, one.duplicates, one.ttls) == (4, 1, 1, {61})
    asked.close()


def test_what_was_sent_a_moment_ago_is_neither_answered_nor_lost() -> None:
    now_us = time.time_ns() // 1000
    long_ago = now_us - round(1.2e6 * looking.WAIT_S)
    echoed = Echoed("outside", "192.0.2.7", 64, {1: long_ago, 2: long_ago + 1, 3: now_us}, {1: 5.0})
    series = series_of(HERE, echoed)
    assert (series.sent, series.answered, series.lost, series.rtt_us) == (3, 1, 1, (5000, -1))
    four = dict.fromkeys((1, 2, 3, 4), 1)
    spread = series_of(HERE, Echoed("outside", "192.0.2.7", 64, four, {1: 1.0, 2: 3.0, 3: 8.0}))
    assert (spread.min_ms, spread.median_ms, spread.max_ms) == (1.0, 3.0, 8.0)
    assert spread.deviation_ms == pytest.approx(8 / 3)
    assert spread.p95_ms == pytest.approx(7.5)
    assert percentile([], 95) is None


def test_rounds_are_due_by_the_first_and_the_last_is_waited_for(monkeypatch: pytest.MonkeyPatch) -> None:
    near, far = socket.socketpair()
    asker = SimpleNamespace(sock=near, send_round=lambda: sent.append(len(until_s)), all_answered=False)
    until_s: list[float] = []
    sent: list[int] = []
    enough: list[bool] = []

    def listen(_: object, until: float, is_enough: Callable[[], bool]) -> None:
        until_s.append(until)
        for asker.all_answered in (False, True):
            enough.append(is_enough())

    monkeypatch.setattr(echo, "_listen", listen)
    monkeypatch.setattr(time, "monotonic", lambda: 1000.0 + 0.2 * len(until_s))  # each a little late
    echo._ask([asker], 2, 0.5, 1.5, lambda: True)  # type: ignore[list-item]
    assert (sent, until_s, enough) == ([0, 1], [1000.5, 1001.0, 1001.9], [False] * 5 + [True])
    echo._ask([asker], 2, 0.5, 1.5, lambda: len(until_s) < 4)  # type: ignore[list-item]
    assert len(until_s) == 4
    near.close()
    far.close()


def test_the_last_answers_are_waited_for_and_no_longer(monkeypatch: pytest.MonkeyPatch) -> None:
    after: list[float] = []

    class Slow:
        """Answers a third of a second after the last round is over."""

        def __init__(self, *_: object) -> None:
            self.found, self.sent_s = [Echoed("any", "127.0.0.1", 64, {}, {})], 0.0

        def send_round(self) -> None:
            self.found[0].sent_us[1], self.sent_s = time.time_ns() // 1000, time.monotonic()

        def listen(self, until: float) -> None:
            time.sleep(0.01)
            if self.found[0].rtt_ms:
                after.append(until)
            elif time.monotonic() > self.sent_s + 0.33:
                self.found[0].rtt_ms[1] = 330.0

        def close(self) -> None:
            pass

    monkeypatch.setattr(looking, "TimedEchoes", Slow)
    monkeypatch.setattr(looking, "WAIT_S", 60.0)
    result = Look(LookArguments((HERE,), 0.001, 0.001, 64, 0), lambda: True, lambda _: None).run()
    assert ([one.answered for one in result.series], after) == ([1], [])


@MAY_ECHO
def test_a_place_with_a_call_beside_it(tmp_path: Path) -> None:
    address, hands = rig.own_address(), Hands()
    codec = find_codec("g711a")
    plan = call_plan(codec, 20, 1, 2, 46)
    with rig.far_end(tmp_path, address):
        wanted = LookArguments(
            (HERE,), 2, 0.2, call=plan, far_host=address, far_port=rig.CONTROL_PORT, far_key=rig.KEY
        )  # fmt: skip
        look(wanted, hands)  # type: ignore[arg-type]
    ((job, result),) = hands.kept
    assert job == 7
    assert (result.call_failure, result.series[0].sent) == (None, 10)
    place = judge_told(result, criterion_for(codec, 20), 4.0)
    assert place.up is not None
    assert place.down is not None
    if not place.spoiled:
        assert [way.loss_pct for way in (place.up, place.down)] == [0.0, 0.0]
        assert place.acceptable is (place.up.mos >= 4 and place.down.mos >= 4)  # type: ignore[operator]


@MAY_ECHO
def test_where_no_call_can_be_placed_the_echoes_tell_what_they_can() -> None:
    hands = Hands()
    wanted = LookArguments(
        (HERE,), 1, 0.2, call=call_plan(find_codec("g711a"), 20, 1, 1, 46), far_host="127.0.0.1",
        far_port=rig.free_port(), far_key="k",
    )  # fmt: skip
    look(wanted, hands)  # type: ignore[arg-type]
    ((_, result),) = hands.kept
    assert result.series[0].answered == 5
    assert "no far end listens" in str(result.call_failure)
    place = judge_told(result, criterion_for(find_codec("g711a"), 20), 4.0)
    assert (place.acceptable, "No call could be placed from here" in place.says[0]) == (None, True)
