"""Placing: spots on a site's path, probes brought there by a link, far ends to call, and what probes are told to do."""

from __future__ import annotations

import secrets
import sqlite3
from typing import Any

from flask import Blueprint, g

from tarnfell.server import probe_file
from tarnfell.server.api import Problem, endpoint
from tarnfell.server.models.places import (
    AskCommand,
    Chosen,
    CommandView,
    DistanceView,
    FarEndCard,
    FarEndForm,
    InvitationView,
    PlacePage,
    ProbeCard,
    ProbeForm,
    SpotForm,
    SpotKindView,
    SpotView,
    Surroundings,
)
from tarnfell.server.presence import is_heard, look_at
from tarnfell.server.sites import STATE_WORDS, require_site
from tarnfell.store import commands as command_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store.commands import Command
from tarnfell.store.db import now_us, writing
from tarnfell.store.places import FarEnd, Spot
from tarnfell.store.probes import Invitation, Probe
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site

blueprint = Blueprint("places", __name__)

SPOT_KINDS: dict[str, tuple[str, str]] = {
    "farthest": ("Farthest subnet", "As far from the way out as people work: every switch in between is measured."),
    "desk": ("Desk", "Where calls are really taken, on the wire they are taken on."),
    "wireless": ("Desk on Wi-Fi", "The same desk by radio; beside a wired one it tells what the radio adds."),
    "cabinet": ("Network cabinet", "Beside the switches: with a desk's probe it isolates the floor between."),
    "firewall": ("Behind the firewall", "Just inside the way out: what is wrong here is not the inside network."),
    "outside": ("Outside the firewall", "On the provider's side: what is wrong only inside of it is the firewall."),
}
HISTORY_SHOWN = 12
ANSWER_PORT = 4870
ANSWER_MEDIA = (20000, 20399)


