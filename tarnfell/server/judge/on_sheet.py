"""Imported files that stand beside a site's day sheet."""

from __future__ import annotations

import sqlite3
from zoneinfo import ZoneInfo

from tarnfell.server.judge.models.sites import ImportedOnSheet
from tarnfell.store import imports as import_store
from tarnfell.store import places as place_store
from tarnfell.store.sites import Site
from tarnfell.work.ingest.files import cells_of


def imported_on_sheet(db: sqlite3.Connection, site: Site) -> list[ImportedOnSheet]:
    """The files that stand beside the site's day sheet."""
    test_points = {test_point.id: test_point.name for test_point in place_store.test_points_of(db, site.id)}
    zone = ZoneInfo(site.time_zone)
    return [
        ImportedOnSheet(
            id=one.id,
            name=one.name,
            kind=one.kind,
            test_point=test_points.get(one.choices.test_point_id or 0),
            cells=list(cells_of(one.result, one.choices, zone)),
        )
        for one in import_store.imports_of(db, site.id)
        if one.choices.shown
    ]
