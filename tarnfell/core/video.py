"""Video as streams of frames: profiles, and how a frame is cut into packets. ``picture`` judges what arrived.

A refresh frame (I) comes every ``refresh_s`` and weighs ``refresh_weight`` ordinary (P) frames; all others build on
the one before. The bit rates are planning values, set in the middle of what meeting services ask for.
"""

from __future__ import annotations

import csv
import math
from dataclasses import dataclass
from functools import cache
from importlib import resources

import numpy as np

from tarnfell.core.trace import Ints

CLOCK_HZ = 90_000
"""RTP timestamp rate of video payload formats (RFC 3551 §5)."""
PAYLOAD_TYPE = 96
"""First of the dynamic ones (RFC 3551 §6)."""
DEFAULT_DSCP = 34
"""AF41, for multimedia conferencing (RFC 4594 §4.3)."""
MAX_PAYLOAD_BYTES = 1200


@dataclass(frozen=True)
class VideoProfile:
    name: str
    title: str
    width: int
    height: int
    frames_per_s: int
    kbps: int
    refresh_s: int
    refresh_weight: int

    @property
    def frames_per_refresh(self) -> int:
        return self.frames_per_s * self.refresh_s

    def frame_bytes(self) -> tuple[int, int]:
        """Bytes of a refresh frame and of an ordinary one; together they keep the bit rate."""
        whole = self.kbps * 1000 / 8 * self.refresh_s
        ordinary = whole / (self.frames_per_refresh - 1 + self.refresh_weight)
        return round(ordinary * self.refresh_weight), round(ordinary)

    def packets(self, frame_bytes: int) -> list[int]:
        """Payload bytes of the packets a frame is cut into: as few as possible, near equal."""
        count = max(1, math.ceil(frame_bytes / MAX_PAYLOAD_BYTES))
        small, over = divmod(frame_bytes, count)
        return [small + (1 if i < over else 0) for i in range(count)]

    @property
    def frame_us(self) -> int:
        """From one frame to the next."""
        return round(1_000_000 / self.frames_per_s)

    def cut(self) -> tuple[list[int], list[int]]:
        """Payload bytes of the packets of a refresh frame, and of an ordinary one."""
        refresh, ordinary = self.frame_bytes()
        return self.packets(refresh), self.packets(ordinary)

    def packets_per_s(self) -> float:
        """In the mean over one refresh interval."""
        refresh, ordinary = self.cut()
        return (len(refresh) + (self.frames_per_refresh - 1) * len(ordinary)) / self.refresh_s

    def packets_in(self, frames: int) -> int:
        """Packets of the first ``frames`` frames of a stream."""
        refresh, ordinary = self.cut()
        refreshes = -(-frames // self.frames_per_refresh)
        return refreshes * len(refresh) + (frames - refreshes) * len(ordinary)

    def payload_of(self, number: Ints) -> Ints:
        """Payload bytes of each packet, counted from 0. Same shape."""
        refresh, ordinary = self.cut()
        cycle = np.array(refresh + ordinary * (self.frames_per_refresh - 1))
        return np.asarray(cycle[np.asarray(number) % len(cycle)])

    def frame_of(self, number: Ints) -> Ints:
        """The frame each packet belongs to; packets and frames are counted from 0. Same shape."""
        refresh, ordinary = self.cut()
        each = len(refresh) + (self.frames_per_refresh - 1) * len(ordinary)
        cycle, place = np.divmod(np.asarray(number), each)
        within = np.where(place < len(refresh), 0, 1 + (place - len(refresh)) // len(ordinary))
        return np.asarray(cycle * self.frames_per_refresh + within)


class VideoError(ValueError):
    """A video profile that does not exist."""


@cache
def video_profiles() -> dict[str, VideoProfile]:
    text = resources.files(__package__).joinpath("video.csv").read_text(encoding="utf-8")
    profiles = [
        VideoProfile(row["name"], row["title"], *(int(row[field]) for field in list(row)[2:]))
        for row in csv.DictReader(text.splitlines())
    ]
    return {p.name: p for p in profiles}


def find_profile(name: str) -> VideoProfile:
    """Raises VideoError."""
    try:
        return video_profiles()[name]
    except KeyError:
        raise VideoError(f"There is no video profile “{name}”. There are {', '.join(video_profiles())}.") from None