@endpoint(blueprint, "GET", "/api/sites/<slug>/place", response=PlacePage)
def show_places(slug: str) -> PlacePage:
    """Spots, probes and far ends of a site."""
    site = require_site(slug)
    look_at(site.id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/spots", response=PlacePage)
def add_spot(slug: str, body: SpotForm) -> PlacePage:
    """One more spot on the site's path."""
    site = require_site(slug)
    with writing(g.db):
        place_store.add_spot(g.db, site.id, body.name.strip(), body.kind, body.note)
    return _page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/spots/<int:spot_id>", response=PlacePage)
def change_spot(slug: str, spot_id: int, body: SpotForm) -> PlacePage:
    """Rename or move a spot."""
    site = require_site(slug)
    _require_spot(site, spot_id)
    with writing(g.db):
        place_store.change_spot(g.db, spot_id, body.name.strip(), body.kind, body.note)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/probes", response=PlacePage)
def add_probe(slug: str, body: ProbeForm) -> PlacePage:
    """A probe for a spot, with a link that brings it there."""
    site = require_site(slug)
    _require_spot(site, body.spot_id)
    with writing(g.db):
        probe_id = probe_store.add_probe(g.db, site.id, body.spot_id, body.name.strip())
        probe_store.invite(g.db, probe_id, g.user.id)
    return _page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/probes/<int:probe_id>", response=PlacePage)
def change_probe(slug: str, probe_id: int, body: ProbeForm) -> PlacePage:
    """Rename a probe or move it to another spot; its evidence stays."""
    site = require_site(slug)
    _require_probe(site, probe_id)
    _require_spot(site, body.spot_id)
    with writing(g.db):
        probe_store.change_probe(g.db, probe_id, body.name.strip(), body.spot_id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/probes/<int:probe_id>/link", response=PlacePage)
def renew_link(slug: str, probe_id: int) -> PlacePage:
    """A new link for a probe; the one before stops working."""
    site = require_site(slug)
    _require_probe(site, probe_id)
    with writing(g.db):
        probe_store.invite(g.db, probe_id, g.user.id)
    return _page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/probes/<int:probe_id>/link", response=PlacePage)
def revoke_link(slug: str, probe_id: int) -> PlacePage:
    """Take a link back: nobody can enrol by it any more."""
    site = require_site(slug)
    _require_probe(site, probe_id)
    with writing(g.db):
        probe_store.revoke(g.db, probe_id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/probes/<int:probe_id>/commands", response=PlacePage)
def ask_probe(slug: str, probe_id: int, body: AskCommand) -> PlacePage:
    """Tell a probe to do something; it takes it at its next heartbeat."""
    site = require_site(slug)
    probe = _require_probe(site, probe_id)
    if body.kind == "end" and probe.enrolled_us is None:
        # Nothing runs there yet: taking the link back is all there is to end.
        with writing(g.db):
            probe_store.revoke(g.db, probe.id)
            probe_store.retire(g.db, probe.id)
        return _page(site)
    if probe.enrolled_us is None:
        raise Problem(409, f"{probe.name} has not enrolled yet. Send its link first.")
    if body.kind == "end" and any(r.probe_id == probe.id for r in run_store.open_runs(g.db, site.id)):
        raise Problem(409, f"{probe.name} is in the middle of a run. Wait for it to end, or stop it.")
    with writing(g.db):
        command_store.ask(g.db, probe.id, body.kind, g.user.id, _arguments(site, body.kind))
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/far-ends", response=PlacePage)
def add_far_end(slug: str, body: FarEndForm) -> PlacePage:
    """Write down a host that runs a far end, and choose it for this site."""
    site = require_site(slug)
    if body.key is None:
        raise Problem(422, "Give the far end's key: it stands in the key file it printed when it was started.")
    _check_media(body)
    with writing(g.db):
        number = place_store.add_far_end(
            g.db, body.name.strip(), body.place, body.host.strip(), body.port, body.key.strip(),
            media=(body.media_low, body.media_high),
        )  # fmt: skip
        place_store.choose_far_end(g.db, site.id, number)
        _measure_distances(site)
    return _page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/far-ends/<int:far_end_id>", response=PlacePage)
def change_far_end(slug: str, far_end_id: int, body: FarEndForm) -> PlacePage:
    """Change what is written down of a far end, for every site that chose it."""
    site = require_site(slug)
    _require_host(far_end_id)
    _check_media(body)
    with writing(g.db):
        place_store.change_far_end(
            g.db, far_end_id, body.name.strip(), body.place, body.host.strip(), body.port,
            (body.media_low, body.media_high),
        )  # fmt: skip
        if body.key is not None:
            place_store.set_far_end_key(g.db, far_end_id, body.key.strip())
        _measure_distances(site)
    return _page(site)


@endpoint(blueprint, "DELETE", "/api/sites/<slug>/far-ends/<int:far_end_id>", response=PlacePage)
def archive_far_end(slug: str, far_end_id: int) -> PlacePage:
    """Put a far end away that no other site has chosen; its evidence stays."""
    site = require_site(slug)
    far_end = _require_host(far_end_id)
    others = place_store.sites_that_chose(g.db, far_end_id) - {site.id}
    if others:
        raise Problem(409, f"{far_end.name} is chosen by {len(others)} more sites. Unchoose it there first.")
    with writing(g.db):
        place_store.archive_far_end(g.db, far_end_id, archived=True)
    return _page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/far-ends/<int:far_end_id>/chosen", response=PlacePage)
def choose_far_end(slug: str, far_end_id: int, body: Chosen) -> PlacePage:
    """Have this site's calls answered there, or no longer."""
    site = require_site(slug)
    _require_far_end(far_end_id)
    with writing(g.db):
        place_store.choose_far_end(g.db, site.id, far_end_id, body.chosen)
    return _page(site)


def _require_spot(site: Site, spot_id: int) -> Spot:
    spot = place_store.spot_by_id(g.db, spot_id)
    if spot is None or spot.site_id != site.id:
        raise Problem(404, f"{site.name} has no spot {spot_id}.")
    return spot


def _require_probe(site: Site, probe_id: int) -> Probe:
    try:
        probe = probe_store.probe_by_id(g.db, probe_id)
    except (KeyError, OverflowError):
        probe = None
    if probe is None or probe.site_id != site.id:
        raise Problem(404, f"{site.name} has no probe {probe_id}.")
    return probe


def _require_far_end(far_end_id: int) -> FarEnd:
    far_end = place_store.far_end_by_id(g.db, far_end_id)
    if far_end is None:
        raise Problem(404, f"There is no far end {far_end_id}.")
    return far_end


def _require_host(far_end_id: int) -> FarEnd:
    far_end = _require_far_end(far_end_id)
    if far_end.kind != "host":
        raise Problem(409, f"{far_end.name} is kept by {'its probe' if far_end.kind == 'probe' else 'this server'}.")
    return far_end


def _check_media(form: FarEndForm) -> None:
    if form.media_low >= form.media_high:
        raise Problem(422, "The media ports must be a range, such as 20000 to 20399.")


def _arguments(site: Site, kind: str) -> dict[str, Any]:
    """What a probe needs to know to do it."""
    if kind == "distances":
        far_ends = place_store.far_ends(g.db)
        return {"far_ends": [{"id": f.id, "host": f.host, "port": f.port} for f in far_ends]}
    if kind == "answer":
        low, high = ANSWER_MEDIA
        return {"port": ANSWER_PORT, "media_low": low, "media_high": high, "key": secrets.token_urlsafe(24)}
    if kind == "update":
        return {"sha256": probe_file.program_sha256(), "program": probe_file.program_digest()}
    return {}


def _measure_distances(site: Site) -> None:
    for probe in probe_store.probes_of(g.db, site.id):
        if probe.enrolled_us is not None:
            command_store.ask(g.db, probe.id, "distances", g.user.id, _arguments(site, "distances"))


def _page(site: Site) -> PlacePage:
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    probes = probe_store.probes_of(g.db, site.id)
    spots = place_store.spots_of(g.db, site.id)
    return PlacePage(
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        site_slug=site.slug,
        site_name=site.name,
        time_zone=site.time_zone,
        medium=site.medium,
        provider=site.provider,
        spots=[
            SpotView(
                id=s.id,
                name=s.name,
                kind=s.kind,
                kind_words=SPOT_KINDS[s.kind][0],
                note=s.note,
                probes=[_card(p) for p in probes if p.spot_id == s.id],
            )
            for s in spots
        ],
        spot_kinds=[SpotKindView.model_validate({"kind": k, "words": w, "why": y}) for k, (w, y) in SPOT_KINDS.items()],
        far_ends=_far_end_cards(g.db, site, probes),
    )


def _far_end_cards(db: sqlite3.Connection, site: Site, probes: list[Probe]) -> list[FarEndCard]:
    distances = {p.id: place_store.distances_of(db, p.id) for p in probes}
    cards = []
    for far in place_store.far_ends(db):
        chosen_by = place_store.sites_that_chose(db, far.id)
        measured = [found[far.id] for found in distances.values() if far.id in found]
        cards.append(
            FarEndCard(
                id=far.id,
                kind=far.kind,
                name=far.name,
                place=far.place,
                host=far.host,
                port=far.port,
                media_low=far.media_low,
                media_high=far.media_high,
                chosen=site.id in chosen_by,
                other_sites=len(chosen_by - {site.id}),
                probe_id=far.probe_id,
                distances=[
                    DistanceView(probe_id=d.probe_id, at_us=d.at_us, connect_ms=d.connect_ms, failure=d.failure)
                    for d in measured
                ],
            )
        )
    return sorted(cards, key=lambda c: not c.chosen)


def _card(probe: Probe) -> ProbeCard:
    invitation = probe_store.newest_invitation(g.db, probe.id)
    far_end = place_store.far_end_of_probe(g.db, probe.id)
    program = probe.environment.get("program")
    state, says = how_it_is(probe, invitation)
    return ProbeCard(
        id=probe.id,
        name=probe.name,
        spot_id=probe.spot_id,
        state=state,  # type: ignore[arg-type]
        says=says,
        heard_from=probe.heard_from,
        last_heard_us=probe.last_heard_us,
        enrolled_us=probe.enrolled_us,
        around=around(probe.environment),
        invitation=_invitation(invitation) if invitation else None,
        answers=far_end is not None and far_end.archived_us is None,
        outdated=program is not None and program != probe_file.program_digest(),
        history=_history(probe),
    )


def how_it_is(probe: Probe, invitation: Invitation | None) -> tuple[str, str]:
    """Whether a probe is heard and, where it is not, what to try."""
    if probe.enrolled_us is None:
        if invitation is None or not invitation.good:
            return "not placed", "It has no link that works. Make one and send it to somebody at the site."
        if invitation.fetched_us:
            return "not placed", "The file was fetched but the probe has not spoken. Ask whether it was started."
        if invitation.opened_us:
            return "not placed", "The page was opened; the file has not been fetched yet."
        return "not placed", "Send its link to somebody at the site."
    if is_heard(probe):
        return "heard", "Ready to take work."
    medium = str(probe.environment.get("medium") or "")
    hint = "Ask somebody there: is the machine on and awake, and is the probe's window still open?"
    if medium == "Wi-Fi":
        hint += " It was on Wi-Fi: is it still in range?"
    return "silent", f"{hint} Starting the same file again is enough; what it measured is kept there."


def around(environment: dict[str, Any]) -> Surroundings:
    """What a probe told, in the form the screens know; anything of another kind is left out."""
    kinds: dict[str, type] = {"link_mbps": int, "mtu": int, "wifi_signal_dbm": int, "clock_synchronised": bool}
    values: dict[str, Any] = {}
    for name in Surroundings.model_fields:
        given = environment.get(name)
        if name in ("addresses", "name_servers", "cannot"):
            values[name] = [str(one)[:200] for one in given[:32]] if isinstance(given, list) else []
        else:
            values[name] = given if isinstance(given, kinds.get(name, str)) else None
    return Surroundings(**values)


def _invitation(invitation: Invitation) -> InvitationView:
    state = "open"
    if invitation.used_us:
        state = "used"
    elif invitation.revoked_us:
        state = "revoked"
    elif invitation.until_us <= now_us():
        state = "expired"
    return InvitationView(
        path=f"/join/{invitation.code}",
        until_us=invitation.until_us,
        opened_us=invitation.opened_us,
        fetched_us=invitation.fetched_us,
        used_us=invitation.used_us,
        state=state,  # type: ignore[arg-type]
    )


def _history(probe: Probe) -> list[CommandView]:
    """Everything this probe was told, newest first."""
    told = [_told(c) for c in command_store.commands_of(g.db, probe.id, HISTORY_SHOWN)]
    told += [_ran(r) for r in run_store.placed_by_probe(g.db, probe.id, HISTORY_SHOWN)]
    return sorted(told, key=lambda c: c.asked_us, reverse=True)[:HISTORY_SHOWN]


def _told(command: Command) -> CommandView:
    return CommandView(
        what=command_store.WORDS[command.kind],
        asked_by=command.asked_by,
        asked_us=command.created_us,
        taken_us=command.taken_us,
        began_us=command.taken_us,
        ended_us=command.ended_us,
        state=command.state,  # type: ignore[arg-type]
        outcome=command.failure or "",
        run_id=None,
    )


def _ran(run: Run) -> CommandView:
    events = {e.state: e.at_us for e in reversed(run_store.events(g.db, run.id))}
    calls = f"{run.calls} {'call' if run.calls == 1 else 'calls'}"
    return CommandView(
        what=f"Place {calls} of {run.seconds:g} s",
        asked_by=run_store.asked_by(g.db, run.id),
        asked_us=run.created_us,
        taken_us=events.get("taken"),
        began_us=run.begun_us,
        ended_us=run.ended_us,
        state=run.state,
        outcome=run.failure or ("" if run.state != "done" else STATE_WORDS["done"]),
        run_id=run.id,
    )
