"""What was measured at a site, as rules look at it; the same for the past week as for now."""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.alerts import spells
from tarnfell.core.alerts.rules import OF_A_PLACE, Rule
from tarnfell.core.alerts.spells import MINUTE_US, CallTest, Minutes, Normal, Spell
from tarnfell.core.days.rounds import Ints
from tarnfell.core.legs import ROLE_WORDS
from tarnfell.store import calls as call_store
from tarnfell.store import cells as cell_store
from tarnfell.store import jobs as job_store
from tarnfell.store import plans as plan_store
from tarnfell.store import presence
from tarnfell.store import probes as probe_store
from tarnfell.store import watches as watch_store
from tarnfell.store.probes import Probe
from tarnfell.store.sites import Site
from tarnfell.store.watches import Watch
from tarnfell.wire.kinds import KINDS
from tarnfell.work.watch import cells
from tarnfell.work.watch.reading import ReadPlace, kept_reading, named

ON_THE_LINE = tuple(kind.name for kind in KINDS.values() if kind.lane == "line")
LONGEST_LOAD_US = 86_400 * 1_000_000


@dataclass(frozen=True)
class Seen:
    """One thing of a site that a rule is about, and when it was kept there. ``probe_id`` is who measured it."""

    subject: str
    name: str
    probe_id: int | None
    spells: list[Spell]


def at_site(
    db: sqlite3.Connection,
    rule: Rule,
    site: Site,
    from_us: int,
    now_us: int,
    watch_ids: Collection[int] | None = None,
    past: bool = True,
    on: Collection[str] = (),
) -> Iterator[Seen]:
    """Spells of ``from_us`` and after. ``watch_ids`` are the only watches of interest, where not all are; ``past`` is
    whether gaps in their samples count that are over; ``on`` are subjects of which a spell was on before that."""
    if rule.kind == "calls-below":
        yield _calls(db, rule, site, from_us)
    elif rule.kind == "missed":
        yield from _missed(db, site, from_us)
    else:
        for probe in probe_store.probes_of(db, site.id):
            if rule.kind == "offline":
                yield _offline(db, rule, probe, from_us, now_us, on)
                continue
            watch = watch_store.watch_of(db, probe.id)
            if watch is None or (watch_ids is not None and watch.id not in watch_ids):
                continue
            if rule.kind in OF_A_PLACE:
                yield from _places(db, rule, site, probe, watch, from_us, now_us, on)
            else:
                gaps = _gaps(db, watch, from_us) if past else []
                yield _silent(db, rule, probe, watch, gaps, now_us, on)


def place_subject(watch_id: int, number: int) -> str:
    return f"watch {watch_id} place {number}"


def _places(
    db: sqlite3.Connection,
    rule: Rule,
    site: Site,
    probe: Probe,
    watch: Watch,
    from_us: int,
    now_us: int,
    on: Collection[str],
) -> Iterator[Seen]:
    places = cell_store.places_of(db, watch.id)
    own = [place for place in places if place.role == rule.role]
    if not own:
        return
    found = cell_store.minutes_between(db, watch.id, from_us, now_us + cell_store.CELL_US)
    tables = cells.minutes_table(found, len(places))
    start = np.array([cell.start_us for cell in found], np.int64)
    at = (start[:, None] + np.arange(cells.MINUTES) * MINUTE_US).ravel()
    # The minute that goes on is not known yet; in one beside load of our own, it is that which is measured.
    newest = found[-1].last_us + 1000 * watch.interval_ms if found else 0
    whole = (at >= from_us) & (at + MINUTE_US <= newest)
    begun_us, ended_us = _loads(db, site.id, from_us, now_us)
    under_way = np.searchsorted(begun_us, at + MINUTE_US, "left") - np.searchsorted(ended_us, at, "right")
    whole &= under_way == 0
    reading = kept_reading(db, watch.id) if rule.kind == "above-normal" else None
    normals = {place.number: place for place in reading.places} if reading else {}
    names = named(db, places)
    zone = ZoneInfo(site.time_zone)
    for place in own:
        figures = tables[:, place.number].reshape(-1, len(cells.FIGURES))
        told = whole & (figures[:, 0] > 0)
        minutes = Minutes(at[told], figures[told, 0], figures[told, 1], cells.rtt_ms(figures[told, 3]))
        words = f"{_capital(ROLE_WORDS[place.role])}, {names[place.number].name}, from {probe.name}"
        subject, normal = place_subject(watch.id, place.number), _normal(normals.get(place.number))
        yield Seen(subject, words, probe.id, spells.of_minutes(rule, minutes, normal, zone, subject in on))


