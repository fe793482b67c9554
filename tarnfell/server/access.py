"""The only loaders of what an address names. Each gives the row, or the sentence that says there is none.

A row of a site is asked for with its site, and a probe is given only what is its own: what belongs to another answers
like what does not exist. So does what is of an engagement that the person who asks does not belong to; whoever belongs
to it in a role that may less than the address needs is told that.
"""

from __future__ import annotations

from flask import g

from tarnfell.server.http.api import Problem
from tarnfell.store import alerts as alert_store
from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import fill_plans as fill_plan_store
from tarnfell.store import imports as import_store
from tarnfell.store import issued as issued_store
from tarnfell.store import jobs as job_store
from tarnfell.store import members as member_store
from tarnfell.store import notes as note_store
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import server_looks as server_look_store
from tarnfell.store import sites as site_store
from tarnfell.store import tasks as task_store
from tarnfell.store import videos as video_store
from tarnfell.store import watches as watch_store
from tarnfell.store import welcomes as welcome_store
from tarnfell.store.alerts import KeptRule
from tarnfell.store.calls import StoredCall
from tarnfell.store.engagements import Engagement
from tarnfell.store.fill_plans import FillPlanned
from tarnfell.store.imports import Imported
from tarnfell.store.issued import Issued, Link
from tarnfell.store.jobs import Job
from tarnfell.store.members import ROLES, Member, Role
from tarnfell.store.notes import Note
from tarnfell.store.places import FarEnd, TestPoint
from tarnfell.store.plans import Plan, Series
from tarnfell.store.probes import Probe
from tarnfell.store.runs import Run
from tarnfell.store.server_looks import ServerLook
from tarnfell.store.sites import Site
from tarnfell.store.tasks import Task
from tarnfell.store.videos import StoredVideo
from tarnfell.store.watches import Watch
from tarnfell.store.welcomes import Welcome
from tarnfell.wire.kinds import Name
from tarnfell.work.answering import KINDS as ANSWERS

# For people


_TOO_LITTLE: dict[Role, str] = {
    "colleague": "You belong to this engagement as a customer: you read what was issued and what is shown to you.",
    "consultant": "Only a consultant of this engagement may do that.",
}


def _admit(engagement_id: int, none: Problem) -> None:
    """The person who asks belongs to the engagement, in a role that may do what is asked. Raises Problem."""
    role = member_store.role_of(g.db, engagement_id, g.user.id)
    if role is None:
        raise none
    if ROLES.index(role) < ROLES.index(g.needs):
        raise Problem(403, _TOO_LITTLE[g.needs])
    g.engagement_id = engagement_id


def is_consultant(engagement_id: int) -> bool:
    """Whether the person who asks may give things out there: pages leave away what others may not do."""
    return member_store.role_of(g.db, engagement_id, g.user.id) == "consultant"


def _admit_to_site(site_id: int, none: Problem) -> None:
    _admit(site_store.site_by_id(g.db, site_id).engagement_id, none)
    g.site_id = site_id


def require_engagement(slug: str) -> Engagement:
    engagement = engagement_store.engagement_by_slug(g.db, slug)
    none = Problem(404, f"There is no engagement “{slug}”.")
    if engagement is None:
        raise none
    _admit(engagement.id, none)
    return engagement


def require_member(engagement: Engagement, user_id: int) -> Member:
    found = next((one for one in member_store.members_of(g.db, engagement.id) if one.user_id == user_id), None)
    if found is None:
        raise Problem(404, f"{engagement.name} has no member {user_id}.")
    return found


def require_invited(engagement: Engagement, welcome_id: int) -> Welcome:
    """An invitation that is still open."""
    found = next((one for one in welcome_store.open_of(g.db, engagement.id) if one.id == welcome_id), None)
    if found is None:
        raise Problem(404, f"{engagement.name} has no open invitation {welcome_id}.")
    return found


def require_rule(engagement: Engagement, rule_id: int) -> KeptRule:
    """A rule for alerts that is at work."""
    rule = alert_store.rule_by_id(g.db, rule_id)
    if rule is None or rule.engagement_id != engagement.id or rule.ended_us is not None:
        raise Problem(404, f"{engagement.name} has no rule {rule_id}.")
    return rule


def require_site(slug: str) -> Site:
    site = site_store.site_by_slug(g.db, slug)
    none = Problem(404, f"There is no site “{slug}”.")
    if site is None:
        raise none
    _admit_to_site(site.id, none)
    return site


def require_test_point(site: Site, test_point_id: int) -> TestPoint:
    test_point = place_store.test_point_by_id(g.db, test_point_id)
    if test_point is None or test_point.site_id != site.id:
        raise Problem(404, f"{site.name} has no test point {test_point_id}.")
    return test_point


def require_probe(site: Site, probe_id: int) -> Probe:
    try:
        probe = probe_store.probe_by_id(g.db, probe_id)
    except KeyError:
        probe = None
    if probe is None or probe.site_id != site.id or probe.kind != "program":
        raise Problem(404, f"{site.name} has no probe {probe_id}.")
    return probe


def require_browser(site: Site, probe_id: int) -> Probe:
    """A browser that has, or had, a link to test from this site."""
    found = next((one for one in browser_store.browsers_of(g.db, site.id) if one.id == probe_id), None)
    if found is None:
        raise Problem(404, f"{site.name} has no link {probe_id} for tests from a browser.")
    return found


def require_far_end(far_end_id: int) -> FarEnd:
    """Far ends are shared by all sites of this server."""
    far_end = place_store.far_end_by_id(g.db, far_end_id)
    if far_end is None:
        raise Problem(404, f"There is no far end {far_end_id}.")
    return far_end


