"""Walking about with a probe: places named, measured, and compared; from the probe's own page too."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.core.codecs import find_codec
from tarnfell.core.survey import series_of
from tarnfell.server.access import require_far_end, require_look, require_probe, require_site
from tarnfell.server.check.ends import far_end_choices, probe_choices
from tarnfell.server.check.models.looks import (
    AskPlace,
    ChangePlace,
    JoinPlace,
    JoinSurvey,
    PlaceView,
    SurveyPage,
)
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.join import require_invitation
from tarnfell.server.place.presence import look_at
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import survey as survey_store
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.db import now_us, writing
from tarnfell.store.jobs import Job
from tarnfell.store.places import FarEnd
from tarnfell.store.probes import Probe
from tarnfell.store.sites import Site
from tarnfell.store.survey import LookAsked, Surveyed
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.look import LookArguments, LookResult, LookTarget
from tarnfell.work.placing.call_plan import call_plan
from tarnfell.work.placing.rules import Reason, about_ends, about_others, about_presence

blueprint = Blueprint("survey", __name__)

MARK = 46
OVERHEAD_S = 4.0
"""Of a place beside its seconds: the call is set up, its record comes back and is judged."""
SECONDS_HERE = 20.0
"""From the probe's own page."""
MOST_PLACES = 200
WORDS = {
    "waiting": "Waiting for the probe.",
    "taken": "Picked up by the probe.",
    "running": "Measuring. Stay where you are.",
    "done": "Being judged.",
    "failed": "Failed.",
}
NOT_ENROLLED = "The program has not been started yet; once it is online, places can be measured."


@endpoint(blueprint, "GET", "/api/sites/<slug>/survey", response=SurveyPage)
def show_survey(slug: str) -> SurveyPage:
    """The places of a site that were walked to with a probe."""
    return _page(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/survey", response=SurveyPage)
def measure_place(slug: str, body: AskPlace) -> SurveyPage:
    """Measure where the probe stands now, under a name."""
    site = require_site(slug)
    probe, far_end = require_probe(site, body.probe_id), require_far_end(body.far_end_id)
    with writing(g.db):
        _ask(site, probe, far_end, body.name, body.seconds, g.user.id)
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/survey/<int:job_id>/stop", response=SurveyPage)
def stop_place(slug: str, job_id: int) -> SurveyPage:
    """End it now; what came back is kept."""
    site = require_site(slug)
    with writing(g.db):
        job_store.ask_stop(g.db, _require_place(site, job_id).id)
    return _page(site)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/survey/<int:job_id>", response=SurveyPage)
def change_place(slug: str, job_id: int, body: ChangePlace) -> SurveyPage:
    """Give a place another name, leave it out of the comparison, or take it in again."""
    site = require_site(slug)
    with writing(g.db):
        survey_store.change(g.db, _require_place(site, job_id).id, body.name, body.removed)
    return _page(site)


@endpoint(blueprint, "GET", "/api/join/<code>/survey", audience="anyone", response=JoinSurvey)
def show_survey_here(code: str) -> JoinSurvey:
    """For whoever carries the probe about: the places so far, and whether the next can be measured."""
    site, probe = _behind(code)
    return _here(site, probe)


@endpoint(blueprint, "POST", "/api/join/<code>/survey", audience="anyone", response=JoinSurvey)
def measure_here(code: str, body: JoinPlace) -> JoinSurvey:
    """Measure where the probe stands now, asked for by whoever holds its link."""
    site, probe = _behind(code)
    with writing(g.db):
        if len(survey_store.places_of(g.db, site.id)) >= MOST_PLACES:
            raise Problem(409, f"{MOST_PLACES} places were measured here; ask your consultant before more.")
        _ask(site, probe, _first_far_end(site, probe), body.name, SECONDS_HERE, None)
    return _here(site, probe)


def _ask(
    site: Site, probe: Probe | None, far_end: FarEnd | None, name: str, seconds: float, asked_by: int | None
) -> None:
    """Raises Problem 409 with what stands against it."""
    reason = _against(site, probe, far_end)
    if reason:
        raise Problem(409, reason.words)
    assert probe is not None
    assert far_end is not None
    plan = call_plan(codec_of_site(g.db, site.id, site.codec), site.ptime_ms, 1, seconds, MARK)
    asked = LookAsked(LookArguments((LookTarget("gateway"),), seconds, call=plan), far_end.id)
    job_id = job_store.add(g.db, site.id, probe.id, "look", "Requested.", asked_by, plain(asked))
    survey_store.ask(g.db, job_id, site.id, far_end.id, name.strip() or name, site.codec, site.ptime_ms)


def _against(site: Site, probe: Probe | None, far_end: FarEnd | None) -> Reason | None:
    ends = about_ends(g.db, site, probe, far_end) or about_presence(probe)
    return ends or about_others(g.db, site) or _under_way(site)


def _under_way(site: Site) -> Reason | None:
    """One place after the other: the probe can stand at one only."""
    if any(survey_store.is_of_survey(g.db, job.id) for job in job_store.open_of_kind(g.db, site.id, "look")):
        words = "A place is being measured. Wait for it to end, or stop it."
        return Reason("busy", words, words)
    return None


def _behind(code: str) -> tuple[Site, Probe]:
    """Raises Problem 404, and 409 where nobody has started the probe, or its work is over."""
    invitation = require_invitation(code, "program")
    probe = probe_store.probe_by_id(g.db, invitation.probe_id)
    if invitation.used_us is None or invitation.revoked_us is not None or probe.retired_us is not None:
        raise Problem(409, NOT_ENROLLED if invitation.used_us is None else "The work of this probe is finished.")
    return site_store.site_by_id(g.db, probe.site_id), probe


def _first_far_end(site: Site, probe: Probe) -> FarEnd | None:
    return next((far for far in place_store.far_ends_of(g.db, site.id) if far.probe_id != probe.id), None)


def _here(site: Site, probe: Probe) -> JoinSurvey:
    look_at(site.id)
    reason = _against(site, probe, _first_far_end(site, probe))
    views = [one for one in _views(site) if not one.removed and one.probe == probe.name]
    return JoinSurvey(
        open=reason is None,
        says="" if reason is None else reason.words,
        places=views,
        target_mos=site.target_mos,
    )


def _page(site: Site) -> SurveyPage:
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    return SurveyPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        target_mos=site.target_mos,
        codec_title=find_codec(site.codec).title,
        probes=probe_choices(site),
        far_ends=far_end_choices(site),
        places=_views(site),
    )


