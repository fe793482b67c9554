"""Which two streams of a capture are the two directions of one call."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from tarnfell.exchange.streams import FoundStream


def pairs_of(streams: Sequence[FoundStream]) -> list[tuple[int, int]]:
    """Streams that are the two directions of one call: between the same ports, or where only one fits between the same
    hosts; of the same media, and at the same time for half of the shorter."""
    free = list(range(len(streams)))
    found: list[tuple[int, int]] = []
    for by in (_ports, _hosts):
        for i in list(free):
            if i not in free:
                continue
            fitting = [j for j in free if j != i and _answers(streams[i], streams[j], by)]
            if len(fitting) == 1 and (by is _ports or _only_one(streams, free, fitting[0], by)):
                found.append((min(i, fitting[0]), max(i, fitting[0])))
                free = [k for k in free if k not in (i, fitting[0])]
    return sorted(found)


def _ports(stream: FoundStream) -> tuple[str, str]:
    return stream.source, stream.destination


def _hosts(stream: FoundStream) -> tuple[str, str]:
    return stream.source.rpartition(":")[0], stream.destination.rpartition(":")[0]


def _answers(one: FoundStream, other: FoundStream, by: Callable[[FoundStream], tuple[str, str]]) -> bool:
    if one.media != other.media or by(one) != by(other)[::-1]:
        return False
    spans = [(s.first_us, s.first_us + int(s.trace.sent_us[-1] - s.trace.sent_us[0])) for s in (one, other)]
    common = min(spans[0][1], spans[1][1]) - max(spans[0][0], spans[1][0])
    return common >= min(end - begin for begin, end in spans) / 2


def _only_one(
    streams: Sequence[FoundStream], free: list[int], j: int, by: Callable[[FoundStream], tuple[str, str]]
) -> bool:
    return sum(_answers(streams[j], streams[k], by) for k in free if k != j) == 1
