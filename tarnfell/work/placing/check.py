"""What speaks against a plan, and the nearest plan that works: places, the ceiling, hours without load, clashes."""

from __future__ import annotations

import math
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from itertools import islice, pairwise
from typing import Literal
from zoneinfo import ZoneInfo

from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.rates import GAP_S, Plan, PlanError, Shape, plan_run
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
from tarnfell.store import places as place_store
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store.db import now_us
from tarnfell.store.runs import RunSpec
from tarnfell.store.sites import Site
from tarnfell.work.placing.metered import MB, run_bytes
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


class WishError(ValueError):
    """What cannot be placed at all, by anybody; the text says why."""


@dataclass(frozen=True)
class Wish:
    """A load as somebody wants it, before it is a plan."""

    spec: RunSpec
    """Of its largest step."""
    shape: Shape
    when: Literal["draft", "now", "at", "repeat"]
    start_local: str | None
    """The site's wall clock, as 2026-11-25T09:00."""
    rule: str | None
    """RFC 5545 recurrence; None where it is placed once."""


@dataclass(frozen=True)
class Objection:
    """Something that speaks against a wish, with the nearest that works."""

    words: str
    fix_words: str | None = None
    changes: Mapping[str, object] | None = None
    """Of the form that the wish came from; None where nothing helps but another wish."""


@dataclass(frozen=True)
class Takes:
    """What a load costs and yields."""

    steps: list[int]
    run_s: float
    calls: int
    packets: int
    each_way_ip_kbps: float
    each_way_wire_kbps: float
    share_up_pct: float | None
    share_down_pct: float | None
    moments: int
    """Ten-minute moments one carrying-out covers."""
    shows_pct: float
    required_share_pct: float
    ceiling_calls: int | None
    starts: list[int]
    """The next few, UTC microseconds."""


@dataclass(frozen=True)
class Checked:
    """What speaks against a wish, what is to be known of it, and what it takes."""

    problems: list[Objection]
    remarks: list[str]
    takes: Takes


def check(db: sqlite3.Connection, site: Site, wish: Wish, but: int | None = None) -> Checked:
    """``but`` is the plan that the wish is to take the place of. Raises WishError."""
    spec, shape = wish.spec, wish.shape
    try:
        plan = plan_run(find_codec(spec.codec), spec.ptime_ms, shape, site.link, spec.direction, spec.video)
    except (CodecError, VideoError, PlanError) as error:
        raise WishError(str(error)) from None
    top = ceiling_calls(site, plan.rate, spec.direction, plan.video_line_kbps)
    start = start_of(site, wish.when, wish.start_local, wish.rule)
    problems = [*_about_places(db, site, wish), *_about_ceiling(site, wish, plan)]
    starts: list[datetime] = []
    skipped = 0
    if start is not None:
        zone = ZoneInfo(site.time_zone)
        now = from_us(now_us())
        first = [start] if wish.when == "now" else []
        length = timedelta(seconds=shape.length_s)
        due = occurrences(start, wish.rule, zone, now - PAST_GRACE)
        found = (s for s in due if _allowed(site, [Span(s, s + length)]))
        every = list(islice(occurrences(start, wish.rule, zone, now - PAST_GRACE), STARTS_COUNTED))
        skipped = len(every) - len(_allowed(site, [Span(s, s + length) for s in every]))
        # What never lies outside those hours would be looked for without end.
        starts = first or (every[:STARTS_SHOWN] if skipped == len(every) else list(islice(found, STARTS_SHOWN)))
        problems += _about_time(db, site, wish, start, starts, but)
    problems += _about_metered(site, wish)
    return Checked(
        problems=problems,
        remarks=[*_clock_remarks(wish, start), *_remarks(site, wish, plan), *_skips(skipped)],
        takes=Takes(
            steps=list(shape.steps),
            run_s=plan.run_s,
            calls=plan.calls,
            packets=plan.packets,
            each_way_ip_kbps=plan.each_way_line_kbps,
            each_way_wire_kbps=plan.each_way_wire_kbps,
            share_up_pct=_share(plan, spec, "up", site.up_kbps),
            share_down_pct=_share(plan, spec, "down", site.down_kbps),
            moments=plan.moments,
            shows_pct=plan.shows_pct,
            required_share_pct=site.required_share_pct,
            ceiling_calls=None if top is None else max(0, top),
            starts=[to_us(at) for at in starts],
        ),
    )


