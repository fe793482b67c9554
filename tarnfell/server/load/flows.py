"""Loading a site's line with packets all alike: asked for with consent, and what of them arrived."""

from __future__ import annotations

from flask import Blueprint, g

from tarnfell.core.schedule import from_us
from tarnfell.server.access import require_far_end, require_flow, require_probe, require_site
from tarnfell.server.check.ends import far_end_choices, probe_choices
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.load.models.flows import AskFlow, FlowLine, FlowPage
from tarnfell.server.place.presence import look_at
from tarnfell.store import engagements as engagement_store
from tarnfell.store import flows as flow_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.flows import Flow, FlowAsked
from tarnfell.store.jobs import Job
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.flow import MOST_KEPT, FlowPlan
from tarnfell.work.placing.rules import against_flow, ceiling_kbps

blueprint = Blueprint("flows", __name__)

SHOWN = 20
WORDS = {
    "waiting": "Waiting for the probe.",
    "taken": "Picked up by the probe.",
    "running": "Sending.",
    "done": "Being judged.",
    "failed": "Failed.",
}


@endpoint(blueprint, "GET", "/api/sites/<slug>/flows", response=FlowPage)
def show_flows(slug: str) -> FlowPage:
    """The newest loads of a site's line with packets all alike."""
    return _page(require_site(slug))


@endpoint(blueprint, "POST", "/api/sites/<slug>/flows", response=FlowPage)
def ask_flow(slug: str, body: AskFlow) -> FlowPage:
    """Have a probe send packets of one size at one rate, and the far end as many back."""
    site = require_site(slug)
    probe, far_end = require_probe(site, body.probe_id), require_far_end(body.far_end_id)
    if body.packets_per_s * body.seconds > MOST_KEPT:
        raise Problem(
            422,
            f"{body.packets_per_s:g} packets a second for {body.seconds:g} s are more than the {MOST_KEPT} of which a "
            "record is kept. Choose fewer of either.",
        )
    plan = FlowPlan(body.packet_bytes, body.packets_per_s, body.seconds, body.dscp, body.direction)
    with writing(g.db):
        reason = against_flow(g.db, site, probe, far_end, plan, from_us(now_us()))
        if reason:
            raise Problem(409, reason.words)
        job_store.ask(g.db, site.id, probe.id, "flow", g.user.id, plain(FlowAsked(far_end.id, plan)))
    return _page(site)


@endpoint(blueprint, "POST", "/api/sites/<slug>/flows/<int:job_id>/stop", response=FlowPage)
def stop_flow(slug: str, job_id: int) -> FlowPage:
    """End it now; what was measured is kept."""
    site = require_site(slug)
    with writing(g.db):
        job_store.ask_stop(g.db, require_flow(site, job_id).id)
    return _page(site)


def _page(site: Site) -> FlowPage:
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    seen = {one.job_id: one for one in flow_store.flows_of(g.db, site.id, SHOWN)}
    probes = {probe.id: probe.name for probe in probe_store.probes_of(g.db, site.id)}
    far_ends = {far.id: far.name for far in place_store.far_ends(g.db)}
    return FlowPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        probes=probe_choices(site),
        far_ends=far_end_choices(site),
        ceiling_kbps=ceiling_kbps(site),
        most_packets=MOST_KEPT,
        flows=[
            _line(job, seen.get(job.id), probes, far_ends)
            for job in job_store.newest_of_kind(g.db, site.id, "flow", SHOWN)
        ],
    )


def _line(job: Job, flow: Flow | None, probes: dict[int, str], far_ends: dict[int, str]) -> FlowLine:
    asked = read(FlowAsked, job.arguments)
    is_judged = flow is not None and flow.seen is not None
    return FlowLine(
        id=job.id,
        probe=probes.get(job.probe_id, "a retired probe"),
        far_end=far_ends.get(asked.far_end_id, "an archived far end"),
        asked_us=job.created_us,
        state=job.state,
        words=job.failure or (flow.failure if flow else None) or ("" if is_judged else WORDS[job.state]),
        packet_bytes=asked.plan.packet_bytes,
        packets_per_s=asked.plan.packets_per_s,
        seconds=asked.plan.seconds,
        dscp=asked.plan.dscp,
        direction=asked.plan.direction,
        seen=flow.seen if flow else None,
    )
