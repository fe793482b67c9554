"""A site's week of calls: its packets simulated, and taken in exactly as a probe's deliveries are."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np

from tarnfell.core.codecs import find_codec
from tarnfell.core.columns import pack_planes
from tarnfell.core.rates import VideoLoad, hold, plan_run
from tarnfell.core.trace import Ints
from tarnfell.core.video import VideoProfile, find_profile
from tarnfell.demo.scenario import USER_NAME
from tarnfell.demo.simulate import Floats, Moved, Stream, Way, move_packets
from tarnfell.demo.truth import DemoSite, Weather, share_busy
from tarnfell.store import calls as call_store
from tarnfell.store import clocks as clock_store
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import writing
from tarnfell.wire.failures import UNREACHABLE, Failure
from tarnfell.wire.record import PackedColumn, Record, join_parts
from tarnfell.work.ingest.uploads import judge_upload

EVERY_MINUTES = 10
SELDOM = 3
"""Times as long between calls outside business hours."""
WATCH_S = 12
HELD_S = 20
EF = 46
_TTL = 57


@dataclass(frozen=True)
class Ids:
    """Of the demo site's rows."""

    site: int
    probe: int
    far_end: int


def write_calls(
    db: sqlite3.Connection, site: DemoSite, ids: Ids, begin: datetime, end: datetime, rng: np.random.Generator
) -> None:
    """A short call every ten minutes of business hours and every half hour besides, and a few runs of several calls."""
    _Calls(db, site, ids, end, rng).write(begin)


