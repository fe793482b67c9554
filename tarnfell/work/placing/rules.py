"""A site's rules about calls: each a reason with a code to decide by, and words to tell.

The ends must be there and be two, the probe online, nothing else under way, the hours allowed, and the load within
the ceiling. Nothing decides by the words.
"""

from __future__ import annotations

import math
import sqlite3
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal
from zoneinfo import ZoneInfo

from tarnfell.core.codecs import find_codec
from tarnfell.core.rates import CallRate, Flow, Plan, hold, plan_run
from tarnfell.core.schedule import Quiet, Span, quiet_span
from tarnfell.store import browsers as browser_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import runs as run_store
from tarnfell.store.places import FarEnd
from tarnfell.store.probes import Probe
from tarnfell.store.runs import RunSpec
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.fill import FillPlan
from tarnfell.wire.kinds.flow import FlowPlan
from tarnfell.work.placing.browser_plan import plan_of
from tarnfell.work.placing.flow_plan import offered
from tarnfell.work.placing.metered import MB, beside_bytes, flow_bytes, left_bytes, run_bytes
from tarnfell.work.placing.presence import is_online

Code = Literal["archived", "no-probe", "no-far-end", "itself", "offline", "busy", "hours", "ceiling", "metered"]

PASSES: frozenset[Code] = frozenset({"offline", "busy"})
"""Worth waiting for a moment; every other reason lasts until somebody changes something or the hours are over."""


FINISHED = "This work is finished. Thank you."
"""To whoever opens a link after it."""


@dataclass(frozen=True)
class Reason:
    code: Code
    words: str
    """To who wants to place the calls now, with what to do."""
    afterwards: str
    """In the record of a plan that ended for it."""
    fits: int | None = None
    """Of ``ceiling``: concurrent calls there is room for; below zero where the video alone is beyond it."""
    stretch: Span | None = None
    """Of ``hours``: the stretch without load."""


def against(
    db: sqlite3.Connection, site: Site, probe: Probe | None, far_end: FarEnd | None, spec: RunSpec, at: datetime
) -> Reason | None:
    """The first reason why this run may not be placed at ``at``. Raises CodecError, VideoError or PlanError."""
    plan = plan_run(
        find_codec(spec.codec), spec.ptime_ms, hold(spec.calls, spec.seconds), site.link, spec.direction, spec.video
    )
    return (
        # What lasts comes before what passes, so that nobody waits for a probe in vain.
        about_ends(db, site, probe, far_end)
        or about_ceiling(site, plan, spec.direction)
        or about_metered(db, site, run_bytes(site, spec), at)
        or about_hours(site, Span(at, at + timedelta(seconds=spec.seconds)))
        or about_presence(probe)
        or about_others(db, site)
    )


def against_browser(db: sqlite3.Connection, site: Site, browser: Probe, spec: RunSpec, at: datetime) -> Reason | None:
    """As ``against``, of a test from a browser, which is there by itself and enrols nowhere. Raises CodecError."""
    link = browser_store.link_of(db, browser.id)
    if site.archived_us is not None or browser.retired_us is not None or link is None:
        return Reason("archived", FINISHED, "The site was archived.")
    plan = plan_of(link)
    return (
        _about_kbps(site, plan.each_way_kbps)
        or about_metered(db, site, plan.volume_bytes, at)
        or about_hours(site, Span(at, at + timedelta(seconds=spec.seconds)))
        or about_others(db, site)
    )


def against_browser_filling(
    db: sqlite3.Connection, site: Site, browser: Probe, plan: FillPlan, at: datetime
) -> Reason | None:
    """As ``against_filling``, from a browser."""
    if site.archived_us is not None or browser.retired_us is not None:
        return Reason("archived", FINISHED, "The site was archived.")
    return (
        about_browser_fill(site)
        or about_metered(db, site, beside_bytes(site, plan) + 1, at)
        or about_hours(site, Span(at, at + timedelta(seconds=plan.length_s)))
        or about_others(db, site)
    )


def about_browser_fill(site: Site) -> Reason | None:
    """A browser cannot keep its streams below a rate."""
    if ceiling_kbps(site) is None:
        return None
    words = f"Tests may take {site.ceiling_pct:g} % of this site's line, and a browser that fills it takes all of it."
    return Reason("ceiling", words, words)


def against_filling(
    db: sqlite3.Connection, site: Site, probe: Probe | None, far_end: FarEnd | None, plan: FillPlan, at: datetime
) -> Reason | None:
    """As ``against``, of filling the line. Its ceiling is in the plan already, unless somebody said to go beyond it."""
    return (
        about_ends(db, site, probe, far_end)
        or about_metered(db, site, beside_bytes(site, plan) + 1, at)
        or about_hours(site, Span(at, at + timedelta(seconds=plan.length_s)))
        or about_presence(probe)
        or about_others(db, site)
    )


def against_flow(
    db: sqlite3.Connection, site: Site, probe: Probe | None, far_end: FarEnd | None, plan: FlowPlan, at: datetime
) -> Reason | None:
    """As ``against``, of a load of packets all alike."""
    return (
        about_ends(db, site, probe, far_end)
        or _about_flow_ceiling(site, plan)
        or about_metered(db, site, flow_bytes(plan), at)
        or about_hours(site, Span(at, at + timedelta(seconds=plan.seconds)))
        or about_presence(probe)
        or about_others(db, site)
    )


def _about_flow_ceiling(site: Site, plan: FlowPlan) -> Reason | None:
    return _about_kbps(site, offered(plan).ip_kbps)


