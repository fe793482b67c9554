"""A site's hours and where it was measured from, as screens and reports say them."""

from __future__ import annotations

import sqlite3

from tarnfell.store import probes as probe_store
from tarnfell.store.sites import Site


def business_hours(site: Site) -> str:
    names = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
    days = [names[int(d) - 1] for d in site.open_days]
    consecutive = "".join(str(i) for i in range(1, 8))
    span = f"{days[0]}–{days[-1]}" if len(days) > 2 and site.open_days in consecutive else ", ".join(days)
    opens, closes = (f"{m // 60:02d}:{m % 60:02d}" for m in (site.open_minute, site.close_minute))
    return f"{span} {opens}–{closes}" + (" the next day" if site.close_minute < site.open_minute else "")


def measured_from(db: sqlite3.Connection, site: Site) -> str:
    """The test points whose calls are the evidence, retired probes' too; before there is any, the probe's own."""
    names = probe_store.measured_test_points(db, site.id)
    if len(names) > 3:
        names = [*names[:2], f"{len(names) - 2} more"]
    if names:
        return ", ".join(names)
    probes = probe_store.probes_of(db, site.id)
    return probes[0].test_point if probes else ""
