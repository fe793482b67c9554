"""Addresses looked at by echoes from a probe, as it goes on."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.server.access import require_look, require_probe, require_server_look, require_site
from tarnfell.server.check.ends import probe_choices
from tarnfell.server.check.models.looks import AskLook, LookPage, LookView
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.presence import look_at
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import server_looks as look_store
from tarnfell.store import survey as survey_store
from tarnfell.store.db import writing
from tarnfell.store.jobs import Job, State
from tarnfell.store.server_looks import ServerLook
from tarnfell.store.sites import Site
from tarnfell.store.survey import LookAsked
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.look import LONGEST_S, LookArguments, LookResult, LookTarget
from tarnfell.work.placing.rules import about_presence

blueprint = Blueprint("looks", __name__)

SHOWN, LOOKED_AT = 10, 60
AT_ONCE = 4
WORDS = {
    "waiting": "Waiting for the probe.",
    "taken": "Picked up by the probe.",
    "running": "Looking.",
    "done": "Done.",
    "failed": "Failed.",
}
WAITING_HERE = "Waiting for its turn."


@endpoint(blueprint, "GET", "/api/sites/<slug>/looks", response=LookPage)
def show_looks(slug: str) -> LookPage:
    """The newest looks from this site."""
    return _page(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/looks", response=LookPage)
def ask_look(slug: str, body: AskLook) -> LookPage:
    """Have a probe, or the server itself, send echoes to a name or an address."""
    site = require_site(slug)
    host = body.host.strip()
    if any(sign.isspace() for sign in host):
        raise Problem(422, "A name or an address holds no spaces.")
    seconds = body.rounds * body.interval_s if body.rounds else LONGEST_S
    target = LookTarget("any" if host else "gateway", host)
    wanted = LookArguments((target,), seconds, body.interval_s, body.small_bytes, body.large_bytes or 0)
    if body.probe_id is None:
        with writing(g.db):
            if len([one for one in look_store.open_ones(g.db) if one.site_id == site.id]) >= AT_ONCE:
                raise Problem(409, f"{AT_ONCE} looks go on from the server already. Stop one of them.")
            look_store.ask(g.db, site.id, wanted, g.user.id)
        return _page(site)
    probe = require_probe(site, body.probe_id)
    reason = about_presence(probe)
    if reason:
        raise Problem(409, reason.words)
    with writing(g.db):
        if len(job_store.open_of_kind(g.db, site.id, "look")) >= AT_ONCE:
            raise Problem(409, f"{AT_ONCE} looks go on at this site already. Stop one of them.")
        job_store.add(g.db, site.id, probe.id, "look", "Requested.", g.user.id, plain(LookAsked(wanted)))
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/looks/<int:job_id>/stop", response=LookPage)
def stop_look(slug: str, job_id: int) -> LookPage:
    """End it now; what came back is kept."""
    site = require_site(slug)
    with writing(g.db):
        job_store.ask_stop(g.db, require_look(site, job_id).id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/server-looks/<int:look_id>/stop", response=LookPage)
def stop_server_look(slug: str, look_id: int) -> LookPage:
    """End it now; what came back is kept."""
    site = require_site(slug)
    with writing(g.db):
        look_store.stop(g.db, require_server_look(site, look_id).id)
    return _page(site)


def _page(site: Site) -> LookPage:
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    names = {probe.id: probe.name for probe in probe_store.probes_of(g.db, site.id)}
    jobs = job_store.newest_of_kind(g.db, site.id, "look", LOOKED_AT)
    views = [_view(job, names) for job in jobs if not survey_store.is_of_survey(g.db, job.id)]
    views += [_view_from_here(one) for one in look_store.newest_of(g.db, site.id, SHOWN)]
    return LookPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        probes=probe_choices(site),
        looks=sorted(views, key=lambda one: one.asked_us, reverse=True)[:SHOWN],
    )


def _view(job: Job, names: dict[int, str]) -> LookView:
    told = read(LookResult, job.result) if job.result else LookResult()
    words = job.failure or WORDS[job.state]
    probe = names.get(job.probe_id, "a retired probe")
    return _told(job.id, probe, job.created_us, job.state, words, read(LookAsked, job.arguments).look, told)


def _view_from_here(one: ServerLook) -> LookView:
    words = one.failure or (WAITING_HERE if one.state == "waiting" else WORDS[one.state])
    return _told(one.id, None, one.created_us, one.state, words, one.asked, one.told)


def _told(
    number: int, probe: str | None, asked_us: int, state: State, words: str, asked: LookArguments, told: LookResult
) -> LookView:
    return LookView(
        id=number,
        probe=probe,
        host=asked.targets[0].host,
        asked_us=asked_us,
        state=state,
        words=words,
        after_s=told.after_s,
        seconds=asked.seconds,
        interval_s=asked.interval_s,
        series=list(told.series),
        cannot=list(told.cannot),
    )
