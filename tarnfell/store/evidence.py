"""What follows from a site's evidence, as it was last computed, and the evidence that it was computed from."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.store.db import now_us


@dataclass(frozen=True)
class Evidence:
    """How much there is of a site, and what tells it from what there was before."""

    site_id: int
    calls: int
    """Of runs that are done or failed."""
    judged: int
    """Runs."""
    failed: int
    changes: int
    """Counts up with each run that ends, or is judged anew."""
    imports: int
    fills: int
    """Of the line; judged."""
    last_filled_us: int
    remedies: int
    """The sum of their numbers, which are not given twice."""
    found: str
    """Digests of what its watches found."""
    watched_hours: int
    """Until when they were read, the sum of their hours since 1970."""
    checks: int
    """The sum of the numbers of those that are done."""
    wish: str
    """What checks are to ask, and by which limits they are judged."""
    browser_counts: int
    """Whether calls from browsers are evidence."""


_EVIDENCE = """
SELECT site.id, coalesce(calls, 0), coalesce(judged, 0), coalesce(failed, 0), coalesce(changes, 0),
  (SELECT count(*) FROM imported WHERE site_id = site.id),
  (SELECT count(judged_us) FROM fill WHERE site_id = site.id),
  (SELECT coalesce(max(judged_us), 0) FROM fill WHERE site_id = site.id),
  (SELECT coalesce(sum(id), 0) FROM remedy WHERE site_id = site.id),
  (SELECT coalesce(group_concat(found), '') FROM (SELECT found FROM watch_reading JOIN watch ON watch.id = watch_id
    JOIN probe ON probe.id = probe_id WHERE probe.site_id = site.id ORDER BY watch_id)),
  (SELECT coalesce(sum(until_us / 3600000000), 0) FROM watch_reading JOIN watch ON watch.id = watch_id
    JOIN probe ON probe.id = probe_id WHERE probe.site_id = site.id),
  (SELECT coalesce(sum(id), 0) FROM job WHERE job.site_id = site.id AND kind = 'check' AND state = 'done'),
  coalesce((SELECT wish FROM check_wish WHERE check_wish.site_id = site.id), ''), browser_counts
FROM site LEFT JOIN run_tally ON run_tally.site_id = site.id
"""


def evidence_of(db: sqlite3.Connection, site_id: int) -> Evidence:
    """Differs whenever the site has new evidence, old evidence judged anew, or evidence set aside."""
    return Evidence(*db.execute(f"{_EVIDENCE} WHERE site.id = ?", (site_id,)).fetchone())


def much_evidence(db: sqlite3.Connection, more_calls_than: int) -> list[Evidence]:
    """Of the sites that have more calls than so many, archived ones as well: their pages and reports can be read."""
    rows = db.execute(f"{_EVIDENCE} WHERE calls > ?", (more_calls_than,))
    return [Evidence(*row) for row in rows]


@dataclass(frozen=True)
class Kept:
    mark: str
    """Of the evidence."""
    body: bytes


def keep(db: sqlite3.Connection, site_id: int, what: str, kept: Kept) -> None:
    db.execute(
        "INSERT INTO computed (site_id, what, mark, body, made_us) VALUES (?, ?, ?, ?, ?) ON CONFLICT (site_id, what) "
        "DO UPDATE SET mark = excluded.mark, body = excluded.body, made_us = excluded.made_us",
        (site_id, what, kept.mark, kept.body, now_us()),
    )


def kept_mark(db: sqlite3.Connection, site_id: int, what: str) -> str | None:
    row = db.execute("SELECT mark FROM computed WHERE site_id = ? AND what = ?", (site_id, what)).fetchone()
    return row["mark"] if row else None


def kept_of(db: sqlite3.Connection, site_id: int, what: str) -> Kept | None:
    row = db.execute("SELECT mark, body FROM computed WHERE site_id = ? AND what = ?", (site_id, what)).fetchone()
    return Kept(row["mark"], row["body"]) if row else None
