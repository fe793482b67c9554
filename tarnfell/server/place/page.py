"""The places of a site as they are shown: test points with their probes, far ends with their distances, tasks."""

from __future__ import annotations

import sqlite3
from typing import Literal

from flask import g

from tarnfell.server.http.address import address_told
from tarnfell.server.judge.sites import STATE_WORDS
from tarnfell.server.place import probe_file
from tarnfell.server.place.models.places import (
    ArchivedFarEnd,
    DistanceView,
    FarEndCard,
    InvitationView,
    JobView,
    PlacePage,
    ProbeCard,
    TestPointKindView,
    TestPointView,
)
from tarnfell.server.watch.view import watch_view
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import now_us
from tarnfell.store.jobs import Job
from tarnfell.store.probes import Invitation, Probe
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online

TEST_POINT_KINDS: dict[str, tuple[str, str]] = {
    "farthest": ("Farthest subnet", "As far from the WAN edge as people work: every switch in between is measured."),
    "desk": ("Desk", "Where calls are really taken, on the wire they are taken on."),
    "wireless": ("Desk on Wi-Fi", "The same desk by radio; beside a wired one it tells what the radio adds."),
    "cabinet": ("Network cabinet", "Beside the switches: with a desk's probe it isolates the floor between."),
    "firewall": ("Behind the firewall", "Just inside the WAN edge: trouble seen from here is not inside the site."),
    "outside": ("Outside the firewall", "On the provider's side: what is wrong only inside of it is the firewall."),
}
HISTORY_SHOWN = 12


def place_page(site: Site) -> PlacePage:
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    probes = probe_store.probes_of(g.db, site.id)
    test_points = place_store.test_points_of(g.db, site.id)
    return PlacePage(
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        site_slug=site.slug,
        site_name=site.name,
        time_zone=site.time_zone,
        medium=site.medium,
        provider=site.provider,
        test_points=[
            TestPointView(
                id=s.id,
                name=s.name,
                kind=s.kind,
                kind_words=TEST_POINT_KINDS[s.kind][0],
                note=s.note,
                probes=[_card(p) for p in probes if p.test_point_id == s.id],
            )
            for s in test_points
        ],
        test_point_kinds=[
            TestPointKindView.model_validate({"kind": k, "words": w, "why": y})
            for k, (w, y) in TEST_POINT_KINDS.items()
        ],
        far_ends=_far_end_cards(g.db, site, probes),
        archived_far_ends=[
            ArchivedFarEnd(id=far.id, name=far.name, archived_us=far.archived_us or 0)
            for far in place_store.archived_hosts(g.db)
        ],
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
                    DistanceView(
                        probe_id=d.probe_id,
                        at_us=d.at_us,
                        connect_ms=d.connect_ms,
                        failure=d.failure,
                        key_fits=d.key_fits,
                    )
                    for d in measured
                ],
            )
        )
    return sorted(cards, key=lambda c: not c.chosen)


def _card(probe: Probe) -> ProbeCard:
    invitation = probe_store.newest_invitation(g.db, probe.id)
    far_end = place_store.far_end_of_probe(g.db, probe.id)
    program = probe.around.program
    state, says = how_it_is(probe, invitation)
    return ProbeCard(
        id=probe.id,
        name=probe.name,
        test_point_id=probe.test_point_id,
        state=state,  # type: ignore[arg-type]
        says=says,
        contact_address=probe.contact_address,
        last_contact_us=probe.last_contact_us,
        enrolled_us=probe.enrolled_us,
        around=probe.around,
        invitation=invitation_view(invitation, "join", address_told()),
        answers=far_end is not None and far_end.archived_us is None,
        outdated=program is not None and program != probe_file.program_digest(),
        watch=watch_view(g.db, probe),
        history=_history(probe),
    )


def how_it_is(probe: Probe, invitation: Invitation | None) -> tuple[str, str]:
    """Whether a probe is online and, where it is not, what to try."""
    if probe.enrolled_us is None:
        if invitation is None or not invitation.good:
            return "never online", "It has no valid link. Create one and send it to somebody at the site."
        if invitation.fetched_us:
            return (
                "never online",
                "The file was fetched but the probe has not made contact. Ask whether it was started.",
            )
        if invitation.opened_us:
            return "never online", "The page was opened; the file has not been fetched yet."
        return "never online", "Send its link to somebody at the site."
    if is_online(probe):
        return "online", "Ready for tasks."
    hint = "Ask somebody there: is the machine on and awake, and is the probe's window still open?"
    if probe.around.medium == "Wi-Fi":
        hint += " It was on Wi-Fi: is it still in range?"
    return "offline", f"{hint} Starting the same file again is enough; what it measured is kept there."


def invitation_view(invitation: Invitation | None, page: Literal["join", "test"], origin: str) -> InvitationView | None:
    """With the address of the page for who gets it."""
    if invitation is None:
        return None
    state = "open"
    if invitation.used_us:
        state = "used"
    elif invitation.revoked_us:
        state = "revoked"
    elif invitation.until_us <= now_us():
        state = "expired"
    return InvitationView(
        origin=origin,
        path=f"/{page}/{invitation.code}",
        until_us=invitation.until_us,
        opened_us=invitation.opened_us,
        fetched_us=invitation.fetched_us,
        used_us=invitation.used_us,
        state=state,  # type: ignore[arg-type]
    )


def _history(probe: Probe) -> list[JobView]:
    """Everything this probe was asked to do, newest first."""
    return [_asked(job) for job in job_store.told_to(g.db, probe.id, HISTORY_SHOWN)]


def _asked(job: Job) -> JobView:
    what, outcome = job_store.WORDS[job.kind], job.failure or ""
    if job.kind == "calls":
        run = run_store.run_by_id(g.db, job.id)
        what = f"Place {run.calls} {'call' if run.calls == 1 else 'calls'} of {run.seconds:g} s"
        outcome = outcome or (STATE_WORDS["done"] if job.state == "done" else "")
    return JobView(
        what=what,
        asked_by=job_store.asker(g.db, job.id),
        asked_us=job.created_us,
        taken_us=job.taken_us,
        began_us=job.begun_us,
        ended_us=job.ended_us,
        state=job.state,
        outcome=outcome,
        run_id=job.id if job.kind == "calls" else None,
    )