def _require_place(site: Site, job_id: int) -> Job:
    job = require_look(site, job_id)
    if not survey_store.is_of_survey(g.db, job.id):
        raise Problem(404, f"{site.name} has no surveyed place {job_id}.")
    return job


def _views(site: Site) -> list[PlaceView]:
    names = {probe.id: probe.name for probe in probe_store.probes_of(g.db, site.id)}
    return [_view(one, job_store.job_by_id(g.db, one.job_id), names) for one in survey_store.places_of(g.db, site.id)]


def _view(one: Surveyed, job: Job, names: dict[int, str]) -> PlaceView:
    told = one.told or (read(LookResult, job.result) if job.result else LookResult())
    judged = one.judged is not None
    asked = read(LookAsked, job.arguments).look
    return PlaceView(
        id=one.job_id,
        name=one.name,
        probe=names.get(job.probe_id, "a retired probe"),
        asked_us=job.created_us,
        state=job.state,
        words=job.failure or one.failure or ("" if judged else WORDS[job.state]),
        left_s=_left_s(job, asked.seconds),
        medium=told.medium,
        link_mbps=told.link_mbps,
        wifi_signal_dbm=told.wifi_signal_dbm,
        gateway_small=series_of(told.series, "gateway", large=False),
        gateway_large=series_of(told.series, "gateway", large=True),
        far_small=series_of(told.series, "far-end", large=False),
        far_large=series_of(told.series, "far-end", large=True),
        place=one.judged,
        removed=one.removed_us is not None,
    )


def _left_s(job: Job, seconds: float) -> float | None:
    if job.state not in job_store.OPEN:
        return None
    gone_s = (now_us() - job.begun_us) / 1e6 if job.begun_us else 0.0
    return max(0.0, seconds + OVERHEAD_S - gone_s)
