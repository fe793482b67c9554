"""Sessions over WebSocket: who may come in, what is sent and kept, and that they end."""

from __future__ import annotations

import asyncio
import json
import sqlite3
from collections.abc import AsyncIterator, Coroutine
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import pytest
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, InvalidStatus

from tarnfell.farend.halves import Halves
from tarnfell.store import browsers as browser_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import runs as run_store
from tarnfell.store.browsers import SOCKET_HALVES
from tarnfell.store.db import open_database, writing
from tarnfell.store.runs import RunSpec
from tarnfell.websocket import serve
from tarnfell.wire.browser import ANSWER, CallsAsked, Packet, Question
from tarnfell.wire.kinds.selfcheck import end_check_of
from tarnfell.wire.record import Record, split_parts
from tests.server.conftest import set_up

ASKED = CallsAsked(calls=2, interval_ms=20, filling=93, seconds=1.0)
TOKEN = "0f" * 32
LONG_S = 30.0


@pytest.fixture
def data(tmp_path: Path) -> Path:
    db = open_database(tmp_path)
    set_up(db, "192.0.2.10", 4870, "key")
    job(db, TOKEN)
    return tmp_path


def job(db: sqlite3.Connection, token: str, asked: CallsAsked | None = ASKED) -> int:
    """A test that was begun, as the server notes it."""
    site_id, point_id = db.execute("SELECT site_id, id FROM test_point").fetchone()
    (far_end, *_) = place_store.far_ends_of(db, site_id)
    with writing(db):
        browser = browser_store.add_link(db, site_id, point_id, f"Desk {token[:8]}", "g711a", 20, 2, 1.0)
        run = run_store.add_run(db, RunSpec(
            site_id=site_id, probe_id=browser, far_end_id=far_end.id, codec="g711a", ptime_ms=20, calls=2, seconds=1.0,
            dscp=0, asked_by=None,
        ), "")  # fmt: skip
        job_store.move(db, run.id, "taken", "")
        browser_store.begin(db, run.id, token, "192.0.2.7", "socket", asked)
    return run.id


def run(what: Coroutine[Any, Any, None]) -> None:
    asyncio.run(asyncio.wait_for(what, LONG_S))


@asynccontextmanager
async def listening(data: Path) -> AsyncIterator[str]:
    async with serve.listening(data, "127.0.0.1", 0) as server:
        port = next(iter(server.sockets)).getsockname()[1]
        yield f"ws://127.0.0.1:{port}/socket/"


async def words(page: ClientConnection, word: str) -> tuple[list[bytes], Any]:
    """What came until a word of control did."""
    packets: list[bytes] = []
    async for message in page:
        if isinstance(message, bytes):
            packets.append(message)
        elif word in json.loads(message):
            return packets, json.loads(message)[word]
    raise AssertionError(f"It closed before it said {word}.")


def test_a_session_from_the_first_word_to_what_is_kept(data: Path) -> None:
    async def talk() -> None:
        async with listening(data) as address, connect(address + TOKEN, compression=None) as page:
            await page.send(json.dumps({"begin": True}))
            _, begun = await words(page, "begun")
            assert begun is True
            for number in (0, 1, 3):
                await page.send(Packet(1, number, 5.0).serialize(93))
            await page.send(b"?")
            await page.send(Question(7, 12.5).serialize())
            packets: list[bytes] = []
            progress: dict[str, list[int]] = {"received": [], "sent": []}
            while progress["received"] != [0, 3] or progress["sent"] != [50, 50]:
                more, progress = await words(page, "progress")
                packets += more
            assert progress["reached"] == [0, 4]
            await page.send(json.dumps({"finish": True}))
            rest, kept = await words(page, "kept")
            packets += rest
            assert kept is True
            answers = [one for one in packets if one[0] == ANSWER]
            told = [Packet.parse(one) for one in packets if one[0] != ANSWER]
            assert len(answers) == 1
            assert {one.call: [p.sequence_number for p in told if p.call == one.call] for one in told} == {
                0: list(range(50)), 1: list(range(50)),
            }  # fmt: skip
            assert {len(one) for one in packets if one[0] != ANSWER} == {14 + 93}

    run(talk())
    kept = Halves(data / SOCKET_HALVES).take(TOKEN)
    assert kept is not None
    about, *calls = [Record.parse(part) for part in split_parts(kept)]
    check = end_check_of(about.meta["about"]["self_check"])
    assert check is not None
    assert (check.arrangement, check.strays) == ("a WebSocket over TCP, one loop", 1)
    assert [len(list(one.columns["sent_us"].values())) for one in calls] == [50, 50]
    assert [list(one.columns["arrival_seq"].values()) for one in calls] == [[], [0, 1, 3]]


