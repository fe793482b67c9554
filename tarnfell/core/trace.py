"""The packet trace: one direction of one stream, the structure every call measurement starts from.

A trace is what was sent and what of it arrived, each on its own clock.
Everything else in ``core`` is computed from traces and never changes them.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]

GIVE_UP_US = 2_000_000
"""A packet not in by two seconds after the last one was sent is lost."""

MAX_SPAN_US = 8 * 24 * 3600 * 1_000_000
"""A stream is judged second by second; what claims to be longer than this has a clock that was set."""
LAST_US = 221_845_392_000_000_000
"""The year 9000: no calendar here goes on for much longer."""

NOT_ARRIVED = np.iinfo(np.int64).min


class TraceError(ValueError):
    """A trace that contradicts itself; the text says where."""


@dataclass(frozen=True)
class Trace:
    """Packets in the order of their extended sequence number, each once.

    ``seq``, ``sent_us`` and ``recv_us`` have shape (sent,), microseconds on the
    sender's and the receiver's clock; ``recv_us`` is the first arrival or
    ``NOT_ARRIVED``.
    """

    seq: Ints
    sent_us: Ints
    recv_us: Ints
    duplicates: int = 0

    def __len__(self) -> int:
        return len(self.seq)

    @cached_property
    def arrived(self) -> Bools:
        """Shape (sent,): whether a copy arrived in time to be counted."""
        return np.asarray(self.recv_us != NOT_ARRIVED)

    @cached_property
    def arrival_order(self) -> Ints:
        """Indices of the packets that arrived, by time of arrival; equal times keep sequence order."""
        index = np.flatnonzero(self.arrived)
        times = self.recv_us[index]
        if len(times) < 2 or bool(np.all(times[1:] >= times[:-1])):
            return index
        return index[np.argsort(times, kind="stable")]

    @cached_property
    def delay_us(self) -> Ints:
        """Shape (received,): one-way delay of the packets that arrived, in sequence order, both clocks as given."""
        return (self.recv_us - self.sent_us)[self.arrived]

    def shifted(self, offset_us: float, skew_ppm: float = 0.0, reference_us: int = 0) -> Trace:
        """The same trace with arrivals moved on to the sender's clock.

        ``offset_us`` is receiver minus sender at ``reference_us`` (receiver's clock), growing by ``skew_ppm``.
        """
        moved = self.recv_us - np.rint(offset_us + (self.recv_us - reference_us) * (skew_ppm * 1e-6)).astype(np.int64)
        return Trace(self.seq, self.sent_us, np.where(self.arrived, moved, NOT_ARRIVED), self.duplicates)


def build_trace(seq: Ints, sent_us: Ints, arrival_seq: Ints, arrival_us: Ints) -> Trace:
    """A trace from the sender's record and the receiver's, arrivals in any order, duplicates included.

    ``seq`` must rise strictly and ``sent_us`` must not fall. Arrivals of
    packets never sent are refused, and so are times that cannot be. Raises TraceError.
    """
    if len(seq) != len(sent_us) or len(arrival_seq) != len(arrival_us):
        raise TraceError("The columns of the trace differ in length.")
    if len(seq) == 0:
        raise TraceError("The trace holds no packet.")
    if bool(np.any(np.diff(seq) <= 0)):
        raise TraceError("Sequence numbers must rise from packet to packet.")
    for times in (sent_us, arrival_us):
        if len(times) and not -LAST_US <= int(np.min(times)) <= int(np.max(times)) <= LAST_US:
            raise TraceError("A time lies beyond every calendar.")
    back = np.flatnonzero(np.diff(sent_us) < 0)
    if len(back):
        raise TraceError(
            f"Send times go backwards at sequence number {int(seq[back[0] + 1])}: the sender's clock was set back, "
            "or the rows are not in the order they were sent."
        )
    if int(sent_us[-1]) - int(sent_us[0]) > MAX_SPAN_US:
        raise TraceError(
            f"The last packet was sent {(int(sent_us[-1]) - int(sent_us[0])) / 86_400e6:.0f} days after the first: "
            "the sender's clock was set on, or the times are not in microseconds."
        )
    place = np.searchsorted(seq, arrival_seq)
    known = (place < len(seq)) & (seq[np.minimum(place, len(seq) - 1)] == arrival_seq)
    if not bool(np.all(known)):
        stray = int(arrival_seq[np.flatnonzero(~known)[0]])
        raise TraceError(f"Sequence number {stray} arrived but was never sent.")
    never = np.iinfo(np.int64).max
    first = np.full(len(seq), never)
    first[place] = arrival_us
    arrived = first != never
    if np.count_nonzero(arrived) < len(place):
        # Some came twice: the earlier counts.
        first[:] = never
        np.minimum.at(first, place, arrival_us)
    if bool(np.any(arrived)):
        floor = int(np.min((first - sent_us)[arrived]))
        # Clocks that were never set to each other show as a fastest packet before it was sent or seconds after;
        # the cut-off is then taken from that fastest packet.
        apart = 0 if 0 <= floor < GIVE_UP_US else floor
        first[arrived & (first - apart > int(sent_us[-1]) + GIVE_UP_US)] = never
    recv = np.where(first == never, NOT_ARRIVED, first)
    return Trace(
        seq=np.asarray(seq, np.int64),
        sent_us=np.asarray(sent_us, np.int64),
        recv_us=recv,
        duplicates=int(len(place) - np.count_nonzero(arrived)),
    )
