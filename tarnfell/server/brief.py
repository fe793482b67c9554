"""Briefs: writing a site down, the arithmetic of what is written, targets and their presets."""

from __future__ import annotations

import dataclasses
import math
import sqlite3
import zoneinfo
from functools import cache
from typing import Any

from flask import Blueprint, g

from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.need import Need, NeedError, need_of
from tarnfell.core.quality import Criterion, criterion_for
from tarnfell.core.rates import MAX_CALLS, CallRate, Link, call_rate, video_rate
from tarnfell.core.stats import moments_to_show
from tarnfell.core.targets import BOUNDS, PRESETS, TargetError, Targets, check_targets
from tarnfell.core.verdict.capacity import WITNESS_CONFIDENCE
from tarnfell.core.video import VideoError, find_profile, video_profiles
from tarnfell.server.access import require_engagement, require_site
from tarnfell.server.api import Problem, endpoint
from tarnfell.server.brief_words import changes_between
from tarnfell.server.models.brief import (
    Archive,
    Arithmetic,
    BoundView,
    BriefChangeView,
    BriefForm,
    BriefPage,
    Duplicate,
    KeepPreset,
    Made,
    NeedView,
    PresetList,
    PresetView,
    RunArithmetic,
    StreamLoad,
    TargetsForm,
    VideoProfileView,
)
from tarnfell.store import briefs as brief_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import writing
from tarnfell.store.engagements import Engagement
from tarnfell.store.sites import Blackout, Contact, Site, VideoNeed
from tarnfell.work.placing.rules import calls_within

blueprint = Blueprint("brief", __name__)

RUN_CALL_S = 60.0
CROWDED_PCT = 75.0
"""Calls that take more of a line than this leave too little for everything else."""


@endpoint(blueprint, "GET", "/api/engagements/<slug>/brief", response=BriefPage)
def new_brief(slug: str) -> BriefPage:
    """An empty brief for one more site, and what it may hold."""
    return _page(require_engagement(slug), None)


@endpoint(blueprint, "GET", "/api/sites/<slug>/brief", response=BriefPage)
def show_brief(slug: str) -> BriefPage:
    """A site's brief, and what it may hold."""
    site = require_site(slug)
    return _page(engagement_store.engagement_by_id(g.db, site.engagement_id), site)


@endpoint(blueprint, "POST", "/api/engagements/<slug>/sites", response=Made)
def make_site(slug: str, body: BriefForm) -> Made:
    """Write a new site down."""
    engagement = require_engagement(slug)
    values = site_values(body)
    with writing(g.db):
        free_name(engagement.id, body.name)
        new = site_store.free_slug(g.db, "site", body.name)
        site_store.add_site(g.db, engagement.id, slug=new, **values)
    return Made(slug=new)


@endpoint(blueprint, "PUT", "/api/sites/<slug>/brief", response=Made)
def change_brief(slug: str, body: BriefForm) -> Made:
    """Change a site's brief; its address stays."""
    site = require_site(slug)
    values = site_values(body)
    with writing(g.db):
        free_name(site.engagement_id, body.name, site.id)
        rewrite_brief(g.db, site, values, g.user.id)
    return Made(slug=site.slug)


def free_name(engagement_id: int, name: str, but: int | None = None) -> None:
    """Raises Problem 422 for a name that another site of the engagement has: nobody could tell them apart."""
    for archived in (False, True):
        for other in site_store.sites_of(g.db, engagement_id, archived):
            if other.id != but and other.name.strip().lower() == name.strip().lower():
                which = "an archived site" if archived else "a site"
                raise Problem(422, f"There is already {which} called “{other.name}” in this engagement.")


def rewrite_brief(db: sqlite3.Connection, site: Site, values: dict[str, Any], by: int | None) -> bool:
    """Whether anything was changed; what the brief said before is kept."""
    before = {name: getattr(site, name) for name in values}
    changes = changes_between(before, values)
    if not changes:
        return False
    site_store.change_site(db, site.id, **values)
    brief_store.keep_change(db, site.id, changes, by)
    return True


