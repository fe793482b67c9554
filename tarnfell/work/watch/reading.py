"""What the samples of a watch say, read by the clerk from all that is packed, and kept until more has come.

A young watch is read again every minute, an old one when its cell of ten minutes has passed: reading takes about a
third of a second for each day there is.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
from dataclasses import dataclass, replace
from zoneinfo import ZoneInfo

import numpy as np
from pydantic import TypeAdapter, ValidationError

from tarnfell.core.causes import CauseKey, LegName, Way
from tarnfell.core.days.analysis import Analysis, analyse
from tarnfell.core.days.blame import Kind
from tarnfell.core.days.calm import calm_of
from tarnfell.core.days.depths import PathDepth, path_depth
from tarnfell.core.days.episodes import Episode
from tarnfell.core.days.findings import Finding, Medium
from tarnfell.core.days.hours import hours_of
from tarnfell.core.days.large import Sizes
from tarnfell.core.days.legs import told_apart
from tarnfell.core.days.not_faults import NotFault
from tarnfell.core.days.recurrence import Recurrence
from tarnfell.core.days.rounds import Floats, Gap, Ints, Place, Rounds
from tarnfell.core.days.spoiling import Spoiling
from tarnfell.core.legs import DEPTH, Role
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.store import cells as cell_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.cells import CELL_US, Cell, Reading, WatchPlace
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import now_us, writing
from tarnfell.store.probes import Probe
from tarnfell.store.sites import Site
from tarnfell.work.evidence.site_time import moment_at
from tarnfell.work.watch import cells
from tarnfell.work.watch.cells import LOST, CellRounds
from tarnfell.work.watch.proposal import LARGE_BYTES

LONGEST_US = 14 * 86_400 * 1_000_000
"""What lies farther back is not read again, and keeps its episodes: a fortnight once a second takes four hundred
megabytes while it is read."""
MOST_OLDER = 2000
"""Episodes of before that."""
WEEK_US = 8 * 86_400 * 1_000_000
"""Seven whole days of any zone."""
SOONEST_US, LONGEST_PAUSE_US = 60_000_000, 600_000_000
SHARE = 0.02
"""Of what there is must have come before it is read again."""
GATEWAY = "the gateway"


@dataclass(frozen=True)
class ReadPlace:
    """Of the whole time that was read. Delays are None where it never answered."""

    number: int
    role: Role
    name: str
    sent: int
    lost: int
    min_ms: float | None
    p50_ms: float | None
    p95_ms: float | None
    max_ms: float | None
    baseline_by: str
    baseline_days: int
    forming: bool
    normal_ms: tuple[float | None, ...]
    """Median by the hour of the week, the first being Monday's."""
    normal_mad_ms: tuple[float | None, ...]
    levels: tuple[tuple[int, float], ...]
    """What it answers in while nothing is in the way, from each time on (Unix microseconds)."""


@dataclass(frozen=True)
class AtReadPlace:
    """What one place had during an episode, by its number."""

    number: int
    sent: int
    lost: int
    added_ms: float | None
    """Median over its calm level."""


@dataclass(frozen=True)
class ReadEpisode:
    from_us: int
    until_us: int
    leg: LegName
    kind: Kind
    certainty: float
    loss_pct: float
    late_pct: float
    added_ms: float | None
    added_p95_ms: float | None
    mos: float
    direction: Way | None
    seen_at: str
    places: tuple[AtReadPlace, ...]


@dataclass(frozen=True)
class ReadRecurrence:
    leg: LegName
    days: int
    of: int
    from_minute: int
    until_minute: int
    p: float
    says: str
    episodes: tuple[int, ...]
    """By their place in the list of episodes."""


@dataclass(frozen=True)
class ReadFinding:
    key: CauseKey
    leg: LegName
    direction: Way
    title: str
    says: str
    remedy: str
    who: str
    episodes: tuple[int, ...]
    """By their place in the list of episodes."""


@dataclass(frozen=True)
class WatchReading:
    from_us: int
    until_us: int
    rounds: int
    places: tuple[ReadPlace, ...]
    gaps: tuple[Gap, ...]
    episodes: tuple[ReadEpisode, ...]
    recurrences: tuple[ReadRecurrence, ...]
    findings: tuple[ReadFinding, ...]
    not_faults: tuple[NotFault, ...]


_FORM, _LEGS = TypeAdapter(WatchReading), TypeAdapter(PathDepth)


def kept_reading(db: sqlite3.Connection, watch_id: int) -> WatchReading | None:
    """None where none has been made yet, or one of another form."""
    kept = cell_store.reading_of(db, watch_id)
    if kept is None:
        return None
    try:
        return _FORM.validate_json(kept.reading)
    except ValidationError:
        return None