def _loads(db: sqlite3.Connection, site_id: int, from_us: int, now_us: int) -> tuple[Ints, Ints]:
    """When something of our own came onto the site's line, and when it left; each ascending by itself."""
    times = job_store.times_since(db, site_id, ON_THE_LINE, from_us - LONGEST_LOAD_US)
    begun = np.array(sorted(begun_us for begun_us, _ in times), np.int64)
    return begun, np.array(sorted(ended_us or now_us for _, ended_us in times), np.int64)


def _normal(read: ReadPlace | None) -> Normal | None:
    if read is None:
        return None
    return Normal(read.baseline_days, np.array(read.normal_ms, np.float64), np.array(read.normal_mad_ms, np.float64))


def _gaps(db: sqlite3.Connection, watch: Watch, from_us: int) -> list[tuple[int, int]]:
    """As far as they are known by now: a probe that kept its samples has none."""
    reading = kept_reading(db, watch.id)
    return [(gap.from_us, gap.until_us) for gap in reading.gaps if gap.until_us > from_us] if reading else []


def _silent(
    db: sqlite3.Connection,
    rule: Rule,
    probe: Probe,
    watch: Watch,
    gaps: list[tuple[int, int]],
    now_us: int,
    on: Collection[str],
) -> Seen:
    subject = f"watch {watch.id}"
    absences: list[tuple[int, int | None]] = [*gaps]
    last_us = watch_store.newest_us(db, watch.id) or 0
    if watch.wanted:
        absences.append((_silent_since(db, max(last_us, watch.changed_us), subject in on, now_us), None))
    return Seen(subject, f"Watch of {probe.name}", probe.id, spells.of_absences(rule, absences, now_us))


def _silent_since(db: sqlite3.Connection, heard_us: int, is_on: bool, now_us: int) -> int:
    """While the server was down it heard nobody: silence counts from when it came up. Where it had been told before,
    the server's start is no sign of life."""
    return heard_us if is_on else max(heard_us, presence.up_since(db) or now_us)


def _offline(db: sqlite3.Connection, rule: Rule, probe: Probe, from_us: int, now_us: int, on: Collection[str]) -> Seen:
    subject = f"probe {probe.id}"
    absences: list[tuple[int, int | None]] = [*presence.absences(db, probe.id, from_us)]
    if probe.last_contact_us is not None:
        absences.append((_silent_since(db, probe.last_contact_us, subject in on, now_us), None))
    return Seen(subject, f"Probe {probe.name}", probe.id, spells.of_absences(rule, absences, now_us))


def _calls(db: sqlite3.Connection, rule: Rule, site: Site, from_us: int) -> Seen:
    found = call_store.tests_since(db, site.id, from_us, least=2 * rule.of)
    tests = [CallTest(one.at_us, one.mos) for one in found]
    probe_id = found[-1].probe_id if found else None
    return Seen(f"calls at {site.id}", "Calls", probe_id, spells.of_tests(rule, tests))


def _missed(db: sqlite3.Connection, site: Site, from_us: int) -> Iterator[Seen]:
    for series in plan_store.missed_since(db, site.id, from_us):
        plan = plan_store.plan_by_id(db, series.plan_id)
        name = f"Planned load “{plan.name}”" if plan.name else "Planned load"
        yield Seen(f"series {series.id}", name, None, [Spell(series.due_us, series.due_us, 0.0)])


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]
