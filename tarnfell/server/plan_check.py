"""What speaks against a plan, and the nearest plan that works: places, the ceiling, hours without load, clashes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import islice, pairwise
from typing import Any
from zoneinfo import ZoneInfo

from flask import g

from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.rates import GAP_S, Plan, PlanError, Shape, hold, plan_run, rise
from tarnfell.core.schedule import (
    ScheduleError,
    Span,
    check_rule,
    clash,
    free_window,
    from_us,
    longest_window,
    occurrences,
    quiet_span,
    spans,
    to_us,
)
from tarnfell.core.stats import moments_to_show
from tarnfell.core.verdict.facts import MIN_CALL_S
from tarnfell.core.video import VideoError
from tarnfell.server.api import Problem
from tarnfell.server.load import video_loads
from tarnfell.server.models.plans import (
    PlanCheck,
    PlanForm,
    PlanProblem,
)
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store.db import now_us
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online
from tarnfell.work.placing.rules import (
    about_ceiling,
    about_ends,
    about_others,
    about_presence,
    ceiling_calls,
    quiet_hours,
)

STARTS_SHOWN = 5
STARTS_COUNTED = 50
"""Of a recurrence, to say how many fall into hours without load."""
PAST_GRACE = timedelta(minutes=1)


def check_form(site: Site, form: PlanForm, but: int | None = None) -> PlanCheck:
    """Raises Problem 422 for what cannot be placed at all."""
    shape = shape_of(form)
    try:
        codec = find_codec(form.codec)
        plan = plan_run(codec, form.ptime_ms, shape, site.link, form.direction, video_loads(form.video))
    except (CodecError, VideoError, PlanError) as error:
        raise Problem(422, str(error)) from None
    top = ceiling_calls(site, plan.rate, form.direction, plan.video_line_kbps)
    start = start_of(site, form)
    rule = form.rule if form.when == "repeat" else None
    problems = [*_about_places(site, form), *_about_ceiling(site, form, plan)]
    starts: list[datetime] = []
    skipped = 0
    if start is not None:
        zone = ZoneInfo(site.time_zone)
        now = from_us(now_us())
        first = [start] if form.when == "now" else []
        length = timedelta(seconds=shape.length_s)
        found = (s for s in occurrences(start, rule, zone, now - PAST_GRACE) if _allowed(site, [Span(s, s + length)]))
        every = list(islice(occurrences(start, rule, zone, now - PAST_GRACE), STARTS_COUNTED))
        skipped = len(every) - len(_allowed(site, [Span(s, s + length) for s in every]))
        # What never lies outside those hours would be looked for without end.
        starts = first or (every[:STARTS_SHOWN] if skipped == len(every) else list(islice(found, STARTS_SHOWN)))
        problems += _about_time(site, form, shape, start, rule, starts, but)
    return PlanCheck(
        problems=problems,
        remarks=[*_clock_remarks(form, start), *_remarks(site, form, shape, plan), *_skips(skipped)],
        steps=list(shape.steps),
        run_s=plan.run_s,
        calls=plan.calls,
        packets=plan.packets,
        each_way_ip_kbps=plan.each_way_line_kbps,
        each_way_wire_kbps=plan.each_way_wire_kbps,
        share_up_pct=_share(plan, form, "up", site.up_kbps),
        share_down_pct=_share(plan, form, "down", site.down_kbps),
        moments=plan.moments,
        shows_pct=plan.shows_pct,
        required_share_pct=site.required_share_pct,
        ceiling_calls=None if top is None else max(0, top),
        starts=[to_us(at) for at in starts],
    )


def _clock_remarks(form: PlanForm, start: datetime | None) -> list[str]:
    remark = clock_remark(start) if start is not None and form.when in ("at", "repeat") else None
    return [remark] if remark else []


def _skips(skipped: int) -> list[str]:
    if not skipped:
        return []
    return [f"Starts within hours without load are skipped: {skipped} of the next {STARTS_COUNTED}."]


def _about_places(site: Site, form: PlanForm) -> list[PlanProblem]:
    probes = {p.id: p for p in probe_store.probes_of(g.db, site.id)}
    probe = probes.get(form.probe_id)
    far_end = place_store.far_end_by_id(g.db, form.far_end_id)
    reason = about_ends(g.db, site, probe, far_end)
    if reason or probe is None or far_end is None:
        return [_problem(reason.words)] if reason else []
    away = about_presence(probe) if form.when == "now" else None
    if away:
        others = [p for p in probes.values() if is_online(p) and p.id != far_end.probe_id]
        if others:
            return [_problem(away.words, f"place from {others[0].name}", form, probe_id=others[0].id)]
        return [_problem(away.words, "save it as a draft until it is online", form, when="draft")]
    return []


def _about_ceiling(site: Site, form: PlanForm, plan: Plan) -> list[PlanProblem]:
    reason = about_ceiling(site, plan, form.direction)
    if reason is None:
        return []
    fits = reason.fits or 0
    if fits < 1 and form.video:
        return [_problem(reason.words, "place the calls without video", form, video=[])]
    if fits < 1:
        return [_problem(f"{reason.words} Raise the ceiling in the brief, or choose a leaner codec.")]
    return [_problem(reason.words, f"place up to {fits}", form, calls=fits, first=min(form.first, fits))]


def _about_time(
    site: Site,
    form: PlanForm,
    shape: Shape,
    start: datetime,
    rule: str | None,
    starts: list[datetime],
    but: int | None,
) -> list[PlanProblem]:
    zone = ZoneInfo(site.time_zone)
    length = timedelta(seconds=shape.length_s)
    now = from_us(now_us())
    taken = _taken(site, now, but)
    if form.when == "at" and start < now - PAST_GRACE:
        moved = free_window(now + timedelta(minutes=5), length, quiet_hours(site), taken, zone)
        return [_problem(f"{_local(start, zone)} is past.", *_move(form, moved, zone))]
    if not starts:
        return [_problem("This recurrence has no start left: its end lies before its first time.")]
    busy = about_others(g.db, site) if form.when == "now" else None
    if busy:
        moved = free_window(now + timedelta(minutes=5), length, quiet_hours(site), taken, zone)
        return [_problem(busy.words, *_move(form, moved, zone))]
    # What is planned counts whole: every start within the next weeks, not only the first.
    wanted = [Span(start, start + length)] if rule is None else spans(start, rule, zone, length, now)
    allowed = _allowed(site, wanted)
    if not allowed:
        hit = quiet_span(wanted[0], quiet_hours(site), zone)
        assert hit is not None
        return [_quiet_problem(site, form, shape, wanted[0], hit[0], hit[1].why, taken, zone)]
    wanted = allowed
    if rule is not None and len(wanted) > 1 and any(a.meets(b) for a, b in pairwise(wanted)):
        return [_problem(f"It lasts {_long(length)} and starts again before it is over. Let it recur less often.")]
    met = clash(wanted, taken)
    if met:
        moved = free_window(met[0].start, length, quiet_hours(site), taken, zone)
        words = f"On {_local(met[0].start, zone)} another plan is on until {_local(met[1].end, zone)}."
        return [_problem(words, *_move(form, moved, zone))]
    return []


def _allowed(site: Site, wanted: list[Span]) -> list[Span]:
    """Those outside the hours without load; a recurrence leaves out the others."""
    zone = ZoneInfo(site.time_zone)
    return [span for span in wanted if quiet_span(span, quiet_hours(site), zone) is None]


def _quiet_problem(
    site: Site, form: PlanForm, shape: Shape, span: Span, quiet: Span, why: str, taken: list[Span], zone: ZoneInfo
) -> PlanProblem:
    """Either moved to where it fits whole, or shortened to the window it was put in, whichever keeps more."""
    words = (
        f"It lasts {_long(span.end - span.start)} and would run into hours without load on "
        f"{_local(quiet.start, zone)} to {quiet.end.astimezone(zone):%H:%M}{': ' + why if why else ''}."
    )
    room = longest_window(span.start, quiet_hours(site), taken, zone).total_seconds()
    each = len(shape.steps) * (shape.call_s + GAP_S)
    rounds = int((room + GAP_S) // each)
    if rounds >= 1 and shape.rounds > 1:
        return _problem(words, f"make it {rounds} {'round' if rounds == 1 else 'rounds'}", form, rounds=rounds)
    moved = free_window(span.start, span.end - span.start, quiet_hours(site), taken, zone)
    return _problem(words, *_move(form, moved, zone))


def _move(form: PlanForm, at: datetime | None, zone: ZoneInfo) -> tuple[Any, ...]:
    if at is None:
        return ()
    when = "repeat" if form.when == "repeat" else "at"
    changed = form.model_copy(update={"when": when, "start_local": f"{at.astimezone(zone):%Y-%m-%dT%H:%M}"})
    return f"start on {_local(at, zone)}", changed


def _problem(words: str, fix_words: str | None = None, form: PlanForm | None = None, **changes: Any) -> PlanProblem:
    return PlanProblem(
        words=words, fix_words=fix_words, fix=form.model_copy(update=changes) if form is not None else None
    )


def _taken(site: Site, now: datetime, but: int | None) -> list[Span]:
    """When other plans of this site are on."""
    zone = ZoneInfo(site.time_zone)
    found = []
    for plan in plan_store.plans_of(g.db, site.id):
        if plan.id != but and plan.state == "scheduled" and plan.start_us is not None:
            length = timedelta(seconds=plan.shape.length_s)
            found += spans(from_us(plan.start_us), plan.rule, zone, length, now)
    for series in plan_store.open_series(g.db, site.id):
        length = timedelta(seconds=plan_store.plan_by_id(g.db, series.plan_id).shape.length_s)
        began = from_us(series.began_us or series.due_us)
        found.append(Span(began, began + length))
    return found


def _share(plan: Plan, form: PlanForm, way: str, line_kbps: int | None) -> float | None:
    """Of the line; None where its rate is not known or nothing flows that way."""
    if not line_kbps or form.direction not in ("both", way):
        return None
    return 100 * plan.each_way_line_kbps / line_kbps


def _remarks(site: Site, form: PlanForm, shape: Shape, plan: Plan) -> list[str]:
    found = []
    if form.direction != "both":
        found.append(
            f"Media flows {form.direction} only: this tests that direction alone and is no evidence of whole calls."
        )
    if plan.shows_pct < site.required_share_pct:
        found.append(
            f"This covers {plan.moments} ten-minute {'moment' if plan.moments == 1 else 'moments'}; "
            f"{moments_to_show(site.required_share_pct)} without a bad call show {site.required_share_pct:g} %. Make "
            "it recurring: a short run in many moments shows more than a long one in few."
        )
    if shape.call_s < MIN_CALL_S:
        found.append(f"Calls shorter than {MIN_CALL_S:g} s do not count as evidence.")
    if shape.most < site.needed_calls:
        found.append(f"{site.needed_calls} concurrent calls are needed; this shows {shape.most} at most.")
    if site.video and not form.video:
        found.append("The brief asks for video; this places none.")
    if shape.call_s < 30:
        found.append("Calls shorter than half a minute miss faults that come and go.")
    return found


def shape_of(form: PlanForm) -> Shape:
    """Raises Problem 422."""
    try:
        if form.shape == "hold":
            return hold(form.calls, form.call_s, form.rounds)
        return rise(form.first, form.calls, form.by, form.call_s, form.rounds)
    except PlanError as error:
        raise Problem(422, str(error)) from None


def start_of(site: Site, form: PlanForm) -> datetime | None:
    """Raises Problem 422."""
    if form.when == "draft":
        return None
    if form.when == "now":
        return from_us(now_us())
    try:
        local = datetime.fromisoformat(form.start_local or "")
    except ValueError:
        raise Problem(422, "Say when it starts: a day and a time at the site.") from None
    if form.when == "repeat":
        try:
            check_rule(form.rule or "")
        except ScheduleError as error:
            raise Problem(422, str(error)) from None
    return local.replace(tzinfo=ZoneInfo(site.time_zone))


def clock_remark(local: datetime) -> str | None:
    """What a change of the clocks makes of a local time: skipped in spring, there twice in autumn."""
    real = local.astimezone(UTC).astimezone(local.tzinfo)
    if real.replace(tzinfo=None) != local.replace(tzinfo=None):
        return (
            f"{local:%H:%M} on {local:%d %B} is skipped there: clocks are put forward that night. It starts at "
            f"{real:%H:%M}."
        )
    if local.replace(fold=1).utcoffset() != local.replace(fold=0).utcoffset():
        return f"{local:%H:%M} on {local:%d %B} comes twice there: clocks are put back that night. The first is meant."
    return None


def _long(length: timedelta) -> str:
    minutes = round(length.total_seconds() / 60)
    return f"{length.total_seconds():.0f} s" if minutes < 2 else f"{minutes} min"


def _local(at: datetime, zone: ZoneInfo) -> str:
    return f"{at.astimezone(zone):%a %-d %b, %H:%M}"