@endpoint(blueprint, "POST", "/api/sites/<slug>/duplicate", response=Made)
def duplicate_site(slug: str, body: Duplicate) -> Made:
    """A new site with this one's brief: not its probes, not its evidence."""
    site = require_site(slug)
    values = site_values(form_of(site).model_copy(update={"name": body.name}))
    with writing(g.db):
        free_name(site.engagement_id, body.name)
        new = site_store.free_slug(g.db, "site", body.name)
        site_store.add_site(g.db, site.engagement_id, slug=new, **values)
    return Made(slug=new)


@endpoint(blueprint, "POST", "/api/sites/<slug>/archive", response=Made)
def archive_site(slug: str, body: Archive) -> Made:
    """Put a site away, or take it out again. Nothing of it is lost."""
    site = require_site(slug)
    if body.archived and run_store.open_runs(g.db, site.id):
        raise Problem(409, "A run is in progress at this site. Wait for it to end, or stop it, then archive the site.")
    with writing(g.db):
        site_store.archive_site(g.db, site.id, body.archived)
    return Made(slug=site.slug)


@endpoint(blueprint, "POST", "/api/arithmetic", response=Arithmetic)
def arithmetic(body: BriefForm) -> Arithmetic:
    """What a brief asks of its line, and what its evidence takes. Nothing is kept."""
    site_values(body)
    need = _need(body)
    needed = _needed_calls(body, need)
    link = _link(body)
    rate = call_rate(find_codec(body.codec), body.ptime_ms, link)
    loads = [_load(f"{find_codec(body.codec).title}, {body.ptime_ms} ms", needed, rate, link)]
    for video in body.video:
        profile = find_profile(video.profile)
        loads.append(_load(profile.title, video.streams, video_rate(profile, link), link))
    line_kbps = sum(load.line_kbps for load in loads)
    return Arithmetic(
        need=NeedView.model_validate(need) if need else None,
        needed_calls=needed,
        loads=loads,
        line_kbps=line_kbps,
        share_up_pct=_share(line_kbps, body.up_kbps),
        share_down_pct=_share(line_kbps, body.down_kbps),
        ceiling_calls=calls_within(rate, body.up_kbps, body.down_kbps, body.ceiling_pct),
        run=_run(body, needed),
        moments_to_show=moments_to_show(body.targets.required_share_pct),
        best_mos=_best_mos(body),
        remarks=_remarks(body, needed, rate, line_kbps),
    )


@endpoint(blueprint, "PUT", "/api/engagements/<slug>/presets", response=PresetList)
def keep_preset(slug: str, body: KeepPreset) -> PresetList:
    """Keep targets under a name, for all sites of this engagement."""
    engagement = require_engagement(slug)
    targets = _targets(body.targets)
    if any(body.title.lower() == p.title.lower() for p in PRESETS):
        raise Problem(422, f"“{body.title}” comes with the program. Choose another name.")
    with writing(g.db):
        engagement_store.keep_preset(g.db, engagement.id, body.title, targets)
    return PresetList(presets=_presets(engagement))


@endpoint(blueprint, "DELETE", "/api/engagements/<slug>/presets/<int:preset_id>", response=PresetList)
def drop_preset(slug: str, preset_id: int) -> PresetList:
    """Forget a preset; sites that were set by it keep their targets."""
    engagement = require_engagement(slug)
    with writing(g.db):
        engagement_store.drop_preset(g.db, engagement.id, preset_id)
    return PresetList(presets=_presets(engagement))


def site_values(form: BriefForm) -> dict[str, Any]:
    """The form as columns of a site. Raises Problem 422 with the sentence for the first thing that cannot be."""
    if form.time_zone not in _time_zones():
        raise Problem(422, f"There is no time zone “{form.time_zone}”. Use a name such as Europe/London.")
    _check_days(form.open_days, "Business days")
    if form.open_minute == form.close_minute:
        raise Problem(
            422, "Business hours open and close at the same minute. For a day and a night, give 0:00 to 24:00."
        )
    for blackout in form.blackouts:
        _check_days(blackout.days, "Days without load")
        if blackout.from_minute == blackout.to_minute:
            raise Problem(
                422, "Hours without load begin and end at the same minute. For a whole day, give 0:00 to 24:00."
            )
    try:
        find_codec(form.codec).check_ptime(form.ptime_ms)
        for video in form.video:
            find_profile(video.profile)
    except (CodecError, VideoError) as error:
        raise Problem(422, str(error)) from None
    stated = form.stated_calls is not None
    plain = form.model_dump(exclude={"stated_calls", "targets", "blackouts", "contacts", "video"})
    return {
        **plain,
        "open_days": "".join(sorted(form.open_days)),
        "blackouts": tuple(Blackout(**b.model_dump()) for b in form.blackouts),
        "contacts": tuple(Contact(**c.model_dump()) for c in form.contacts if any(c.model_dump().values())),
        "video": tuple(VideoNeed(**v.model_dump()) for v in form.video),
        "calls_per_hour": None if stated else form.calls_per_hour,
        "minutes_per_call": None if stated else form.minutes_per_call,
        "blocking_pct": None if stated else form.blocking_pct,
        "needed_calls": _needed_calls(form, _need(form)),
        **dataclasses.asdict(_targets(form.targets)),
    }