def read_next(db: sqlite3.Connection, at_us: int, only: int | None = None) -> bool:
    """Read one watch that has changed, or only that one; False where none is due."""
    for watch_id, changes, made_us, until_us in cell_store.unread(db, only):
        span = cell_store.span_of(db, watch_id)
        if span is None:
            continue
        from_us = max(span[0], span[1] - LONGEST_US)
        pause = min(LONGEST_PAUSE_US, max(SOONEST_US, SHARE * (span[1] - from_us)))
        # What came late, and lies before what was read, is read at once.
        if made_us is not None and at_us - made_us < pause and span[1] > (until_us or 0):
            continue
        kept = cell_store.cells_between(db, watch_id, from_us, span[1] + 1)
        reading = _with_older(_read(db, watch_id, kept), kept_reading(db, watch_id), from_us)
        site = _site_of(db, watch_id)
        week = json.dumps(_week(db, site, kept, reading))
        told, legs = (
            one.decode() for one in (_FORM.dump_json(reading), _LEGS.dump_json(_legs(db, site, kept, reading)))
        )
        found = hashlib.sha256(repr(reading.findings).encode()).hexdigest()
        with writing(db):
            cell_store.keep_reading(
                db, Reading(watch_id, span[1], len(kept), changes, now_us(), told, week, legs, found)
            )
        return True
    return False


