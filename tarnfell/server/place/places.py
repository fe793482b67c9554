"""Placing: test points on a site's path, probes brought there by a link, far ends to call, tasks of probes."""

from __future__ import annotations

import secrets

from flask import Blueprint, g

from tarnfell.server.access import require_far_end, require_host, require_probe, require_site, require_test_point
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place import probe_file
from tarnfell.server.place.models.places import (
    AskJob,
    Chosen,
    FarEndForm,
    PlacePage,
    ProbeForm,
    TestPointForm,
)
from tarnfell.server.place.page import place_page
from tarnfell.server.place.presence import look_at
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import writing
from tarnfell.store.sites import Site

blueprint = Blueprint("places", __name__)

ANSWER_PORT = 4870
ANSWER_MEDIA = (20000, 20399)


@endpoint(blueprint, "GET", "/api/sites/<slug>/place", response=PlacePage)
def show_places(slug: str) -> PlacePage:
    """Test points, probes and far ends of a site."""
    site = require_site(slug)
    look_at(site.id)
    return place_page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/test-points", response=PlacePage)
def add_test_point(slug: str, body: TestPointForm) -> PlacePage:
    """One more test point on the site's path."""
    site = require_site(slug)
    with writing(g.db):
        place_store.add_test_point(g.db, site.id, body.name, body.kind, body.note)
    return place_page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/test-points/<int:test_point_id>", response=PlacePage)
def change_test_point(slug: str, test_point_id: int, body: TestPointForm) -> PlacePage:
    """Rename or move a test point."""
    site = require_site(slug)
    require_test_point(site, test_point_id)
    with writing(g.db):
        place_store.change_test_point(g.db, test_point_id, body.name, body.kind, body.note)
    return place_page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/test-points/<int:test_point_id>", response=PlacePage)
def remove_test_point(slug: str, test_point_id: int) -> PlacePage:
    """Delete a test point nothing was measured from."""
    site = require_site(slug)
    test_point = require_test_point(site, test_point_id)
    here, retired = place_store.probes_at(g.db, test_point_id)
    if here:
        raise Problem(409, f"A probe stands at {test_point.name}. Move it to another test point, or retire it first.")
    if retired:
        raise Problem(
            409, f"Calls were measured from {test_point.name} by a probe that is retired; it stays with them."
        )
    with writing(g.db):
        place_store.remove_test_point(g.db, test_point_id)
    return place_page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/probes", response=PlacePage)
def add_probe(slug: str, body: ProbeForm) -> PlacePage:
    """A probe for a test point, with a link that brings it there."""
    site = require_site(slug)
    require_test_point(site, body.test_point_id)
    with writing(g.db):
        probe_id = probe_store.add_probe(g.db, site.id, body.test_point_id, body.name)
        probe_store.invite(g.db, probe_id, g.user.id)
    return place_page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/probes/<int:probe_id>", response=PlacePage)
def change_probe(slug: str, probe_id: int, body: ProbeForm) -> PlacePage:
    """Rename a probe or move it to another test point; its evidence stays."""
    site = require_site(slug)
    require_probe(site, probe_id)
    require_test_point(site, body.test_point_id)
    with writing(g.db):
        probe_store.change_probe(g.db, probe_id, body.name, body.test_point_id)
    return place_page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/probes/<int:probe_id>/link", response=PlacePage)
def renew_link(slug: str, probe_id: int) -> PlacePage:
    """A new link for a probe; the one before stops working."""
    site = require_site(slug)
    require_probe(site, probe_id)
    with writing(g.db):
        probe_store.invite(g.db, probe_id, g.user.id)
    return place_page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/probes/<int:probe_id>/link", response=PlacePage)
def revoke_link(slug: str, probe_id: int) -> PlacePage:
    """Take a link back: nobody can enrol by it any more."""
    site = require_site(slug)
    require_probe(site, probe_id)
    with writing(g.db):
        probe_store.revoke(g.db, probe_id)
    return place_page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/probes/<int:probe_id>/jobs", response=PlacePage)
