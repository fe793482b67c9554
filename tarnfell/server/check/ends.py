"""What the screens of this stage choose from."""

from __future__ import annotations

from flask import g

from tarnfell.server.check.models.checks import EndChoice
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online


def probe_choices(site: Site) -> list[EndChoice]:
    """Those that have enrolled."""
    probes = [probe for probe in probe_store.probes_of(g.db, site.id) if probe.enrolled_us is not None]
    return [EndChoice(id=probe.id, name=probe.name, online=is_online(probe)) for probe in probes]


def far_end_choices(site: Site) -> list[EndChoice]:
    return [EndChoice(id=far.id, name=far.name, online=True) for far in place_store.far_ends_of(g.db, site.id)]
