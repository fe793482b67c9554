"""What one direction of one call sends: the description both ends agree on before anything flows."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from tarnfell.wire import WireError

MAX_CALLS = 100
MAX_PACKETS = 1_500_000
"""In one direction of one call: over four hours at 10 ms."""


@dataclass(frozen=True)
class StreamSpec:
    """One RTP stream: names as in RFC 3550, times in microseconds."""

    ssrc: int
    payload_type: int
    clock_hz: int
    payload_bytes: int
    ptime_us: int
    packets: int
    first_sequence: int
    first_timestamp: int
    start_us: int
    """After the run's start; spreads the calls over the packet interval."""
    dscp: int

    @property
    def timestamp_step(self) -> int:
        return self.clock_hz * self.ptime_us // 1_000_000

    def as_json(self) -> dict[str, int]:
        return asdict(self)

    @staticmethod
    def from_json(value: Any) -> StreamSpec:
        """Raises WireError for anything a far end should not be asked to send."""
        limits = {
            "ssrc": (0, 0xFFFFFFFF),
            "payload_type": (0, 127),
            "clock_hz": (8000, 192_000),
            "payload_bytes": (1, 1400),
            "ptime_us": (10_000, 60_000),
            "packets": (1, MAX_PACKETS),
            "first_sequence": (0, 0xFFFF),
            "first_timestamp": (0, 0xFFFFFFFF),
            "start_us": (0, 10_000_000),
            "dscp": (0, 63),
        }
        if not isinstance(value, dict) or set(value) != set(limits):
            raise WireError("Stream description: fields missing or unknown.")
        for name, (low, high) in limits.items():
            number = value[name]
            if type(number) is not int or not low <= number <= high:
                raise WireError(f"Stream description: {name} must be a whole number from {low} to {high}.")
        return StreamSpec(**value)
