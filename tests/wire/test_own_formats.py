"""Packet records and control frames: ours, so written down in docs/protocol.md and just as hard to break."""

from __future__ import annotations

import hmac
import struct
from array import array

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tarnfell.media.streams import StreamSpec
from tarnfell.wire import WireError
from tarnfell.wire.control import (
    BINARY_KIND,
    BIND,
    HEAD_BYTES,
    JSON_KIND,
    Binding,
    FrameHead,
    Seal,
    parse_json,
    session_key,
)
from tarnfell.wire.record import PackedColumn, Record, join_parts, pack_column, split_parts

numbers = st.lists(st.integers(-(2**60), 2**60), max_size=40)


@given(st.dictionaries(st.text(min_size=1, max_size=8), numbers, max_size=4))
def test_record_round_trip(columns: dict[str, list[int]]) -> None:
    record = Record.of({"call": 1}, columns)
    again = Record.parse(record.serialize())
    assert again.meta == {"call": 1}
    assert {name: again.values(name) for name in columns} == columns


def test_regular_traffic_shrinks() -> None:
    """Fifty packets a second with a hundred microseconds of scatter: under two bytes a packet."""
    times = [i * 20_000 + (i * 7919) % 100 for i in range(5000)]
    assert len(Record.of({}, {"sent_us": times}).serialize()) < 2 * len(times)


@given(st.binary(max_size=200))
def test_hostile_records_raise_only_the_one_error(data: bytes) -> None:
    for parse in (Record.parse, split_parts, lambda d: Record.parse(b"TFR1" + d)):
        try:
            parse(data)
        except WireError:
            pass


@given(st.data())
def test_damaged_records_raise_only_the_one_error(data: st.DataObject) -> None:
    whole = bytearray(Record.of({"call": 1}, {"a": list(range(30)), "b": [5] * 30}).serialize())
    for _ in range(3):
        whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    try:
        record = Record.parse(bytes(whole[: data.draw(st.integers(0, len(whole)))]))
        for name in record.columns:
            record.values(name)
    except WireError:
        pass


def test_a_column_that_inflates_beyond_its_count_is_turned_away() -> None:
    honest = Record.of({}, {"a": [1] * 100_000}).columns["a"]
    with pytest.raises(WireError, match="does not hold 3 values"):
        PackedColumn("a", 3, honest.deflated).values()


@given(st.lists(st.binary(max_size=50), max_size=5))
def test_parts_round_trip(parts: list[bytes]) -> None:
    assert split_parts(join_parts(parts)) == parts


def frame_parts(frame: bytes) -> tuple[FrameHead, bytes]:
    return FrameHead.parse(frame[:HEAD_BYTES]), frame[HEAD_BYTES:]


def test_sealed_frames_open_once_in_order_and_only_in_their_direction() -> None:
    key = session_key(b"shared", b"a" * 16, b"b" * 16, "control")
    writer = Seal("probe", key)
    first, second = writer.frame(JSON_KIND, b'{"x":1}'), writer.frame(BINARY_KIND, b"record")
    reader = Seal("probe", key)
    head, rest = frame_parts(first)
    assert parse_json(reader.open(head.kind, rest)) == {"x": 1}
    with pytest.raises(WireError, match="authentication failed"):
        reader.open(head.kind, rest)  # the same frame again
    head, rest = frame_parts(second)
    with pytest.raises(WireError, match="authentication failed"):
        Seal("farend", key).open(head.kind, rest)
    with pytest.raises(WireError, match="authentication failed"):
        Seal("probe", session_key(b"other", b"a" * 16, b"b" * 16, "control")).open(head.kind, rest)


def test_frames_too_long_or_of_unknown_kind_are_not_waited_for() -> None:
    for head in (b"\xff\xff\xff\xff\x01", b"\x00\x00\x00\x01\x09"):
        with pytest.raises(WireError):
            FrameHead.parse(head)


@given(st.binary(max_size=80))
def test_hostile_json_and_bindings(data: bytes) -> None:
    for parse in (parse_json, lambda d: Binding.parse(d, b"key")):
        try:
            parse(data)
        except WireError:
            pass


def test_binding_needs_the_session_key() -> None:
    packet = Binding(BIND, 7, b"c" * 16).serialize(b"key")
    assert Binding.parse(packet, b"key") == Binding(BIND, 7, b"c" * 16)
    with pytest.raises(WireError):
        Binding.parse(packet, b"other")


GOOD_STREAM = StreamSpec(1, 0, 8000, 160, 20_000, 50, 0, 0, 0, 46)


def test_stream_descriptions_are_checked_field_by_field() -> None:
    assert StreamSpec.from_json(GOOD_STREAM.as_json()) == GOOD_STREAM
    for name, value in (
        ("payload_bytes", 1_000_000),
        ("packets", 10**9),
        ("ptime_us", 1),
        ("dscp", 64),
        ("ssrc", "1"),
        ("packets", True),
    ):
        with pytest.raises(WireError, match=name):
            StreamSpec.from_json({**GOOD_STREAM.as_json(), name: value})
    with pytest.raises(WireError, match="missing or unknown"):
        StreamSpec.from_json({"ssrc": 1})


@settings(max_examples=200)
@given(
    st.integers(-(2**40), 2**40),
    st.integers(-(2**20), 2**20),
    st.integers(0, 40),
    st.lists(st.tuples(st.integers(0, 39), st.integers(-3, 3)), max_size=2),
)
def test_even_columns_are_packed_to_the_same_bytes(first: int, step: int, count: int, bumps: list) -> None:
    """What is found even is written without a loop; a bump anywhere sends it the long way."""
    values = [first + i * step for i in range(count)]
    for at, by in bumps:
        if at < count:
            values[at] += by
    assert pack_column("x", array("q", values)) == pack_column("x", values)
    assert pack_column("x", array("q", values)).values() == values


@pytest.mark.parametrize(
    ("code", "values"),
    [
        ("B", [46] * 9),
        ("B", [0, 1, 2]),
        ("B", [250, 251, 255]),
        ("H", [65_535] * 3),
        ("H", [3, 2, 1]),
        ("q", [2**62] * 3),
        ("q", [7]),
        ("q", []),
    ],
)
def test_columns_of_every_width(code: str, values: list[int]) -> None:
    assert pack_column("x", array(code, values)).values() == values


def test_a_sealed_frame_is_what_older_programs_seal() -> None:
    """The direction, eight bytes of its number, its kind and its body (docs/protocol.md), by HMAC-SHA-256."""
    seal = Seal("probe", b"k" * 32)
    for number in range(2):
        text = b"probe" + bytes([0] * 7 + [number]) + bytes([JSON_KIND]) + b"hi"
        mac = hmac.digest(b"k" * 32, text, "sha256")
        assert seal.frame(JSON_KIND, b"hi") == struct.pack("!IB", 34, JSON_KIND) + b"hi" + mac