def form_of(site: Site) -> BriefForm:
    """The form that writes this site."""
    stated = site.calls_per_hour is None
    values = {name: getattr(site, name) for name in BriefForm.model_fields if hasattr(site, name)}
    for name in ("blackouts", "contacts", "video"):
        values[name] = [dataclasses.asdict(one) for one in values[name]]
    if stated:
        # What the form proposes should somebody turn to computing the number.
        values |= {name: BriefForm.model_fields[name].default for name in _HABITS}
    form = {k: v for k, v in values.items() if k != "targets"}
    form |= {"stated_calls": site.needed_calls if stated else None, "targets": dataclasses.asdict(site.targets)}
    return BriefForm.model_validate(form)


_HABITS = ("calls_per_hour", "minutes_per_call", "blocking_pct")


def _page(engagement: Engagement, site: Site | None) -> BriefPage:
    return BriefPage(
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        changes=[
            BriefChangeView.model_validate(one) for one in (brief_store.changes_of(g.db, site.id) if site else [])
        ],
        site_slug=site.slug if site else None,
        archived=bool(site and site.archived_us),
        form=form_of(site) if site else _empty_form(),
        bounds=[BoundView.model_validate(b) for b in BOUNDS],
        presets=_presets(engagement),
        video_profiles=[VideoProfileView.model_validate(p) for p in video_profiles().values()],
        time_zones=sorted(_time_zones()),
    )


def _empty_form() -> BriefForm:
    usual = next(p for p in PRESETS if p.key == "usual")
    form = BriefForm.model_validate({"name": "-", "people": 20, "targets": dataclasses.asdict(usual.targets)})
    return form.model_copy(update={"name": ""})


def _presets(engagement: Engagement) -> list[PresetView]:
    ours = [
        PresetView(id=None, title=p.title, says=p.says, targets=TargetsForm(**dataclasses.asdict(p.targets)))
        for p in PRESETS
    ]
    own = [
        PresetView(id=p.id, title=p.title, says="", targets=TargetsForm(**dataclasses.asdict(p.targets)))
        for p in engagement_store.presets_of(g.db, engagement.id)
    ]
    return ours + own


@cache
def _time_zones() -> frozenset[str]:
    return frozenset(z for z in zoneinfo.available_timezones() if "/" in z or z == "UTC")


def _check_days(days: str, what: str) -> None:
    if not days or len(set(days)) != len(days) or not set(days) <= set("1234567"):
        raise Problem(422, f"{what}: “{days}” are not weekdays. Use digits, Monday 1 to Sunday 7, such as 12345.")


def _targets(form: TargetsForm) -> Targets:
    targets = Targets(**form.model_dump())
    try:
        check_targets(targets)
    except TargetError as error:
        raise Problem(422, str(error)) from None
    return targets


def _need(form: BriefForm) -> Need | None:
    if form.stated_calls is not None:
        return None
    if form.people is None or form.calls_per_hour is None or form.minutes_per_call is None or form.blocking_pct is None:
        raise Problem(422, "Give people and their calling in the busy hour, or enter the concurrent calls directly.")
    try:
        return need_of(form.people, form.calls_per_hour, form.minutes_per_call, form.blocking_pct)
    except NeedError as error:
        raise Problem(422, str(error)) from None


def _needed_calls(form: BriefForm, need: Need | None) -> int:
    return need.calls if need else form.stated_calls or 1


