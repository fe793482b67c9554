"""A record that was damaged on its way, or made up: taken whole, or turned away whole with a sentence."""

from __future__ import annotations

import zlib
from dataclasses import replace

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tarnfell.store import runs as run_store
from tarnfell.store.db import connect, writing
from tarnfell.store.runs import Run
from tarnfell.wire import WireError
from tarnfell.wire.record import PackedColumn, Record, join_parts, split_parts
from tarnfell.work.ingest.uploads import LEAST_VALUES, MOST_OF_PLAN, check_size
from tests.server.conftest import House, built_house, record_file
from tests.server.test_runs import deliver, taken

WHOLE = record_file(packets=30)
HEAD, FIRST, SECOND = (Record.parse(part) for part in split_parts(WHOLE))
VALUES = st.integers(-(2**70), 2**70) | st.sampled_from(
    [-1, 0, 2**31, 2**63, 1e400, float("nan"), "x", None, [], {}, {"ssrc": "x"}, {"ssrc": 2**32}, {"dscp_sent": 64}]
)


@pytest.fixture(scope="module")
def waiting(tmp_path_factory: pytest.TempPathFactory) -> House:
    house = built_house(tmp_path_factory.mktemp("record"))
    assert taken(house) == 1
    return house


def offered(house: House, body: bytes) -> bool:
    """Whether the record was taken; either way the run is as before afterwards."""
    answer = deliver(house, 1, body)
    assert answer.status_code in (200, 422), answer
    db = connect(house.folder)
    kept = db.execute("SELECT (SELECT count(*) FROM call), (SELECT count(*) FROM direction)").fetchone()
    state = db.execute("SELECT state FROM job").fetchone()[0]
    if answer.status_code == 422:
        assert answer.json["detail"].strip()
        assert tuple(kept) == (0, 0)
        # Turned away at the door the run is as before; by the clerk, it failed.
        assert state == ("failed" if db.execute("SELECT 1 FROM delivery").fetchone() else "taken")
        with writing(db):
            db.execute("DELETE FROM delivery")
            db.execute("UPDATE job SET state = 'taken'")
    else:
        assert (tuple(kept), state) == ((2, 4), "done")
        assert house.person.get("/api/runs/1").status_code == 200
        calls = house.person.get("/api/runs/1/calls")
        assert calls.status_code == 200
        first = calls.json["calls"][0]["id"]
        for page in (f"calls/{first}", f"calls/{first}/up.csv", "runs/1/calls.csv", "sites/pier"):
            told = house.person.get(f"/api/{page}")
            assert told.status_code in (200, 404, 409), (page, told.text)
        assert house.document("/api/runs/1/capture").status_code == 200
        with writing(db):
            db.execute("DELETE FROM direction")
            db.execute("DELETE FROM call")
            db.execute("UPDATE job SET state = 'taken'")
            db.execute("UPDATE run SET record_sha256 = NULL")
    db.close()
    return answer.status_code == 200


def test_the_whole_record_is_taken(waiting: House) -> None:
    assert offered(waiting, WHOLE)


@settings(suppress_health_check=list(HealthCheck), max_examples=60)
@given(st.data())
def test_bytes_changed_on_the_way(waiting: House, data: st.DataObject) -> None:
    body = bytearray(WHOLE)
    for at in data.draw(st.lists(st.integers(0, len(body) - 1), min_size=1, max_size=4)):
        body[at] = data.draw(st.integers(0, 255))
    offered(waiting, bytes(body))


@settings(suppress_health_check=list(HealthCheck), max_examples=30)
@given(st.binary(max_size=300), st.integers(0, len(WHOLE)))
def test_something_else_instead_or_behind(waiting: House, junk: bytes, cut: int) -> None:
    assert not offered(waiting, junk)
    if junk:
        assert not offered(waiting, WHOLE + junk)
    if cut < len(WHOLE):
        assert not offered(waiting, WHOLE[:cut])


@settings(suppress_health_check=list(HealthCheck), max_examples=60)
@given(name=st.sampled_from(sorted(FIRST.meta)), value=VALUES)
def test_what_a_call_says_of_itself(waiting: House, name: str, value: object) -> None:
    """Times beyond every clock, intervals of nothing, numbers that are none."""
    changed = Record({**FIRST.meta, name: value}, FIRST.columns)
    offered(waiting, join_parts([HEAD.serialize(), changed.serialize(), SECOND.serialize()]))