class _Calls:
    def __init__(
        self, db: sqlite3.Connection, site: DemoSite, ids: Ids, end: datetime, rng: np.random.Generator
    ) -> None:
        self._db, self._site, self._ids, self._rng = db, site, ids, rng
        self._codec = find_codec(site.values["codec"])
        self._ptime = int(site.values["ptime_ms"])
        self._zone = site.zone
        self._weather = Weather(site, end)
        minutes = end.minute % EVERY_MINUTES
        self._end = end.astimezone(UTC).replace(second=0, microsecond=0) - timedelta(minutes=minutes)

    def write(self, begin: datetime) -> None:
        count = int((self._end - begin).total_seconds()) // 60 // EVERY_MINUTES
        cells = [self._end - timedelta(minutes=EVERY_MINUTES * (count - i)) for i in range(count)]
        starts = [at for i, at in enumerate(cells) if i % SELDOM == 0 or self._is_open(at)]
        # A few seconds into each cell, never at the same instant.
        offsets = self._rng.uniform(5, 240, len(starts))
        moments = np.array([int((s.timestamp() + o) * 1e6) for s, o in zip(starts, offsets, strict=True)])
        self._place(moments, 1, WATCH_S, "watch", ())
        for days_before, hour, calls in self._site.held_runs:
            local = (self._end.astimezone(self._zone) - timedelta(days=days_before)).replace(hour=hour, minute=4)
            while local.isoweekday() > 5:
                local -= timedelta(days=1)
            if local >= begin:
                self._place(np.array([int(local.timestamp() * 1e6)]), calls, HELD_S, "placed", self._video_needed())
        if self._site.held_every_minutes:
            every = self._site.held_every_minutes // EVERY_MINUTES
            open_for = [m for m, s in zip(moments.tolist(), starts, strict=True) if self._is_open(s)]
            # After the short call of the same cell.
            held = np.array([m + 60_000_000 for m in open_for[::every]])
            self._place(held, int(self._site.values["needed_calls"]), WATCH_S, "watch", self._video_needed())

    def _is_open(self, at: datetime) -> bool:
        local, values = at.astimezone(self._zone), self._site.values
        return (
            str(local.isoweekday()) in values.get("open_days", "12345")
            and values["open_minute"] <= local.hour * 60 + local.minute < values["close_minute"]
        )

    def _video_needed(self) -> tuple[VideoLoad, ...]:
        return tuple(VideoLoad(v.profile, v.streams) for v in self._site.values.get("video", ()))

    def _place(self, moments: Ints, calls: int, seconds: int, purpose: str, video: tuple[VideoLoad, ...]) -> None:
        """``calls`` calls and the video beside them at each moment."""
        down = np.array([self._weather.is_down(m, m + seconds * 1_000_000) for m in moments.tolist()], bool)
        for moment in moments[down].tolist():
            self._not_placed(self._asked(moment, calls, seconds, purpose, video), moment)
        moments = moments[~down]
        if not len(moments):
            return
        kinds = [(Stream.even(seconds * 1000 // self._ptime, self._ptime), calls)]
        kinds += [(_pictures(find_profile(load.profile), seconds), load.streams) for load in video]
        own = plan_run(self._codec, self._ptime, hold(calls, seconds), video=video).each_way_ipv4_kbps
        up = move_packets(self._links("up", moments), moments, kinds, own, self._rng)
        down_ = move_packets(self._links("down", moments), moments, kinds, own, self._rng)
        for row, moment in enumerate(moments.tolist()):
            head = {"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": False}
            parts = [Record(head), *self._calls(moment, up[0], down_[0], row * calls, calls)]
            first = 1
            for load, there, back in zip(video, up[1:], down_[1:], strict=True):
                parts += self._video(moment, load, there, back, row * load.streams, first)
                first += load.streams
            run_id = self._asked(moment, calls, seconds, purpose, video)
            self._take_in(run_id, moment, seconds, join_parts(part.serialize() for part in parts))

    def _links(self, way: str, moments: Ints) -> list[tuple[Way, Floats]]:
        site, up = self._site, way == "up"
        line, by_hour = (site.up, site.up_load) if up else (site.down, site.down_load)
        assert line is not None
        links = [(line, share_busy(by_hour, moments, self._zone, site.weekend_share))]
        if site.inside:
            busy = share_busy(site.inside.load, moments, self._zone, site.weekend_share)
            links.append((site.inside.up if up else site.inside.down, busy))
        return links

    def _calls(self, moment: int, up: Moved, down: Moved, row: int, calls: int) -> Iterator[Record]:
        size = np.full(up.sent_us.shape[1], self._codec.payload_bytes(self._ptime) + 12)
        for n in range(calls):
            about = {"call": n + 1, "ptime_us": self._ptime * 1000}
            yield self._record(about, moment, up, down, row + n, size, EF)

    def _video(self, moment: int, load: VideoLoad, up: Moved, down: Moved, row: int, first: int) -> Iterator[Record]:
        profile = find_profile(load.profile)
        size = profile.payload_of(np.arange(up.sent_us.shape[1])) + 12
        for n in range(load.streams):
            about = {"video": first + n, "profile": profile.name, "ptime_us": profile.frame_us}
            yield self._record(about, moment, up, down, row + n, size, load.dscp)

    def _record(
        self, about: Mapping[str, object], moment: int, up: Moved, down: Moved, row: int, size: Ints, dscp: int
    ) -> Record:
        columns: dict[str, PackedColumn] = {}
        for name, moved in (("up", up), ("down", down)):
            lost = self._rng.random(len(size)) < self._weather.share_lost(moved.sent_us[row], size)
            arrived = np.flatnonzero(moved.arrived[row] & ~lost)
            same = np.ones(len(arrived), np.int64)
            seen = dscp if self._site.marking_up or name == "down" else 0
            for column, values in (
                ("sent_us", moved.sent_us[row]),
                ("arrival_seq", arrived),
                ("arrival_us", moved.recv_us[row][arrived]),
                ("arrival_dscp", seen * same),
                ("arrival_ttl", _TTL * same),
                ("arrival_bytes", size[arrived]),
            ):
                packed = zlib.compress(pack_planes(values), 4)
                columns[f"{name}.{column}"] = PackedColumn(f"{name}.{column}", len(values), packed)
        ssrc = self._rng.integers(0, 1 << 32, 2).tolist()
        meta = {
            **about,
            "planned_packets": up.sent_us.shape[1],
            "start_us": moment,
            "far_port": 20000 + row,
            "bound": True,
            "up": {"ssrc": ssrc[0], "dscp_sent": dscp},
            "down": {"ssrc": ssrc[1], "dscp_sent": dscp},
        }
        return Record(meta, columns)

    def _asked(self, moment: int, calls: int, seconds: int, purpose: str, video: tuple[VideoLoad, ...]) -> int:
        """A run that the probe has taken; its number."""
        spec = run_store.RunSpec(
            site_id=self._ids.site,
            probe_id=self._ids.probe,
            far_end_id=self._ids.far_end,
            purpose=purpose,
            codec=self._codec.name,
            ptime_ms=self._ptime,
            calls=calls,
            seconds=seconds,
            dscp=EF,
            video=video,
        )
        words = "Requested by the watch plan." if purpose == "watch" else f"Requested by {USER_NAME}."
        with writing(self._db):
            run = run_store.add_run(self._db, spec, words, moment - 2_000_000)
            job_store.move(self._db, run.id, "taken", f"Picked up by {self._site.probe}.", moment - 1_000_000)
        return run.id

    def _not_placed(self, run_id: int, moment: int) -> None:
        name, _, address = self._site.far_end
        reason = f"The far end {name} cannot be reached on TCP {address} port 4870: timed out."
        with writing(self._db):
            job_store.keep_failure(self._db, run_id, Failure(UNREACHABLE, reason, server_reachable=False))
            job_store.move(self._db, run_id, "failed", reason, moment + 10_000_000)

    def _take_in(self, run_id: int, moment: int, seconds: int, upload: bytes) -> None:
        db = self._db
        with writing(db):
            job_store.move(db, run_id, "running", "Packets are being sent.", moment)
        run = run_store.run_by_id(db, run_id)
        judged = judge_upload(run, upload, self._codec, clock_store.runs_of_pair(db, run))
        with writing(db):
            call_store.take_in(db, run, judged, moment + (seconds + 3) * 1_000_000)


def packed(columns: Iterable[tuple[str, Ints]]) -> dict[str, PackedColumn]:
    """As a probe packs them."""
    return {name: PackedColumn(name, len(values), zlib.compress(pack_planes(values), 4)) for name, values in columns}


def _pictures(profile: VideoProfile, seconds: int) -> Stream:
    """As a sender paces it: a frame's packets spread over the first half of its time."""
    frame = profile.frame_of(np.arange(profile.packets_in(seconds * profile.frames_per_s)))
    first = np.searchsorted(frame, frame)
    count = np.bincount(frame)[frame]
    interval_ms = profile.frame_us / 1000
    due = frame * interval_ms + (np.arange(len(frame)) - first) * interval_ms / (2 * count)
    return Stream(due, interval_ms)
