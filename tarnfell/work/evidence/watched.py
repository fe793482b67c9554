"""When a site was watched and when troubled, as its watches were read: what its steadiness over days rests on."""

from __future__ import annotations

import sqlite3
from zoneinfo import ZoneInfo

import numpy as np

from tarnfell.core.days.local import day_and_minute, day_name
from tarnfell.core.verdict.moments import CELL_MINUTES, Moment, Watched, moments_between
from tarnfell.store import cells as cell_store
from tarnfell.store import watches as watch_store
from tarnfell.store.cells import CELL_US
from tarnfell.store.sites import Site
from tarnfell.work.evidence.site_time import moment_at
from tarnfell.work.watch.reading import ReadEpisode, WatchReading, kept_reading

LEAST_SAMPLED = 0.5
"""Of ten minutes, so that they count as watched."""


def watched_of(db: sqlite3.Connection, site: Site, since_us: int) -> list[Watched]:
    """Of each watch that has been read, since ``since_us``."""
    found = []
    for watch in watch_store.watches_of(db, site.id):
        reading = kept_reading(db, watch.id)
        if reading:
            episodes = [one for one in reading.episodes if one.until_us > since_us]
            found.append(
                Watched(
                    _sampled(db, site, watch.id, reading, since_us),
                    frozenset(moment for one in episodes for moment in moments_of(site, one, since_us)),
                )
            )
    return found


def moments_of(site: Site, episode: ReadEpisode, since_us: int = 0) -> tuple[Moment, ...]:
    """The site's own ten minutes that it touched."""
    from_us = max(episode.from_us, since_us)
    at = moment_at(site, from_us)
    return moments_between(at.day, at.minute, (episode.until_us - from_us) / 1e6)


def _sampled(
    db: sqlite3.Connection, site: Site, watch_id: int, reading: WatchReading, since_us: int
) -> frozenset[Moment]:
    # What came since was not looked at yet, and of what lies before it only the episodes are known, if any are.
    known_us = min([reading.from_us, *(one.from_us for one in reading.episodes[:1])])
    sampled = cell_store.sampled_between(db, watch_id, max(known_us, since_us), reading.until_us)
    starts = np.array([start_us for start_us, lasted_us in sampled if lasted_us >= LEAST_SAMPLED * CELL_US], np.int64)
    if not len(starts):
        return frozenset()
    days, minutes = day_and_minute(starts + CELL_US // 2, ZoneInfo(site.time_zone))
    names = {day: day_name(day) for day in set(days.tolist())}
    return frozenset(
        (names[day], minute // CELL_MINUTES) for day, minute in zip(days.tolist(), minutes.tolist(), strict=True)
    )