CHECK = {
    "tainted": False,
    "reasons": [],
    "probe": {"send_late_ms": {"p99": 0.2, "max": 1.5}, "priority": "real-time", "receive_stamps": "kernel"},
    "far_end": {"send_late_ms": {"p99": 0.2, "max": 1.5}, "clock_steps": []},
}


@settings(suppress_health_check=list(HealthCheck), max_examples=60)
@given(st.data())
def test_what_the_ends_say_of_themselves(waiting: House, data: st.DataObject) -> None:
    """One thing in the self-check is something else, at any depth: taken or turned away, and no page stumbles."""

    def spoilt(value: object) -> object:
        if not isinstance(value, dict) or data.draw(st.integers(0, 3)) == 0:
            return data.draw(st.sampled_from([None, 5, -1.5, "x", "y" * 600, [], [5], {}, {"p99": "x"}, True, 1e400]))
        name = data.draw(st.sampled_from(sorted(value)))
        return {**value, name: spoilt(value[name])}

    head = Record({**HEAD.meta, "self_check": spoilt(CHECK)}, HEAD.columns)
    offered(waiting, join_parts([head.serialize(), FIRST.serialize(), SECOND.serialize()]))


def test_a_whole_self_check_is_taken(waiting: House) -> None:
    head = Record({**HEAD.meta, "self_check": CHECK}, HEAD.columns)
    assert offered(waiting, join_parts([head.serialize(), FIRST.serialize(), SECOND.serialize()]))


@settings(suppress_health_check=list(HealthCheck), max_examples=60)
@given(data=st.data(), name=st.sampled_from(sorted(FIRST.columns)))
def test_columns_that_cannot_belong_together(waiting: House, data: st.DataObject, name: str) -> None:
    """Fewer values than packets, numbers of packets never sent, times out of all order."""
    columns = {each: FIRST.values(each) for each in FIRST.columns}
    values = columns[name]
    odd = st.sampled_from([-1, 0, 1, 255, 256, 65_536, 2**40, 2**62]) | st.integers(-(2**63), 2**63 - 1)
    length = data.draw(st.sampled_from([0, 1, len(values) - 1, len(values), len(values) + 1]))
    columns[name] = [data.draw(odd) if data.draw(st.booleans()) else v for v in (values * 2)[:length]]
    try:
        changed = Record.of(FIRST.meta, columns).serialize()
    except (WireError, OverflowError, ValueError):
        return  # what cannot be written cannot be sent
    offered(waiting, join_parts([HEAD.serialize(), changed, SECOND.serialize()]))


def test_more_packets_than_the_run_can_have_had_are_not_even_unpacked(house: House) -> None:
    """A hundred megabytes of packets are a hundred kilobytes of zeros when they come."""
    run_id = taken(house, calls=1, seconds=200)
    most = MOST_OF_PLAN * 200 * 50
    parts = split_parts(record_file(calls=1))
    whole = Record.parse(parts[1])
    for count, says in ((most + 1, f"holds {most + 1} values of up.sent_us"), (most, "")):
        swollen = PackedColumn("up.sent_us", count, zlib.compress(bytes(8 * count)))
        columns = {**whole.columns, "up.sent_us": swollen}
        if says:
            with pytest.raises(WireError, match=says):
                check_size(run_of(house, run_id), [parts[0], Record(whole.meta, columns).serialize()])
        else:
            check_size(run_of(house, run_id), [parts[0], Record(whole.meta, columns).serialize()])


def test_a_short_run_may_tell_of_strays(house: House) -> None:
    run = run_of(house, taken(house, calls=1, seconds=1))
    swollen = PackedColumn("up.sent_us", LEAST_VALUES, b"")
    check_size(run, [Record({}, {"up.sent_us": swollen}).serialize()])
    with pytest.raises(WireError, match=r"values of up\.sent_us"):
        check_size(run, [Record({}, {"up.sent_us": replace(swollen, count=LEAST_VALUES + 1)}).serialize()])


def test_a_stream_of_video_has_more_packets_than_a_call(house: House) -> None:
    run = run_of(house, taken(house, calls=1, seconds=200, video=[{"profile": "720p30", "streams": 1}]))
    swollen = Record({}, {"up.sent_us": PackedColumn("up.sent_us", MOST_OF_PLAN * 200 * 50 + 1, b"")}).serialize()
    check_size(run, [swollen])


def run_of(house: House, run_id: int) -> Run:
    db = connect(house.folder)
    try:
        return run_store.run_by_id(db, run_id)
    finally:
        db.close()
