"""A call as a WAV: which stretch, how it was judged, and what there is nothing to hear of."""

from __future__ import annotations

import io
import wave
from typing import Any

import numpy as np
import pytest

from tarnfell.wire.record import Record, join_parts, pack_column, split_parts
from tests.server.conftest import House, record_file
from tests.server.test_runs import taken

LOST = (10, 11, 12)
QUEUED = range(30, 90)
"""Packets that wait up to 200 ms, more and then less."""


def queued_file() -> bytes:
    """Call 1 of two, a hundred packets; up, three are lost and a queue stands for more than a second."""
    head, first, second = split_parts(record_file(lost=LOST))
    record = Record.parse(first)
    sent = record.values("up.sent_us")
    came = record.values("up.arrival_seq")
    waits = {n: 200_000 * (1 - abs(n - 60) / 30) for n in QUEUED}
    at = [sent[n] + 20_000 + round(waits.get(n, 0)) for n in came]
    columns = {**record.columns, "up.arrival_us": pack_column("up.arrival_us", at)}
    return join_parts([head, Record(record.meta, columns).serialize(), second])


@pytest.fixture
def call(house: House) -> int:
    run_id = taken(house)
    assert house.deliver(run_id, queued_file()).json == {"state": "done"}
    return int(house.person.get(f"/api/runs/{run_id}/calls").json["calls"][0]["id"])


def sound(house: House, path: str) -> Any:
    answer = house.person.get(path)
    assert answer.status_code == 200, answer.text
    assert answer.mimetype == "audio/wav"
    with wave.open(io.BytesIO(answer.data)) as file:
        assert (file.getnchannels(), file.getsampwidth(), file.getframerate()) == (1, 2, 8000)
        return np.frombuffer(file.readframes(file.getnframes()), "<i2")


def changed_packets(one: Any, other: Any) -> list[int]:
    """Those of 20 ms in which the two sound otherwise."""
    return sorted(set((np.flatnonzero(one != other) // 160).tolist()))


def test_a_call_is_heard_as_sent_as_it_came_and_with_media_first(house: House, call: int) -> None:
    told = house.person.get(f"/api/calls/{call}").json["up"]["sound"]
    late = [n for n in QUEUED if abs(n - 60) < 21]  # of them more than 60 ms
    assert (told["from_s"], told["seconds"], told["packets"]) == (0, 2, 100)
    assert told["missed"] == len(LOST) + len(late)
    # The queue is what was late for; the losses before it are none of its own.
    assert told["missed_with_media_first"] == len(LOST)
    path = f"/api/calls/{call}/up.wav"
    sent, heard, mended = (sound(house, f"{path}?what={what}") for what in ("sent", "heard", "media-first"))
    assert len(sent) == len(heard) == len(mended) == 100 * 160
    assert np.abs(sent).max() > 1000
    filled = changed_packets(sent, heard)
    assert set(filled) >= {n for n in (*LOST, *late) if np.any(sent[160 * n : 160 * n + 160])}
    # A packet after a gap is blended in.
    assert set(filled) <= {*LOST, *late, LOST[-1] + 1, late[-1] + 1}
    assert set(changed_packets(sent, mended)) <= {*LOST, LOST[-1] + 1}


def test_what_is_heard_is_judged_as_the_page_is(house: House, call: int) -> None:
    told = house.person.get(f"/api/calls/{call}?buffer_ms=250").json["up"]["sound"]
    assert told["missed"] == len(LOST)
    path = f"/api/calls/{call}/up.wav"
    sent, heard = (sound(house, f"{path}?what={what}&buffer_ms=250") for what in ("sent", "heard"))
    assert set(changed_packets(sent, heard)) <= {*LOST, LOST[-1] + 1}


def test_the_other_direction_has_nothing_to_mend(house: House, call: int) -> None:
    told = house.person.get(f"/api/calls/{call}").json["down"]["sound"]
    assert (told["missed"], told["missed_with_media_first"]) == (0, None)
    refused = house.person.get(f"/api/calls/{call}/down.wav?what=media-first")
    assert (refused.status_code, "No queue stands" in refused.json["detail"]) == (404, True)
    assert changed_packets(*(sound(house, f"/api/calls/{call}/down.wav?what={w}") for w in ("sent", "heard"))) == []


def test_what_cannot_be_heard_is_told(house: House, call: int) -> None:
    for path, status in (
        (f"/api/calls/{call}/sideways.wav", 404),
        (f"/api/calls/{call}/up.wav?codec=morse", 422),
        (f"/api/calls/{call}/up.wav?what=everything", 422),
        ("/api/calls/4711/up.wav", 404),
    ):
        assert house.person.get(path).status_code == status, path
    assert house.app.test_client().get(f"/api/calls/{call}/up.wav").status_code == 401