def _with_older(reading: WatchReading, before: WatchReading | None, from_us: int) -> WatchReading:
    """Episodes of before the time that was read now stay as they were told."""
    older = tuple(one for one in before.episodes if one.until_us <= from_us)[-MOST_OLDER:] if before else ()

    def shifted(places: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(len(older) + place for place in places)

    return replace(
        reading,
        episodes=older + reading.episodes,
        recurrences=tuple(replace(one, episodes=shifted(one.episodes)) for one in reading.recurrences),
        findings=tuple(replace(one, episodes=shifted(one.episodes)) for one in reading.findings),
    )


def _read(db: sqlite3.Connection, watch_id: int, kept: list[Cell]) -> WatchReading:
    watch = watch_store.watch_by_id(db, watch_id)
    assert watch is not None
    probe = probe_store.probe_by_id(db, watch.probe_id)
    site = site_store.site_by_id(db, probe.site_id)
    places = cell_store.places_of(db, watch_id)
    parts = [cells.unpacked(cell) for cell in kept]
    rounds = rounds_of_cells(parts, named(db, places), places, watch.interval_ms)
    sizes = sizes_of_cells(parts, places)
    zone = ZoneInfo(site.time_zone)
    told = analyse(rounds, criterion_of_site(db, site), site.target_mos, zone, _medium(probe), sizes)
    return _reading(told, rounds, places)


def _week(db: sqlite3.Connection, site: Site, kept: list[Cell], reading: WatchReading) -> list[tuple[int, float]]:
    """The newest days hour by hour: what calls would have had, in its episodes and beside them."""
    starts = np.array([cell.start_us for cell in kept], np.int64)
    spoiled = [(one.from_us, one.until_us, one.mos) for one in reading.episodes]
    hours = hours_of(starts, spoiled, calm_mos(db, site, reading), reading.until_us - WEEK_US)
    return [(at_us, round(mos, 2)) for at_us, mos in hours]


def calm_mos(db: sqlite3.Connection, site: Site, reading: WatchReading) -> float:
    """What calls have over the way as it is at most times."""
    end = max(reading.places, key=lambda one: (DEPTH[one.role], one.role == "far-end", one.sent))
    return Spoiling(criterion_of_site(db, site), site.target_mos, end.p50_ms or 0.0).mos(0.0)


def _legs(db: sqlite3.Connection, site: Site, kept: list[Cell], reading: WatchReading) -> PathDepth:
    """Of the newest days."""
    from_us = reading.until_us - WEEK_US
    starts = np.array([cell.start_us for cell in kept if cell.last_us >= from_us], np.int64)
    return path_depth(
        told_apart([place.role for place in reading.places if place.sent > place.lost]),
        starts,
        CELL_US,
        np.array([moment_at(site, at_us).busy for at_us in starts.tolist()], bool),
        [replace(one, from_us=max(one.from_us, from_us)) for one in reading.episodes if one.until_us > from_us],
        calm_mos(db, site, reading),
    )


def kept_legs(db: sqlite3.Connection, probe_id: int) -> PathDepth | None:
    """None where none were read yet, or in another form."""
    try:
        return _LEGS.validate_json(cell_store.legs_of(db, probe_id))
    except ValidationError:
        return None


def _site_of(db: sqlite3.Connection, watch_id: int) -> Site:
    watch = watch_store.watch_by_id(db, watch_id)
    assert watch is not None
    return site_store.site_by_id(db, probe_store.probe_by_id(db, watch.probe_id).site_id)


def criterion_of_site(db: sqlite3.Connection, site: Site) -> Criterion:
    """The calls that the brief asks for."""
    return criterion_for(codec_of_site(db, site.id, site.codec), site.ptime_ms)


def named(db: sqlite3.Connection, places: list[WatchPlace]) -> list[Place]:
    """As people know them."""
    told = []
    for one in places:
        name = one.address or GATEWAY
        if one.far_end_id is not None:
            far_end = place_store.far_end_by_id(db, one.far_end_id)
            name = far_end.name if far_end else f"far end {one.far_end_id}"
        told.append(Place(one.role, name))
    return told


def rounds_of_cells(parts: list[CellRounds], places: list[Place], asked: list[WatchPlace], interval_ms: int) -> Rounds:
    """Of places by their number. Rounds beside load of our own, and large packets, are left out: they tell of those."""
    count = len(places)
    at_ms = np.concatenate([part.at_ms for part in parts])
    codes = np.concatenate([_all_places(part.codes, count) for part in parts], axis=1)
    loaded = np.concatenate([part.beside for part in parts]) > 0
    large = cells.is_large(np.concatenate([part.large for part in parts]), [one.far_end_id is None for one in asked])
    tells = ~loaded[None] & ~large
    sent = tells & ((codes >= cells.FIRST) | (codes == LOST))
    some = sent.any(axis=0)
    rtt = np.where(sent, cells.rtt_ms(codes), np.nan)
    up = np.concatenate([_all_places(part.up, count) for part in parts], axis=1)[:, some]
    up_ms = np.where(sent[:, some] & (up != 0), up * (cells.UP_UNIT_US / 1000), np.nan)
    return Rounds(tuple(places), at_ms[some] * 1000, sent[:, some], rtt[:, some], interval_ms * 1000, up_ms)


def sizes_of_cells(parts: list[CellRounds], asked: list[WatchPlace]) -> Sizes:
    """What became of large packets and of small ones, cell by cell. Rounds beside load of our own are left out."""
    echoed = [one.far_end_id is None for one in asked]
    counts: list[list[Ints]] = [[], [], [], []]
    for part in parts:
        codes = _all_places(part.codes, len(asked))[:, part.beside == 0]
        large = cells.is_large(part.large[part.beside == 0], echoed)
        lost = codes == LOST
        sent = lost | (codes >= cells.FIRST)
        for found, told in zip(counts, (sent & ~large, lost & ~large, sent & large, lost & large), strict=True):
            found.append(told.sum(axis=1))
    return Sizes(LARGE_BYTES, *(np.stack(one, axis=1) for one in counts))


def _all_places(codes: Ints, count: int) -> Ints:
    return np.vstack([codes, np.zeros((count - len(codes), codes.shape[1]), np.int64)])


def _medium(probe: Probe) -> Medium | None:
    return {"Wi-Fi": "wireless", "Ethernet": "wired"}.get(probe.around.medium or "")  # type: ignore[return-value]


def _reading(told: Analysis, rounds: Rounds, places: list[WatchPlace]) -> WatchReading:
    levels = calm_of(rounds).level_ms
    return WatchReading(
        told.from_us,
        told.until_us,
        told.rounds,
        tuple(_place(told, rounds, levels[i], i, one) for i, one in enumerate(places)),
        told.gaps,
        tuple(_episode(one) for one in told.episodes),
        tuple(_recurrence(one, told.episodes) for one in told.recurrences),
        tuple(_finding(one, told.episodes) for one in told.findings),
        told.not_faults,
    )


def _place(told: Analysis, rounds: Rounds, level: Floats, i: int, one: WatchPlace) -> ReadPlace:
    seen = told.places[i]
    (changes,) = np.nonzero(np.diff(level, prepend=np.nan) != 0)
    base = seen.baseline
    return ReadPlace(
        one.number, one.role, seen.place.name, seen.sent, seen.lost, seen.min_ms, seen.p50_ms, seen.p95_ms,
        seen.max_ms, base.by, base.days, base.forming, _floats(base.median_ms), _floats(base.mad_ms),
        tuple((int(rounds.at_us[at]), float(level[at])) for at in changes if not np.isnan(level[at])),
    )  # fmt: skip


def _floats(values: Floats) -> tuple[float | None, ...]:
    return tuple(None if np.isnan(value) else round(float(value), 3) for value in values)


def _episode(one: Episode) -> ReadEpisode:
    return ReadEpisode(
        one.from_us, one.until_us, one.leg, one.kind, one.certainty, one.loss_pct, one.late_pct, one.added_ms,
        one.added_p95_ms, one.mos, one.direction, one.end.name,
        tuple(AtReadPlace(i, seen.sent, seen.lost, seen.added_ms) for i, seen in enumerate(one.places)),
    )  # fmt: skip


def _recurrence(one: Recurrence, episodes: tuple[Episode, ...]) -> ReadRecurrence:
    own = tuple(i for i, episode in enumerate(episodes) if episode in one.episodes)
    return ReadRecurrence(one.leg, one.days, one.of, one.from_minute, one.until_minute, one.p, one.says, own)


def _finding(one: Finding, episodes: tuple[Episode, ...]) -> ReadFinding:
    own = tuple(i for i, episode in enumerate(episodes) if episode in one.episodes)
    return ReadFinding(one.key, one.leg, one.direction, one.title, one.says, one.remedy, one.who, own)