def require_host(far_end_id: int) -> FarEnd:
    """One that people keep, not a probe's or this server's own."""
    far_end = require_far_end(far_end_id)
    if far_end.kind != "host":
        raise Problem(409, f"{far_end.name} is kept by {'its probe' if far_end.kind == 'probe' else 'this server'}.")
    return far_end


def require_plan(site: Site, plan_id: int) -> Plan:
    try:
        plan = plan_store.plan_by_id(g.db, plan_id)
    except KeyError:
        plan = None
    if plan is None or plan.site_id != site.id:
        raise Problem(404, f"{site.name} has no plan {plan_id}.")
    return plan


def require_series(series_id: int) -> Series:
    none = Problem(404, f"There is no series {series_id}.")
    try:
        found = plan_store.series_by_id(g.db, series_id)
    except KeyError:
        raise none from None
    _admit_to_site(found.site_id, none)
    return found


def require_run(run_id: int) -> Run:
    none = Problem(404, f"There is no run {run_id}.")
    try:
        found = run_store.run_by_id(g.db, run_id)
    except KeyError:
        raise none from None
    _admit_to_site(found.site_id, none)
    return found


def require_call(call_id: int) -> StoredCall:
    none = Problem(404, f"There is no call {call_id}.")
    try:
        found = call_store.call_by_id(g.db, call_id)
    except KeyError:
        raise none from None
    _admit_to_site(run_store.run_by_id(g.db, found.run_id).site_id, none)
    return found


def require_video(stream_id: int) -> StoredVideo:
    none = Problem(404, f"There is no video stream {stream_id}.")
    try:
        found = video_store.video_by_id(g.db, stream_id)
    except KeyError:
        raise none from None
    _admit_to_site(run_store.run_by_id(g.db, found.run_id).site_id, none)
    return found


def require_import(import_id: int) -> Imported:
    none = Problem(404, f"There is no imported file {import_id}.")
    try:
        found = import_store.import_by_id(g.db, import_id)
    except KeyError:
        raise none from None
    _admit_to_site(found.site_id, none)
    return found


def require_check(site: Site, job_id: int) -> Job:
    return _require_job(site, job_id, "check", "check")


def require_fill(site: Site, job_id: int) -> Job:
    return _require_job(site, job_id, "fill", "line fill")


def require_look(site: Site, job_id: int) -> Job:
    return _require_job(site, job_id, "look", "look")


def require_server_look(site: Site, look_id: int) -> ServerLook:
    look = server_look_store.by_id(g.db, look_id)
    if look is None or look.site_id != site.id:
        raise Problem(404, f"{site.name} has no look from the server {look_id}.")
    return look


def require_flow(site: Site, job_id: int) -> Job:
    return _require_job(site, job_id, "flow", "load of small packets")


def require_note(site: Site, note_id: int) -> Note:
    note = note_store.note_by_id(g.db, note_id)
    if note is None or note.site_id != site.id:
        raise Problem(404, f"{site.name} has no note {note_id}.")
    return note


def require_fill_plan(site: Site, plan_id: int) -> FillPlanned:
    plan = fill_plan_store.by_id(g.db, plan_id)
    if plan is None or plan.site_id != site.id or plan.state != "scheduled":
        raise Problem(404, f"{site.name} has no planned line fill {plan_id}.")
    return plan


def _require_job(site: Site, job_id: int, kind: Name, what: str) -> Job:
    try:
        job = job_store.job_by_id(g.db, job_id)
    except KeyError:
        job = None
    if job is None or job.site_id != site.id or job.kind != kind:
        raise Problem(404, f"{site.name} has no {what} {job_id}.")
    return job


def require_task(task_id: int) -> Task:
    none = Problem(404, f"There is no document {task_id}. Ask for it again.")
    try:
        found = task_store.task_by_id(g.db, task_id)
    except KeyError:
        raise none from None
    if found.kind in ANSWERS:
        raise none
    if found.site_id is not None:
        _admit_to_site(found.site_id, none)
    else:
        _admit(found.engagement_id or 0, none)
    return found


def require_issued(issued_id: int) -> Issued:
    one = issued_store.by_id(g.db, issued_id)
    none = Problem(404, f"There is no issued report {issued_id}.")
    if one is None:
        raise none
    _admit_to_site(one.site_id, none)
    return one


def require_link(one: Issued, link_id: int) -> Link:
    link = next((link for link in issued_store.links_of(g.db, one.id) if link.id == link_id), None)
    if link is None:
        raise Problem(404, f"Report {one.number} has no link {link_id}.")
    return link


# For probes


def own_run(run_id: int) -> Run:
    """A run of the probe that asks."""
    none = Problem(404, f"There is no run {run_id} for this probe.")
    try:
        run = run_store.run_by_id(g.db, run_id)
    except KeyError:
        raise none from None
    if run.probe_id != g.probe.id:
        raise none
    return run


def own_job(job_id: int) -> Job:
    """A job of the probe that asks."""
    return _job_of(g.probe, job_id, f"There is no job {job_id} for this probe.")


def browser_job(browser: Probe, job_id: int) -> Job:
    """A job of the browser whose link was shown."""
    return _job_of(browser, job_id, f"There is no test {job_id} behind this link.")


def _job_of(probe: Probe, job_id: int, none: str) -> Job:
    try:
        job = job_store.job_by_id(g.db, job_id)
    except KeyError:
        job = None
    if job is None or job.probe_id != probe.id:
        raise Problem(404, none)
    return job


def own_watch(watch_id: int) -> Watch:
    """A watch of the probe that asks; it need not be wanted any more."""
    watch = watch_store.watch_by_id(g.db, watch_id)
    if watch is None or watch.probe_id != g.probe.id:
        raise Problem(404, f"There is no watch {watch_id} for this probe.")
    return watch