def _clock_remarks(wish: Wish, start: datetime | None) -> list[str]:
    remark = clock_remark(start) if start is not None and wish.when in ("at", "repeat") else None
    return [remark] if remark else []


def _skips(skipped: int) -> list[str]:
    if not skipped:
        return []
    return [f"Starts within hours without load are skipped: {skipped} of the next {STARTS_COUNTED}."]


def _about_places(db: sqlite3.Connection, site: Site, wish: Wish) -> list[Objection]:
    probes = {p.id: p for p in probe_store.probes_of(db, site.id)}
    probe = probes.get(wish.spec.probe_id)
    far_end = place_store.far_end_by_id(db, wish.spec.far_end_id)
    reason = about_ends(db, site, probe, far_end)
    if reason or probe is None or far_end is None:
        return [Objection(reason.words)] if reason else []
    away = about_presence(probe) if wish.when == "now" else None
    if away:
        others = [p for p in probes.values() if is_online(p) and p.id != far_end.probe_id]
        if others:
            return [Objection(away.words, f"place from {others[0].name}", {"probe_id": others[0].id})]
        return [Objection(away.words, "save it as a draft until it is online", {"when": "draft"})]
    return []


def _about_ceiling(site: Site, wish: Wish, plan: Plan) -> list[Objection]:
    reason = about_ceiling(site, plan, wish.spec.direction)
    if reason is None:
        return []
    fits = reason.fits or 0
    if fits < 1 and wish.spec.video:
        return [Objection(reason.words, "place the calls without video", {"video": []})]
    if fits < 1:
        return [Objection(f"{reason.words} Raise the ceiling in the brief, or choose a leaner codec.")]
    changes = {"calls": fits}
    if len(wish.shape.steps) > 1:
        changes["first"] = min(wish.shape.steps[0], fits)
    return [Objection(reason.words, f"place up to {fits}", changes)]


def _about_metered(site: Site, wish: Wish) -> list[Objection]:
    """What a whole plan moves each time it is placed."""
    if site.metered_mb is None:
        return []
    runs = (replace(wish.spec, calls=step, seconds=wish.shape.call_s) for step in wish.shape.steps)
    moves = wish.shape.rounds * sum(run_bytes(site, one) for one in runs) / MB
    if moves <= site.metered_mb:
        return []
    words = f"It moves {moves:.0f} MB; on this metered line loads may move {site.metered_mb} MB in a day."
    return [Objection(f"{words} Place fewer or shorter calls, or change the allowance in the brief.")]


def _about_time(
    db: sqlite3.Connection, site: Site, wish: Wish, start: datetime, starts: list[datetime], but: int | None
) -> list[Objection]:
    zone = ZoneInfo(site.time_zone)
    length = timedelta(seconds=wish.shape.length_s)
    now = from_us(now_us())
    taken = _taken(db, site, now, but)
    if wish.when == "at" and start < now - PAST_GRACE:
        moved = free_window(now + timedelta(minutes=5), length, quiet_hours(site), taken, zone)
        return [Objection(f"{_local(start, zone)} is past.", *_move(wish, moved, zone))]
    if not starts:
        return [Objection("This recurrence has no start left: its end lies before its first time.")]
    busy = about_others(db, site) if wish.when == "now" else None
    if busy:
        moved = free_window(now + timedelta(minutes=5), length, quiet_hours(site), taken, zone)
        return [Objection(busy.words, *_move(wish, moved, zone))]
    # What is planned counts whole: every start within the next weeks, not only the first.
    wanted = [Span(start, start + length)] if wish.rule is None else spans(start, wish.rule, zone, length, now)
    allowed = _allowed(site, wanted)
    if not allowed:
        hit = quiet_span(wanted[0], quiet_hours(site), zone)
        assert hit is not None
        return [_about_quiet(site, wish, wanted[0], hit[0], hit[1].why, taken, zone)]
    wanted = allowed
    if wish.rule is not None and len(wanted) > 1 and any(a.meets(b) for a, b in pairwise(wanted)):
        return [Objection(f"It lasts {_long(length)} and starts again before it is over. Let it recur less often.")]
    met = clash(wanted, taken)
    if met:
        moved = free_window(met[0].start, length, quiet_hours(site), taken, zone)
        words = f"On {_local(met[0].start, zone)} another plan is on until {_local(met[1].end, zone)}."
        return [Objection(words, *_move(wish, moved, zone))]
    return []


