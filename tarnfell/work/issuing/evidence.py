"""The evidence sheet of one fault that a watch found, gathered from its reading and the samples themselves."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import sqlite3
from dataclasses import dataclass
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.core.causes import NETWORK, PROVIDER
from tarnfell.core.days.findings import lasted
from tarnfell.core.figures import count
from tarnfell.core.legs import ROLES
from tarnfell.exchange.cells import guarded
from tarnfell.report.evidence import AtPlace, EvidenceSheet, Time
from tarnfell.store import engagements as engagement_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import now_us
from tarnfell.store.sites import Site
from tarnfell.work.issuing.report import brand_of
from tarnfell.work.watch.bench import bench_of
from tarnfell.work.watch.reading import ReadEpisode, ReadFinding, ReadPlace, WatchReading, kept_reading

MOST_TIMES = 24
ROUNDS_BEFORE, ROUNDS_SHOWN = 4, 16
PLACE_WORDS = {"gateway": "Gateway", "edge": "Provider’s edge", "outside": "Outside", "far-end": "Far end"}
FINE_PCT = 2.0
"""A place that lost no more in these times than so much more than at others was fine."""
FINE_MS = 10.0


@dataclass(frozen=True)
class Fault:
    """Which one: of a probe's watch, by its place in the findings."""

    probe_id: int
    number: int


class NoSuchFault(LookupError):
    """The watch does not tell of it, or no longer."""


def fault_mark(db: sqlite3.Connection, fault: Fault) -> str:
    """Names the fault, and differs whenever its sheet would say something else. Raises NoSuchFault."""
    reading, _ = _found(db, fault)
    probe = probe_store.probe_by_id(db, fault.probe_id)
    site = site_store.site_by_id(db, probe.site_id)
    around = site, probe.name, probe.test_point, _paper(db, site), brand_of(db, site.engagement_id)
    return json.dumps(
        {
            "probe": fault.probe_id,
            "number": fault.number,
            "until_us": reading.until_us,
            "around": hashlib.sha256(repr(around).encode()).hexdigest(),
        }
    )


def fault_of_mark(mark: str) -> Fault:
    told = json.loads(mark)
    return Fault(told["probe"], told["number"])


def evidence_of(db: sqlite3.Connection, fault: Fault) -> EvidenceSheet:
    """Raises NoSuchFault."""
    reading, finding = _found(db, fault)
    probe = probe_store.probe_by_id(db, fault.probe_id)
    site = site_store.site_by_id(db, probe.site_id)
    zone = ZoneInfo(site.time_zone)
    episodes = [reading.episodes[i] for i in finding.episodes]
    worst = max(episodes, key=lambda one: (one.loss_pct + one.late_pct, one.until_us - one.from_us))
    newest = sorted(episodes, key=lambda one: one.from_us, reverse=True)[:MOST_TIMES]
    places = sorted(reading.places, key=lambda one: ROLES.index(one.role))
    far = [place.name for place in places if place.role == "far-end"]
    return EvidenceSheet(
        paper=_paper(db, site),
        title=finding.title,
        says=finding.says,
        addressee=_addressee(site, finding),
        site=site.name,
        place=site.place,
        line=", ".join(part for part in (site.medium, site.provider) if part) or "line not described",
        measured=f"{_day(reading.from_us, zone)} to {_day(reading.until_us, zone)}, {count(reading.rounds)} rounds",
        measured_from=f"{probe.name}, {probe.test_point}",
        measured_to=", ".join(far) or "addresses outside",
        zone=f"{site.time_zone}, as clocks there showed",
        made=_day(now_us(), zone),
        times=tuple(_time(one, zone) for one in newest),
        more=len(episodes) - len(newest),
        places=tuple(_at_place(one, episodes) for one in places),
        ruled_out=tuple(_ruled_out(places, episodes, reading)),
        moment=f"The beginning of the worst one, {_day(worst.from_us, zone)}.",
        rounds=_rounds(db, site, fault, worst, places, zone),
        brand=brand_of(db, site.engagement_id),
    )


def _paper(db: sqlite3.Connection, site: Site) -> str:
    return engagement_store.engagement_by_id(db, site.engagement_id).paper


CSV_HEAD = ("from", "until", "seconds", "leg", "certainty_pct", "direction", "lost_pct", "late_pct", "added_ms",
            "added_p95_ms", "mos")  # fmt: skip


def evidence_csv(db: sqlite3.Connection, fault: Fault) -> str:
    """All times of a fault, oldest first, and what each place answered in them; instants are UTC (RFC 3339).

    Raises NoSuchFault.
    """
    reading, finding = _found(db, fault)
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    named = [f"{one.role} {one.name}" for one in reading.places]
    writer.writerow(
        [*CSV_HEAD, *(guarded(f"{name} {what}") for name in named for what in ("sent", "lost", "added_ms"))]
    )
    for one in sorted((reading.episodes[i] for i in finding.episodes), key=lambda one: one.from_us):
        row: list[object] = [
            _rfc3339(one.from_us), _rfc3339(one.until_us), f"{(one.until_us - one.from_us) / 1e6:.10g}", one.leg,
            f"{100 * one.certainty:.0f}", one.direction or "", f"{one.loss_pct:.1f}", f"{one.late_pct:.1f}",
            *("" if ms is None else f"{ms:.1f}" for ms in (one.added_ms, one.added_p95_ms)), f"{one.mos:.2f}",
        ]  # fmt: skip
        by_place = {seen.number: seen for seen in one.places}
        for place in reading.places:
            seen = by_place.get(place.number)
            added = None if seen is None else seen.added_ms
            row += ["", "", ""] if seen is None else [seen.sent, seen.lost, "" if added is None else f"{added:.1f}"]
        writer.writerow(row)
    return text.getvalue()


