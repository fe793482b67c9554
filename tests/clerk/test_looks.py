"""Looks from the server itself, from the screen to the clerk: side by side, stopped, and ended by a restart."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from tarnfell.clerk import looks
from tarnfell.clerk.looks import Looks
from tarnfell.store import server_looks as store
from tarnfell.store.db import connect, writing
from tarnfell.wire.kinds.look import LookArguments, LookResult, LookSeries, LookTarget
from tests import rig
from tests.server.conftest import House, built_house

PATH = "/api/sites/pier/looks"
SEEN = LookResult((LookSeries("any", "pbx.example", "192.0.2.9", 64, 1, 1),), 1.0)


class Slow:
    """Looks that tell once and go on until they are let go, or nobody wants them."""

    def __init__(self) -> None:
        self.begun: list[LookArguments] = []
        self.let_go = threading.Event()

    def __call__(
        self, wanted: LookArguments, go_on: Callable[[], bool], tell: Callable[[LookResult], None]
    ) -> LookResult:
        self.begun.append(wanted)
        if wanted.targets[0].host == "fault.example":
            raise OSError("no route")
        tell(SEEN)
        while go_on() and not self.let_go.is_set():
            time.sleep(0.01)
        return replace(SEEN, after_s=2.0, cannot=("It needs a right.",) if wanted.large_bytes == 0 else ())


@pytest.fixture
def house(tmp_path: Path) -> House:
    return built_house(tmp_path)


@pytest.fixture
def slow() -> Iterator[Slow]:
    one = Slow()
    yield one
    one.let_go.set()


def ask(house: House, **body: Any) -> Any:
    return house.post(PATH, {"probe_id": None, "host": "pbx.example", **body})


def shown(house: House) -> list[dict[str, Any]]:
    return list(house.person.get(PATH).json["looks"])


def test_a_look_from_the_server_is_taken_told_and_stopped(house: House, slow: Slow) -> None:
    answer = ask(house, rounds=10, interval_s=0.5, small_bytes=80, large_bytes=1200)
    assert answer.status_code == 200, answer.text
    (one,) = shown(house)
    assert (one["probe"], one["state"], one["words"]) == (None, "waiting", "Waiting for its turn.")
    here = Looks(house.folder, slow)
    here.turn(connect(house.folder))
    rig.eventually(lambda: shown(house)[0]["series"], "what is known so far")
    (one,) = shown(house)
    assert (one["state"], one["after_s"], one["series"][0]["answered"]) == ("running", 1.0, 1)
    (wanted,) = slow.begun
    assert (wanted.seconds, wanted.interval_s, wanted.small_bytes, wanted.large_bytes) == (5.0, 0.5, 80, 1200)
    here.turn(connect(house.folder))
    assert len(slow.begun) == 1  # it is under way
    assert house.post(f"/api/sites/pier/server-looks/{one['id']}/stop", {}).status_code == 200
    rig.eventually(lambda: shown(house)[0]["state"] == "done", "it to end")
    assert shown(house)[0]["after_s"] == 2.0
    here.end()


def test_so_many_at_once_and_the_others_wait_their_turn(house: House, slow: Slow) -> None:
    assert house.post("/api/sites/pier/server-looks/1/stop", {}).status_code == 404
    for _ in range(4):
        assert ask(house).status_code == 200
    assert "4 looks go on from the server" in ask(house).json["detail"]
    db = connect(house.folder)
    with writing(db):
        fifth = store.ask(db, 1, LookArguments((LookTarget("any", "far.example"),)), 1)
    here = Looks(house.folder, slow)
    here.turn(connect(house.folder))
    rig.eventually(lambda: len(slow.begun) == looks.AT_ONCE, "as many as may be")
    here.turn(connect(house.folder))
    waiting = store.by_id(db, fifth)
    assert waiting is not None
    assert waiting.state == "waiting"
    with writing(db):
        store.stop(db, fifth)
    cancelled = store.by_id(db, fifth)
    assert cancelled is not None
    assert (cancelled.state, cancelled.failure) == ("failed", store.CANCELLED)
    here.end()
    assert {one["state"] for one in shown(house)} == {"done", "failed"}


def test_what_could_not_be_done_says_why_and_takes_nobody_along(house: House, slow: Slow) -> None:
    ask(house, host="fault.example")
    ask(house, large_bytes=None)
    slow.let_go.set()
    here = Looks(house.folder, slow)
    here.turn(connect(house.folder))
    here.end()
    needs, fault = shown(house)
    assert (needs["state"], needs["words"]) == ("failed", "It needs a right.")
    assert (fault["state"], fault["words"]) == ("failed", "It could not be done: no route")


def test_one_whose_clerk_ended_in_the_middle_says_so(house: House, slow: Slow) -> None:
    ask(house)
    db = connect(house.folder)
    with writing(db):
        store.begin(db, 1)
        store.tell(db, 1, SEEN)
    Looks(house.folder, slow)
    (one,) = shown(house)
    assert (one["state"], one["words"], one["after_s"]) == ("failed", looks.ENDED, 1.0)
    with writing(db):
        store.end(db, 1)  # too late: it stays as it ended
    assert shown(house)[0]["state"] == "failed"