def _link(form: BriefForm) -> Link:
    return Link(form.srtp, form.pppoe, form.vlan_tags, form.tunnel_bytes, form.ipv6)


def _load(title: str, streams: int, rate: CallRate, link: Link) -> StreamLoad:
    ip = rate.ipv6_kbps if link.ipv6 else rate.ipv4_kbps
    wire = rate.wire_ipv4_kbps + (ip - rate.ipv4_kbps)
    return StreamLoad(
        title=title,
        streams=streams,
        packets_per_s=streams * rate.packets_per_s,
        ip_kbps=streams * (ip + rate.rtcp_kbps),
        wire_kbps=streams * (wire + rate.rtcp_kbps),
        line_kbps=streams * rate.line_kbps,
    )


def _share(kbps: float, line_kbps: int | None) -> float | None:
    return 100 * kbps / line_kbps if line_kbps else None


def _run(form: BriefForm, needed: int) -> RunArithmetic:
    at_once = min(needed, MAX_CALLS)
    moments = moments_to_show(form.targets.required_share_pct, WITNESS_CONFIDENCE)
    return RunArithmetic(
        calls_at_once=at_once,
        call_s=RUN_CALL_S,
        moments=moments,
        load_s=moments * RUN_CALL_S,
        calls=moments * at_once,
        probes=math.ceil(needed / MAX_CALLS),
    )


def _at_best(form: BriefForm) -> tuple[Criterion, float]:
    """How calls of this brief are judged, and their mouth-to-ear delay over a network that adds none."""
    criterion = criterion_for(find_codec(form.codec), form.ptime_ms)
    return criterion, criterion.buffer_ms + criterion.ptime_ms + criterion.look_ahead_ms + criterion.device_ms


def _best_mos(form: BriefForm) -> float:
    criterion, ear_ms = _at_best(form)
    return float(criterion.mos(criterion.rating(ear_ms, 0.0, 1.0)))


def _out_of_reach(form: BriefForm) -> list[str]:
    """Bounds that no network can keep, with the best there is."""
    criterion, ear_ms = _at_best(form)
    best, title = _best_mos(form), find_codec(form.codec).title
    found = []
    for asked, what in (
        (form.targets.target_mos, "a call of"),
        (form.targets.min_stretch_mos, "ten seconds of"),
    ):
        if asked is not None and best < asked:
            found.append(
                f"No network can give {what} {asked:.1f} MOS with {title}: {best:.2f} ({criterion.mos_scale}) is its "
                "best, without any loss and delay. Choose another codec or a lower target."
            )
    most = form.targets.max_delay_ms
    if most is not None and ear_ms >= most:
        found.append(
            f"No network can keep {most:g} ms mouth-to-ear: the receiver’s buffer, packetisation interval and codec "
            f"take {ear_ms:.0f} ms by themselves."
        )
    return found


def _remarks(form: BriefForm, needed: int, rate: CallRate, line_kbps: float) -> list[str]:
    """What the consultant should hear before relying on these numbers."""
    found = _out_of_reach(form)
    for side, line in (("up", form.up_kbps), ("down", form.down_kbps)):
        share = _share(line_kbps, line)
        if share is not None and share > 100:
            found.append(f"The line cannot carry this: it would take {share:.0f} % of it {side}.")
        elif share is not None and share > CROWDED_PCT:
            found.append(f"This takes {share:.0f} % of the line {side}: little is left for everything else.")
    if form.up_kbps is None or form.down_kbps is None:
        found.append("Without the line's rates its share cannot be told, and no ceiling holds.")
    top = calls_within(rate, form.up_kbps, form.down_kbps, form.ceiling_pct)
    if top is not None and top < needed:
        found.append(
            f"The ceiling of {form.ceiling_pct:g} % lets a test place {top} of the {needed} needed calls: raise it, or "
            "the site can never be shown to carry them."
        )
    least = moments_to_show(form.targets.required_share_pct)
    if form.targets.required_moments < least:
        found.append(
            f"{form.targets.required_moments} ten-minute moments cannot show {form.targets.required_share_pct:g} %, "
            f"even without a bad call: {least} can."
        )
    if needed > MAX_CALLS:
        found.append(
            f"One probe places up to {MAX_CALLS} concurrent calls: {needed} take {math.ceil(needed / 100)} probes."
        )
    return found
