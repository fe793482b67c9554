"""Whether the server does its work, for whoever watches it from outside."""

from __future__ import annotations

from flask import Blueprint, current_app, g

from tarnfell import __version__
from tarnfell.server.http.api import endpoint
from tarnfell.server.http.models.health import Health
from tarnfell.store.lock import is_held

blueprint = Blueprint("health", __name__)


@endpoint(blueprint, "GET", "/api/health", audience="anyone", response=Health)
def health() -> Health:
    """Version and state. An answer at all means that the database can be read."""
    g.db.execute("SELECT count(*) FROM engagement").fetchone()
    here = is_held(current_app.config["DATA"], "clerk")
    return Health(version=__version__, clerk="working" if here else "absent")