def _about_kbps(site: Site, takes_kbps: float) -> Reason | None:
    room_kbps = ceiling_kbps(site)
    if room_kbps is None or takes_kbps <= room_kbps:
        return None
    words = (
        f"{takes_kbps:.0f} kbit/s each way are beyond this site's ceiling of {site.ceiling_pct:g} % of the line, "
        f"{room_kbps} kbit/s."
    )
    return Reason("ceiling", words, words)


def about_metered(db: sqlite3.Connection, site: Site, takes_bytes: float, at: datetime) -> Reason | None:
    left = left_bytes(db, site, at)
    if left is None or takes_bytes <= left:
        return None
    return Reason(
        "metered",
        f"This line is metered: of {site.metered_mb} MB that loads may move in a day, {left / MB:.1f} MB are left, and "
        f"this takes {takes_bytes / MB:.1f} MB. The allowance begins anew at midnight at the site.",
        "The day’s allowance of the metered line was used up.",
    )


def about_ends(db: sqlite3.Connection, site: Site, probe: Probe | None, far_end: FarEnd | None) -> Reason | None:
    """Whether this site, probe and far end go together at all."""
    if site.archived_us is not None:
        return Reason("archived", f"{site.name} is archived. Restore it first.", "The site was archived.")
    if probe is None or probe.site_id != site.id or probe.enrolled_us is None:
        return Reason("no-probe", "This site has no such probe. Place one first.", "The probe had left the site.")
    if probe.retired_us is not None:
        return Reason("no-probe", f"{probe.name} is retired. Choose another probe.", f"{probe.name} was retired.")
    if (
        far_end is None
        or far_end.archived_us is not None
        or site.id not in place_store.sites_that_chose(db, far_end.id)
    ):
        return Reason(
            "no-far-end",
            "The far end is not chosen for this site. Choose it under Place.",
            "The far end was no longer chosen for this site.",
        )
    if far_end.probe_id == probe.id:
        words = f"{probe.name} cannot call itself. Choose another far end."
        return Reason("itself", words, words)
    return None


def about_presence(probe: Probe | None) -> Reason | None:
    if probe is None or is_online(probe):
        return None
    return Reason(
        "offline", f"The probe {probe.name} is offline. Check its power and network.", f"{probe.name} was offline."
    )


def about_others(db: sqlite3.Connection, site: Site) -> Reason | None:
    """One run at a time at a site: two would measure each other."""
    if job_store.open_of_kind(db, site.id, "fill"):
        return Reason(
            "busy",
            "The line of this site is being filled. Wait for that to end, or stop it.",
            "The line of the site was being filled.",
        )
    if job_store.open_of_kind(db, site.id, "flow"):
        return Reason(
            "busy",
            "The line of this site is loaded with small packets. Wait for that to end, or stop it.",
            "The line of the site was loaded with small packets.",
        )
    if not run_store.open_runs(db, site.id):
        return None
    return Reason(
        "busy",
        "A run is in progress at this site. Wait for it to end, or stop it.",
        "Another run was in progress at this site.",
    )


def about_hours(site: Site, span: Span) -> Reason | None:
    zone = ZoneInfo(site.time_zone)
    hit = quiet_span(span, quiet_hours(site), zone)
    if hit is None:
        return None
    stretch, hours = hit
    why = f": {hours.why}" if hours.why else ""
    until = f"{stretch.start.astimezone(zone):%H:%M} to {stretch.end.astimezone(zone):%H:%M}"
    return Reason(
        "hours",
        f"No load may be placed here from {until}{why}.",
        f"Hours without load had come{why}.",
        stretch=stretch,
    )


def about_ceiling(site: Site, plan: Plan, direction: Flow) -> Reason | None:
    fits = ceiling_calls(site, plan.rate, direction, plan.video_line_kbps)
    if fits is None or plan.calls_at_once <= fits:
        return None
    part = f"{site.ceiling_pct:g} % of the line"
    if fits < 1 and plan.video_line_kbps:
        words = f"The video alone is beyond this site's ceiling of {part}."
    else:
        beside = " beside the video" if plan.video_line_kbps else ""
        words = f"{plan.calls_at_once} calls are beyond this site's ceiling: {part} is room for {max(0, fits)}{beside}."
    return Reason("ceiling", words, words, fits=fits)


def ceiling_calls(site: Site, rate: CallRate, direction: Flow = "both", video_kbps: float = 0.0) -> int | None:
    """Most concurrent calls under the site's ceiling beside so much video; None where there is none, or no rate."""
    return calls_within(rate, site.up_kbps, site.down_kbps, site.ceiling_pct, direction, video_kbps)


def ceiling_kbps(site: Site) -> int | None:
    """What tests may take of the slower direction of the line; None where there is no ceiling, or no rate."""
    rates = [kbps for kbps in (site.up_kbps, site.down_kbps) if kbps]
    if site.ceiling_pct is None or not rates:
        return None
    return math.floor(min(rates) * site.ceiling_pct / 100)


def calls_within(
    rate: CallRate,
    up_kbps: int | None,
    down_kbps: int | None,
    ceiling_pct: float | None,
    direction: Flow = "both",
    video_kbps: float = 0.0,
) -> int | None:
    """As ``ceiling_calls``, of a brief not saved yet.

    Only the ways in which media flows count. Negative where the video alone is beyond it.
    """
    rates = [kbps for way, kbps in (("up", up_kbps), ("down", down_kbps)) if kbps and direction in ("both", way)]
    if ceiling_pct is None or not rates:
        return None
    return math.floor((min(rates) * ceiling_pct / 100 - video_kbps) / rate.line_kbps)


def quiet_hours(site: Site) -> list[Quiet]:
    """Hours that pass midnight belong to the day they begin on."""
    return [
        Quiet(b.days, b.from_minute, b.to_minute + (1440 if b.to_minute < b.from_minute else 0), b.why)
        for b in site.blackouts
    ]
