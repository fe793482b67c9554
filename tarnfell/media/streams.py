"""What one direction of one call sends: the description both ends agree on before anything flows."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from functools import cached_property
from typing import Any, NamedTuple

from tarnfell.wire import WireError

MAX_STREAMS = 100
"""In each direction of one run: a call has one, video has one a picture."""
MAX_PACKETS = 1_500_000
"""In one direction of one call: over four hours at 10 ms."""
MAX_FRAME_PACKETS = 400
_OVERHEAD_BYTES = 40  # RTP, UDP, IPv4


@dataclass(frozen=True)
class FramePattern:
    """How the packets of a video stream make up frames: payload bytes of each packet of the two kinds of frame."""

    refresh: tuple[int, ...]
    ordinary: tuple[int, ...]
    every: int
    """Frames from one refresh frame to the next."""


class Due(NamedTuple):
    """One packet of a stream, before it is sent."""

    after_us: int
    """After the stream's first packet."""
    payload_bytes: int
    marker: bool
    ticks: int
    """RTP timestamp, from the stream's first."""


@dataclass(frozen=True)
class StreamSpec:
    """One RTP stream: names as in RFC 3550, times in microseconds."""

    ssrc: int
    payload_type: int
    clock_hz: int
    payload_bytes: int
    """Of every packet; where ``frames`` are given they say it."""
    ptime_us: int
    """From one packet to the next; from one frame to the next for video."""
    packets: int
    """0 for a direction in which nothing is sent."""
    first_sequence: int
    first_timestamp: int
    start_us: int
    """After the run's start; spreads the calls over the packet interval."""
    dscp: int
    frames: FramePattern | None = None
    """For video; None where every packet is alike."""

    @cached_property
    def _cycle(self) -> tuple[tuple[int, int, bool, int], ...]:
        """Offset, size, marker and frame of each packet up to where all repeats."""
        if self.frames is None:
            return ((0, self.payload_bytes, False, 0),)
        found = []
        for frame in range(self.frames.every):
            sizes = self.frames.ordinary if frame else self.frames.refresh
            for i, size in enumerate(sizes):
                # Spread over the first half of the frame's time, as senders pace it; all at once would be a burst.
                at = frame * self.ptime_us + i * self.ptime_us // (2 * len(sizes))
                found.append((at, size, i == len(sizes) - 1, frame))
        return tuple(found)

    @property
    def _cycle_frames(self) -> int:
        return self.frames.every if self.frames else 1

    def due(self, number: int) -> Due:
        """When packet ``number`` (from 0) is due and what it is; the marker ends a frame (RFC 3551 §5)."""
        cycle, place = divmod(number, len(self._cycle))
        after, size, ends, frame = self._cycle[place]
        frame += cycle * self._cycle_frames
        # A talk spurt's first packet carries the marker (RFC 3551 §4.1); sound here is one long spurt.
        marker = ends if self.frames else number == 0
        after += cycle * self._cycle_frames * self.ptime_us
        return Due(after, size, marker, frame * self.ptime_us * self.clock_hz // 1_000_000)

    @property
    def largest_payload(self) -> int:
        return max(size for _, size, _, _ in self._cycle)

    @property
    def length_us(self) -> int:
        """From its first packet to the end of its last interval; 0 where nothing is sent."""
        if not self.packets:
            return 0
        return self.due(self.packets - 1).after_us + self.ptime_us

    def octets(self, packets: int) -> int:
        """Payload bytes of the first ``packets`` packets."""
        sizes = [size for _, size, _, _ in self._cycle]
        cycles, rest = divmod(packets, len(sizes))
        return cycles * sum(sizes) + sum(sizes[:rest])

    @property
    def rate_bps(self) -> int:
        """At IPv4, in the mean over the pattern; 0 where nothing is sent."""
        if not self.packets:
            return 0
        total = sum(size + _OVERHEAD_BYTES for _, size, _, _ in self._cycle)
        return total * 8_000_000 // (self.ptime_us * self._cycle_frames)

    def as_json(self) -> dict[str, object]:
        """Without ``frames`` where there are none."""
        values = asdict(self)
        if self.frames is None:
            del values["frames"]
        return values

    @staticmethod
    def from_json(value: Any) -> StreamSpec:
        """Raises WireError for anything a far end should not be asked to send."""
        if not isinstance(value, dict):
            raise WireError("Stream description: fields missing or unknown.")
        limits = {
            "ssrc": (0, 0xFFFFFFFF),
            "payload_type": (0, 127),
            "clock_hz": (8000, 192_000),
            "payload_bytes": (1, 1400),
            "ptime_us": (10_000, 60_000 if "frames" not in value else 1_000_000),
            "packets": (0, MAX_PACKETS),
            "first_sequence": (0, 0xFFFF),
            "first_timestamp": (0, 0xFFFFFFFF),
            "start_us": (0, 10_000_000),
            "dscp": (0, 63),
        }
        if set(value) - {"frames"} != set(limits):
            raise WireError("Stream description: fields missing or unknown.")
        for name, (low, high) in limits.items():
            number = value[name]
            if type(number) is not int or not low <= number <= high:
                raise WireError(f"Stream description: {name} must be a whole number from {low} to {high}.")
        frames = _frames_from_json(value["frames"]) if "frames" in value else None
        return StreamSpec(**{name: value[name] for name in limits}, frames=frames)


def _frames_from_json(value: Any) -> FramePattern:
    """Raises WireError."""
    try:
        pattern = FramePattern(tuple(value["refresh"]), tuple(value["ordinary"]), value["every"])
    except (TypeError, KeyError):
        raise WireError("Stream description: frames must give refresh, ordinary and every.") from None
    if type(pattern.every) is not int or not 1 <= pattern.every <= 10_000:
        raise WireError("Stream description: frames.every must be a whole number from 1 to 10000.")
    for sizes in (pattern.refresh, pattern.ordinary):
        if not 1 <= len(sizes) <= MAX_FRAME_PACKETS or any(type(s) is not int or not 1 <= s <= 1400 for s in sizes):
            raise WireError(f"Stream description: a frame is 1 to {MAX_FRAME_PACKETS} packets of 1 to 1400 bytes.")
    return pattern