def _rfc3339(at_us: int) -> str:
    return datetime.fromtimestamp(at_us / 1e6, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _found(db: sqlite3.Connection, fault: Fault) -> tuple[WatchReading, ReadFinding]:
    watch = watch_store.watch_of(db, fault.probe_id)
    reading = kept_reading(db, watch.id) if watch else None
    if reading is None or not 0 <= fault.number < len(reading.findings):
        raise NoSuchFault
    finding = reading.findings[fault.number]
    if not finding.episodes:
        raise NoSuchFault
    return reading, finding


def _addressee(site: Site, finding: ReadFinding) -> str:
    """Who acts, by the name in the brief where there is one."""
    names = {NETWORK: site.switches_by, PROVIDER: site.line_by or site.provider}
    told = finding.who
    for who, name in names.items():
        told = told.replace(who, name or who)
    return told


def _time(one: ReadEpisode, zone: ZoneInfo) -> Time:
    return Time(
        _instant(one.from_us, zone), _instant(one.until_us, zone), lasted((one.until_us - one.from_us) / 1e6),
        f"{one.loss_pct:.0f} %", _ms(one.added_ms), _ms(one.added_p95_ms),
    )  # fmt: skip


def _at_place(place: ReadPlace, episodes: list[ReadEpisode]) -> AtPlace:
    sent, lost, added = _in_episodes(place, episodes)
    return AtPlace(
        _name(place),
        "not asked" if not sent else f"{100 * lost / sent:.1f} % of {count(sent)}",
        _ms(added),
        "not asked" if not place.sent else f"{100 * place.lost / place.sent:.2f} %",
        _ms(place.p50_ms),
    )


def _in_episodes(place: ReadPlace, episodes: list[ReadEpisode]) -> tuple[int, int, float | None]:
    """Sent and lost together, and the highest median that was added in one of them."""
    own = [seen for one in episodes for seen in one.places if seen.number == place.number]
    added = [seen.added_ms for seen in own if seen.added_ms is not None]
    return sum(seen.sent for seen in own), sum(seen.lost for seen in own), max(added, default=None)


def _ruled_out(places: list[ReadPlace], episodes: list[ReadEpisode], reading: WatchReading) -> list[str]:
    told = []
    for place in places:
        sent, lost, added = _in_episodes(place, episodes)
        usual_pct = 100 * place.lost / place.sent if place.sent else 0.0
        if sent and 100 * lost / sent <= usual_pct + FINE_PCT and added is not None and added <= FINE_MS:
            told.append(
                f"Not up to {_name(place)}: it answered {count(sent - lost)} of {count(sent)} samples in these times, "
                f"with at most {max(0.0, added):.0f} ms added (median)."
            )
    told += [f"Not to be taken for it: {one.says}" for one in reading.not_faults]
    return told


def _rounds(
    db: sqlite3.Connection, site: Site, fault: Fault, worst: ReadEpisode, places: list[ReadPlace], zone: ZoneInfo
) -> tuple[tuple[str, ...], ...]:
    watch = watch_store.watch_of(db, fault.probe_id)
    assert watch is not None
    step_us = watch.interval_ms * 1000
    bench = bench_of(
        db, watch.id, site.id, worst.from_us - ROUNDS_BEFORE * step_us, worst.from_us + ROUNDS_SHOWN * step_us
    )
    rows = []
    for i, at_us in enumerate(bench.at_us[: ROUNDS_BEFORE + ROUNDS_SHOWN]):
        cells = [_instant(at_us, zone, seconds_only=True)]
        for place in places:
            lane = bench.lanes[place.number]
            cells.append("not asked" if not lane.sent[i] else "lost" if lane.lost[i] else _ms(lane.p50_ms[i], 1))
        rows.append(tuple(cells))
    return tuple(rows)


def _name(place: ReadPlace) -> str:
    return f"{PLACE_WORDS[place.role]} {place.name}"


def _ms(value: float | None, places: int = 0) -> str:
    return "–" if value is None else f"{max(0.0, value):.{places}f} ms"


def _day(us: int, zone: ZoneInfo) -> str:
    return f"{datetime.fromtimestamp(us / 1e6, UTC).astimezone(zone):%a %d %b %Y, %H:%M}"


def _instant(us: int, zone: ZoneInfo, seconds_only: bool = False) -> str:
    when = datetime.fromtimestamp(us / 1e6, UTC).astimezone(zone)
    return f"{when:%H:%M:%S}.{when.microsecond // 100_000}" if seconds_only else f"{when:%a %d %b %H:%M:%S}"
