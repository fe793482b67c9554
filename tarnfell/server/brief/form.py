"""A brief between its form and the row it becomes: what is checked, and what follows from what."""

from __future__ import annotations

import dataclasses
import zoneinfo
from functools import cache

from tarnfell.core.codecs import CodecError, find_codec
from tarnfell.core.need import Need, NeedError, need_of
from tarnfell.core.targets import PRESETS, TargetError, Targets, check_targets
from tarnfell.core.video import VideoError, find_profile
from tarnfell.server.brief.models.brief import (
    BriefForm,
    TargetsForm,
)
from tarnfell.server.http.api import Problem
from tarnfell.store.sites import Blackout, Contact, Site, VideoNeed


def site_values(form: BriefForm) -> dict[str, object]:
    """The form as columns of a site. Raises Problem 422 with the sentence for the first thing that cannot be."""
    if form.time_zone not in time_zones():
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
        "needed_calls": needed_calls(form, need_in(form)),
        **dataclasses.asdict(targets_of(form.targets)),
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


def empty_form() -> BriefForm:
    usual = next(p for p in PRESETS if p.key == "usual")
    form = BriefForm.model_validate({"name": "-", "people": 20, "targets": dataclasses.asdict(usual.targets)})
    return form.model_copy(update={"name": ""})


@cache
def time_zones() -> frozenset[str]:
    return frozenset(z for z in zoneinfo.available_timezones() if "/" in z or z == "UTC")


def _check_days(days: str, what: str) -> None:
    if not days or len(set(days)) != len(days) or not set(days) <= set("1234567"):
        raise Problem(422, f"{what}: “{days}” are not weekdays. Use digits, Monday 1 to Sunday 7, such as 12345.")


def targets_of(form: TargetsForm) -> Targets:
    targets = Targets(**form.model_dump())
    try:
        check_targets(targets)
    except TargetError as error:
        raise Problem(422, str(error)) from None
    return targets


def need_in(form: BriefForm) -> Need | None:
    if form.stated_calls is not None:
        return None
    if form.people is None or form.calls_per_hour is None or form.minutes_per_call is None or form.blocking_pct is None:
        raise Problem(422, "Give people and their calling in the busy hour, or enter the concurrent calls directly.")
    try:
        return need_of(form.people, form.calls_per_hour, form.minutes_per_call, form.blocking_pct)
    except NeedError as error:
        raise Problem(422, str(error)) from None


def needed_calls(form: BriefForm, need: Need | None) -> int:
    return need.calls if need else form.stated_calls or 1