def _allowed(site: Site, wanted: list[Span]) -> list[Span]:
    """Those outside the hours without load; a recurrence leaves out the others."""
    zone = ZoneInfo(site.time_zone)
    return [span for span in wanted if quiet_span(span, quiet_hours(site), zone) is None]


def _about_quiet(
    site: Site, wish: Wish, span: Span, quiet: Span, why: str, taken: list[Span], zone: ZoneInfo
) -> Objection:
    """Either moved to where it fits whole, or shortened to the window it was put in, whichever keeps more."""
    shape = wish.shape
    words = (
        f"It lasts {_long(span.end - span.start)} and would run into hours without load on "
        f"{_local(quiet.start, zone)} to {quiet.end.astimezone(zone):%H:%M}{': ' + why if why else ''}."
    )
    room = longest_window(span.start, quiet_hours(site), taken, zone).total_seconds()
    each = len(shape.steps) * (shape.call_s + GAP_S)
    rounds = int((room + GAP_S) // each)
    if rounds >= 1 and shape.rounds > 1:
        return Objection(words, f"make it {rounds} {'round' if rounds == 1 else 'rounds'}", {"rounds": rounds})
    moved = free_window(span.start, span.end - span.start, quiet_hours(site), taken, zone)
    return Objection(words, *_move(wish, moved, zone))


def _move(wish: Wish, at: datetime | None, zone: ZoneInfo) -> tuple[str | None, Mapping[str, object] | None]:
    if at is None:
        return None, None
    when = "repeat" if wish.when == "repeat" else "at"
    changes = {"when": when, "start_local": f"{at.astimezone(zone):%Y-%m-%dT%H:%M}"}
    return f"start on {_local(at, zone)}", changes


def _taken(db: sqlite3.Connection, site: Site, now: datetime, but: int | None) -> list[Span]:
    """When other plans of this site are on."""
    zone = ZoneInfo(site.time_zone)
    found = []
    for plan in plan_store.plans_of(db, site.id):
        if plan.id != but and plan.state == "scheduled" and plan.start_us is not None:
            length = timedelta(seconds=plan.shape.length_s)
            found += spans(from_us(plan.start_us), plan.rule, zone, length, now)
    for series in plan_store.open_series(db, site.id):
        length = timedelta(seconds=plan_store.plan_by_id(db, series.plan_id).shape.length_s)
        began = from_us(series.began_us or series.due_us)
        found.append(Span(began, began + length))
    return found


def _share(plan: Plan, spec: RunSpec, way: str, line_kbps: int | None) -> float | None:
    """Of the line; None where its rate is not known or nothing flows that way."""
    if not line_kbps or spec.direction not in ("both", way):
        return None
    return 100 * plan.each_way_line_kbps / line_kbps


def _remarks(site: Site, wish: Wish, plan: Plan) -> list[str]:
    found = []
    spec, shape = wish.spec, wish.shape
    if spec.direction != "both":
        found.append(
            f"Media flows {spec.direction} only: this tests that direction alone and is no evidence of whole calls."
        )
    if plan.shows_pct < site.required_share_pct:
        needed = moments_to_show(site.required_share_pct)
        covers = f"covers {plan.moments} ten-minute {'moment' if plan.moments == 1 else 'moments'}"
        shows = f"{needed} without a bad call show {site.required_share_pct:g} %"
        found.append(
            f"Each start {covers}; {shows}, which takes {math.ceil(needed / plan.moments)} starts."
            if wish.when == "repeat"
            else f"This {covers}; {shows}. Make it recurring: a short run in many moments shows more than a long one "
            "in few."
        )
    if shape.call_s < MIN_CALL_S:
        found.append(f"Calls shorter than {MIN_CALL_S:g} s do not count as evidence.")
    if shape.most < site.needed_calls:
        found.append(f"{site.needed_calls} concurrent calls are needed; this shows {shape.most} at most.")
    if site.video and not spec.video:
        found.append("The brief asks for video; this places none.")
    if shape.call_s < 30:
        found.append("Calls shorter than half a minute miss faults that come and go.")
    return found


def start_of(site: Site, when: str, start_local: str | None, rule: str | None) -> datetime | None:
    """The first start; None of a draft. Raises WishError."""
    if when == "draft":
        return None
    if when == "now":
        return from_us(now_us())
    try:
        local = datetime.fromisoformat(start_local or "")
    except ValueError:
        raise WishError("Say when it starts: a day and a time at the site.") from None
    if when == "repeat":
        try:
            check_rule(rule or "")
        except ScheduleError as error:
            raise WishError(str(error)) from None
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
