"""Seven days of calls and samples at the demo's sites, taken in exactly as a probe's uploads are."""

from __future__ import annotations

import sqlite3
import zlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.codecs import find_codec
from tarnfell.core.columns import pack_planes
from tarnfell.core.rates import VideoLoad, hold, plan_run
from tarnfell.core.trace import Ints
from tarnfell.core.video import VideoProfile, find_profile
from tarnfell.demo.alerts import keep_rules
from tarnfell.demo.samples import write_samples
from tarnfell.demo.scenario import ENGAGEMENT, PASSWORD, SEED, SITES, USER_EMAIL, USER_NAME, DemoSite
from tarnfell.demo.simulate import Moved, Stream, Way, move_packets
from tarnfell.store import calls as call_store
from tarnfell.store import clocks as clock_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.people import add_user
from tarnfell.store.probes import add_probe, enrol, invite
from tarnfell.store.runs import Run
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.wire.record import PackedColumn, Record, join_parts
from tarnfell.work.ingest.uploads import judge_upload

DAYS = 7
EVERY_MINUTES = 10
WATCH_S = 12
HELD_S = 20
EF = 46
_TTL = 57

Progress = Callable[[str], None]


@dataclass(frozen=True)
class _Ids:
    site: int
    probe: int
    far_end: int


def make_history(folder: Path, end: datetime, tell: Progress = lambda _: None, days: int = DAYS) -> None:
    """The scenario in a new database in ``folder``, its ``days`` ending at ``end`` (with a zone)."""
    db = open_database(folder)
    watched: list[tuple[DemoSite, _Ids, np.random.Generator]] = []
    try:
        with writing(db):
            add_user(db, USER_EMAIL, USER_NAME, PASSWORD)
            engagement = add_engagement(db, **ENGAGEMENT)
            for number, site in enumerate(SITES):
                ids = _set_up(db, engagement, site)
                if site.up and site.down:
                    tell(f"{site.values['name']}: {days} days of calls")
                    _enrolled(db, ids.probe, end - timedelta(days=days), end)
                    _SiteHistory(db, site, ids, end, np.random.default_rng([SEED, number])).write(days)
                    watched.append((site, ids, np.random.default_rng([SEED, number, 1])))
        for site, ids, rng in watched:
            tell(f"{site.values['name']}: {days} days of samples")
            write_samples(db, site, ids.probe, ids.far_end, end - timedelta(days=days), end, rng)
        keep_rules(db, engagement, end - timedelta(days=days))
    finally:
        db.close()


def _set_up(db: sqlite3.Connection, engagement: int, site: DemoSite) -> _Ids:
    site_id = site_store.add_site(db, engagement, **site.values)
    name, place, address = site.far_end
    shared = {f.name: f.id for f in place_store.far_ends(db)}
    far_end = shared.get(name) or place_store.add_far_end(db, name, place, address, 4870, "demo-key-of-no-real-far-end")
    place_store.choose_far_end(db, site_id, far_end)
    probe = add_probe(db, site_id, place_store.add_test_point(db, site_id, site.test_point, "desk"), site.probe)
    return _Ids(site_id, probe, far_end)


def _enrolled(db: sqlite3.Connection, probe_id: int, since: datetime, until: datetime) -> None:
    """The probe as one that was there for all of the history, and has been switched off since."""
    enrol(db, invite(db, probe_id), Surroundings("Debian GNU/Linux 12 (bookworm)", "3.11.7"))
    with db:
        db.execute(
            "UPDATE probe SET enrolled_us = ?, last_contact_us = ? WHERE id = ?",
            (int(since.timestamp() * 1e6), int(until.timestamp() * 1e6), probe_id),
        )