@pytest.mark.parametrize(
    "path", ["", "x", TOKEN[:-2], TOKEN + "00", TOKEN.upper(), "1" * 64, f"{TOKEN}?x", f"../socket/{TOKEN}"]
)
def test_without_a_token_nobody_comes_in(data: Path, path: str) -> None:
    async def knock() -> None:
        async with listening(data) as address:
            with pytest.raises(InvalidStatus) as refused:
                await connect(address + path)
            assert refused.value.response.status_code == 404

    run(knock())


def test_a_token_opens_once_and_only_what_was_asked_over_a_socket(data: Path) -> None:
    db = open_database(data)
    job(db, "a" * 64, None)
    over = job(db, "b" * 64)
    with writing(db):
        job_store.move(db, over, "failed", "It was given up.")

    async def knock() -> None:
        async with listening(data) as address, connect(address + TOKEN):
            for token in (TOKEN, "a" * 64, "b" * 64):
                with pytest.raises(InvalidStatus):
                    await connect(address + token)

    run(knock())


def test_there_is_room_for_so_many_and_then_for_the_next(data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(serve, "MOST_AT_ONCE", 1)
    job(open_database(data), "c" * 64)

    async def knock() -> None:
        async with listening(data) as address:
            async with connect(address + TOKEN):
                with pytest.raises(InvalidStatus) as refused:
                    await connect(address + "c" * 64)
                assert refused.value.response.status_code == 503
            # Refused for want of room it was not taken up.
            while True:
                try:
                    async with connect(address + "c" * 64):
                        return
                except InvalidStatus:
                    await asyncio.sleep(0.02)

    run(knock())


@pytest.mark.parametrize(
    ("said", "is_kept"),
    [([], False), ([json.dumps({"begin": True})], True), ([json.dumps({"begin": True}), "x" * 5000], True)],
)
def test_a_page_that_goes_ends_the_session_and_what_was_measured_is_kept(
    data: Path, said: list[str], is_kept: bool
) -> None:
    async def leave() -> None:
        async with listening(data) as address:
            page = await connect(address + TOKEN)
            try:
                for one in said:
                    await page.send(one)
                if said:
                    await words(page, "begun")
                if len(said) > 1:
                    await page.wait_closed()
            except ConnectionClosed:
                pass
            page.transport.abort()

    run(leave())
    assert (Halves(data / SOCKET_HALVES).take(TOKEN) is not None) == is_kept


def test_a_line_that_takes_nothing_ends_the_session(data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(serve, "MOST_WAITING", 2000)

    async def stall() -> None:
        async with listening(data) as address, connect(address + TOKEN) as page:
            blocked = asyncio.Event()

            async def never(*_: object) -> None:
                await blocked.wait()

            monkeypatch.setattr(serve.ServerConnection, "send", never)
            await page.send(json.dumps({"begin": True}))
            await page.wait_closed()

    run(stall())
    assert Halves(data / SOCKET_HALVES).take(TOKEN) is not None


def test_it_stops_a_session_that_never_begins(data: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tarnfell.media.browser.talk.CONNECT_S", 0.05)

    async def wait() -> None:
        async with listening(data) as address, connect(address + TOKEN) as page:
            await page.wait_closed()

    run(wait())
    assert Halves(data / SOCKET_HALVES).take(TOKEN) is None
