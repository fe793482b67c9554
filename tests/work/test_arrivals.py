"""What arrived, as a capture of a run has it: markings and TTLs that were told, and what stands in for the others."""

from __future__ import annotations

from tarnfell.wire.record import Record
from tarnfell.work.ingest.packets import arrivals_of


def record(**columns: list[int]) -> Record:
    told = {"up.arrival_seq": [3, 1, 2], "up.arrival_us": [30, 10, 20]}
    return Record.of({"up": {"dscp_sent": 46}}, told | {f"up.{name}": values for name, values in columns.items()})


def test_in_the_order_they_came_with_what_the_system_told() -> None:
    whole = record(arrival_dscp=[46, 0, 63], arrival_ttl=[57, 0, 254])
    assert list(arrivals_of(whole, "up")) == [(3, 30, 46, 57), (1, 10, 0, 0), (2, 20, 63, 254)]


def test_what_was_not_told_or_cannot_be_is_what_was_sent() -> None:
    strange = record(arrival_dscp=[64, -1, 255], arrival_ttl=[255, -1, 256])
    assert list(arrivals_of(strange, "up")) == [(3, 30, 46, 64), (1, 10, 46, 64), (2, 20, 46, 64)]
    assert list(arrivals_of(record(), "up")) == [(3, 30, 46, 64), (1, 10, 46, 64), (2, 20, 46, 64)]


def test_a_direction_without_arrivals_has_none_and_times_are_within_what_a_capture_holds() -> None:
    assert list(arrivals_of(record(), "down")) == []
    early = Record.of({"up": {}}, {"up.arrival_seq": [1, 2], "up.arrival_us": [-5, 1 << 62]})
    (_, first, mark, _), (_, last, _, _) = arrivals_of(early, "up")
    assert (first, mark) == (0, 0)
    assert 1 << 50 < last < 1 << 62