class _SiteHistory:
    """One site's week: a short call every ten minutes, and a few runs of several calls."""

    def __init__(
        self, db: sqlite3.Connection, site: DemoSite, ids: _Ids, end: datetime, rng: np.random.Generator
    ) -> None:
        self._db, self._site, self._ids, self._rng = db, site, ids, rng
        self._codec = find_codec(site.values["codec"])
        self._ptime = int(site.values["ptime_ms"])
        self._zone = ZoneInfo(site.values["time_zone"])
        minutes = end.minute % EVERY_MINUTES
        self._end = end.astimezone(UTC).replace(second=0, microsecond=0) - timedelta(minutes=minutes)

    def write(self, days: int) -> None:
        count = days * 24 * 60 // EVERY_MINUTES
        starts = [self._end - timedelta(minutes=EVERY_MINUTES * (count - i)) for i in range(count)]
        # A few seconds into each cell, never at the same instant.
        offsets = self._rng.uniform(5, 240, count)
        moments = np.array([int((s.timestamp() + o) * 1e6) for s, o in zip(starts, offsets, strict=True)])
        self._place(moments, 1, WATCH_S, "watch", ())
        for days_before, hour, calls in self._site.held_runs:
            local = (self._end.astimezone(self._zone) - timedelta(days=days_before)).replace(hour=hour, minute=4)
            while str(local.isoweekday()) not in "12345":
                local -= timedelta(days=1)
            self._place(np.array([int(local.timestamp() * 1e6)]), calls, HELD_S, "placed", self._video_needed())

        if self._site.held_every_minutes:
            every = self._site.held_every_minutes // EVERY_MINUTES
            open_for = [(m, s) for m, s in zip(moments.tolist(), starts, strict=True) if self._is_open(s)]
            # After the short call of the same cell.
            held = np.array([m + 60_000_000 for m, _ in open_for[::every]])
            self._place(held, int(self._site.values["needed_calls"]), WATCH_S, "watch", self._video_needed())

    def _is_open(self, at: datetime) -> bool:
        local, values = at.astimezone(self._zone), self._site.values
        return (
            local.isoweekday() < 6 and values["open_minute"] <= local.hour * 60 + local.minute < values["close_minute"]
        )

    def _video_needed(self) -> tuple[VideoLoad, ...]:
        return tuple(VideoLoad(v.profile, v.streams) for v in self._site.values.get("video", ()))

    def _place(self, moments: Ints, calls: int, seconds: int, purpose: str, video: tuple[VideoLoad, ...]) -> None:
        """``calls`` calls and the video beside them at each moment."""
        kinds = [(Stream.even(seconds * 1000 // self._ptime, self._ptime), calls)]
        kinds += [(_pictures(find_profile(load.profile), seconds), load.streams) for load in video]
        own = plan_run(self._codec, self._ptime, hold(calls, seconds), video=video).each_way_ipv4_kbps
        up = self._move(self._site.up, moments, kinds, self._site.up_load, own)
        down = self._move(self._site.down, moments, kinds, self._site.down_load, own)
        for row, moment in enumerate(moments.tolist()):
            head = {"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": False}
            parts = [Record(head), *self._calls(moment, up[0], down[0], row * calls, calls)]
            first = 1
            for load, there, back in zip(video, up[1:], down[1:], strict=True):
                parts += self._video(moment, load, there, back, row * load.streams, first)
                first += load.streams
            self._take_in(moment, calls, seconds, purpose, video, join_parts(part.serialize() for part in parts))

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

    def _move(
        self, way: Way | None, starts: Ints, kinds: list[tuple[Stream, int]], by_hour: tuple[float, ...], own: float
    ) -> list[Moved]:
        assert way is not None
        load = np.array([self._load(start, by_hour) for start in starts.tolist()])
        return move_packets(way, starts, kinds, load, own, self._rng)

    def _load(self, start_us: int, by_hour: tuple[float, ...]) -> float:
        local = datetime.fromtimestamp(start_us / 1e6, UTC).astimezone(self._zone)
        share = self._site.weekend_share if local.isoweekday() > 5 else 1.0
        return by_hour[local.hour] * share

    def _record(
        self, about: Mapping[str, object], moment: int, up: Moved, down: Moved, row: int, size: Ints, dscp: int
    ) -> Record:
        columns: dict[str, PackedColumn] = {}
        for name, moved in (("up", up), ("down", down)):
            arrived = np.flatnonzero(moved.arrived[row])
            same = np.ones(len(arrived), np.int64)
            for column, values in (
                ("sent_us", moved.sent_us[row]),
                ("arrival_seq", arrived),
                ("arrival_us", moved.recv_us[row][arrived]),
                ("arrival_dscp", dscp * same),
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

    def _take_in(
        self, moment: int, calls: int, seconds: int, purpose: str, video: tuple[VideoLoad, ...], upload: bytes
    ) -> None:
        db = self._db
        run = run_store.add_run(
            db,
            run_store.RunSpec(
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
            ),
            "Requested by the watch plan." if purpose == "watch" else f"Requested by {USER_NAME}.",
            moment - 2_000_000,
        )
        job_store.move(db, run.id, "taken", f"Picked up by {self._site.probe}.", moment - 1_000_000)
        job_store.move(db, run.id, "running", "Packets are being sent.", moment)
        run = self._again(run)
        judged = judge_upload(run, upload, self._codec, clock_store.runs_of_pair(db, run))
        call_store.take_in(db, run, judged, moment + (seconds + 3) * 1_000_000)

    def _again(self, run: Run) -> Run:
        return run_store.run_by_id(self._db, run.id)


def _pictures(profile: VideoProfile, seconds: int) -> Stream:
    """As a sender paces it: a frame's packets spread over the first half of its time."""
    frame = profile.frame_of(np.arange(profile.packets_in(seconds * profile.frames_per_s)))
    first = np.searchsorted(frame, frame)
    count = np.bincount(frame)[frame]
    interval_ms = profile.frame_us / 1000
    due = frame * interval_ms + (np.arange(len(frame)) - first) * interval_ms / (2 * count)
    return Stream(due, interval_ms)