def ask_probe(slug: str, probe_id: int, body: AskJob) -> PlacePage:
    """Tell a probe to do something; it takes it at its next heartbeat."""
    site = require_site(slug)
    probe = require_probe(site, probe_id)
    if body.kind == "end" and probe.enrolled_us is None:
        # Nothing runs there yet: taking the link back is all there is to end.
        with writing(g.db):
            probe_store.revoke(g.db, probe.id)
            probe_store.retire(g.db, probe.id)
        return place_page(site)
    if probe.enrolled_us is None:
        raise Problem(409, f"{probe.name} has not enrolled yet. Send its link first.")
    if body.kind == "end" and any(r.probe_id == probe.id for r in run_store.open_runs(g.db, site.id)):
        raise Problem(409, f"{probe.name} is carrying out a run. Wait for it to end, or stop it.")
    with writing(g.db):
        job_store.ask(g.db, site.id, probe.id, body.kind, g.user.id, _arguments(site, body.kind))
    return place_page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/far-ends", response=PlacePage)
def add_far_end(slug: str, body: FarEndForm) -> PlacePage:
    """Write down a host that runs a far end, and choose it for this site."""
    site = require_site(slug)
    if body.key is None:
        raise Problem(422, "Give the far end's key: it stands in the key file it printed when it was started.")
    _check_media(body)
    with writing(g.db):
        number = place_store.add_far_end(
            g.db, body.name, body.place, body.host, body.port, body.key,
            media=(body.media_low, body.media_high),
        )  # fmt: skip
        place_store.choose_far_end(g.db, site.id, number)
        _measure_distances(site)
    return place_page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/far-ends/<int:far_end_id>", response=PlacePage)
def change_far_end(slug: str, far_end_id: int, body: FarEndForm) -> PlacePage:
    """Change what is written down of a far end, for every site that chose it."""
    site = require_site(slug)
    require_host(far_end_id)
    _check_media(body)
    with writing(g.db):
        place_store.change_far_end(
            g.db, far_end_id, body.name, body.place, body.host, body.port,
            (body.media_low, body.media_high),
        )  # fmt: skip
        if body.key is not None:
            place_store.set_far_end_key(g.db, far_end_id, body.key)
        _measure_distances(site)
    return place_page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/far-ends/<int:far_end_id>", response=PlacePage)
def archive_far_end(slug: str, far_end_id: int) -> PlacePage:
    """Put a far end away that no other site has chosen; its evidence stays."""
    site = require_site(slug)
    far_end = require_host(far_end_id)
    others = place_store.sites_that_chose(g.db, far_end_id) - {site.id}
    if others:
        raise Problem(409, f"{far_end.name} is chosen by {len(others)} more sites. Unchoose it there first.")
    with writing(g.db):
        place_store.archive_far_end(g.db, far_end_id, archived=True)
    return place_page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/far-ends/<int:far_end_id>/restore", response=PlacePage)
def restore_far_end(slug: str, far_end_id: int) -> PlacePage:
    """Have an archived far end back, chosen where it was."""
    site = require_site(slug)
    require_host(far_end_id)
    with writing(g.db):
        place_store.archive_far_end(g.db, far_end_id, archived=False)
        _measure_distances(site)
    return place_page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/far-ends/<int:far_end_id>/chosen", response=PlacePage)
def choose_far_end(slug: str, far_end_id: int, body: Chosen) -> PlacePage:
    """Have this site's calls answered there, or no longer."""
    site = require_site(slug)
    require_far_end(far_end_id)
    with writing(g.db):
        place_store.choose_far_end(g.db, site.id, far_end_id, body.chosen)
    return place_page(site)


def _check_media(form: FarEndForm) -> None:
    if form.media_low >= form.media_high:
        raise Problem(422, "The media ports must be a range, such as 20000 to 20399.")


def _arguments(site: Site, kind: str) -> dict[str, object]:
    """What a probe needs to know to do it."""
    if kind == "distances":
        # A probe is told the keys of the far ends its site calls, and no others.
        chosen = {far.id for far in place_store.far_ends_of(g.db, site.id)}
        return {
            "far_ends": [
                {"id": f.id, "host": f.host, "port": f.port, **({"key": f.key} if f.id in chosen else {})}
                for f in place_store.far_ends(g.db)
            ]
        }
    if kind == "answer":
        low, high = ANSWER_MEDIA
        return {"port": ANSWER_PORT, "media_low": low, "media_high": high, "key": secrets.token_urlsafe(24)}
    if kind == "update":
        return {"sha256": probe_file.program_sha256(), "program": probe_file.program_digest()}
    return {}


def _measure_distances(site: Site) -> None:
    for probe in probe_store.probes_of(g.db, site.id):
        if probe.enrolled_us is not None:
            job_store.ask(g.db, site.id, probe.id, "distances", g.user.id, _arguments(site, "distances"))
