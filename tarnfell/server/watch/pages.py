"""The watch of a site: how it stands, what each leg added by day, episodes, and the minute bench."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import cast, get_args
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, g

from tarnfell.core.days.stretches import LEAST_MISSED
from tarnfell.server.access import require_probe, require_site
from tarnfell.server.brief.models.brief import BlackoutForm
from tarnfell.server.check.ends import far_end_choices
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.place.presence import look_at
from tarnfell.server.watch.models.watches import (
    BesideCost,
    EpisodeView,
    MinuteBenchPage,
    MinuteBenchQuery,
    Watched,
    WatchedProbe,
    WatchPage,
    WatchPlaceForm,
    WatchQuery,
    WatchRemedy,
)
from tarnfell.server.watch.view import watch_view
from tarnfell.store import engagements as engagement_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import remedies as remedy_store
from tarnfell.store import routines as routine_store
from tarnfell.store import watches as watch_store
from tarnfell.store.cells import CELL_US
from tarnfell.store.db import now_us
from tarnfell.store.probes import Probe
from tarnfell.store.sites import Site
from tarnfell.work.placing.presence import is_online
from tarnfell.work.watch.bench import bench_of
from tarnfell.work.watch.episode_calls import calls_during
from tarnfell.work.watch.proposal import LARGE_BYTES, SMALL_BYTES, STAMP_BYTES, proposed
from tarnfell.work.watch.reading import ReadEpisode, WatchReading, kept_reading
from tarnfell.work.watch.routines import USUAL, costs
from tarnfell.work.watch.sample_file import lines_of
from tarnfell.work.watch.sheet import (
    DAY_US,
    LegMeasure,
    LegsShown,
    PlaceMeasure,
    PlaceShown,
    ServiceMeasure,
    Shown,
    compared,
    days_of,
    newest,
    services_days,
)

blueprint = Blueprint("watch_pages", __name__)

EPISODES_SHOWN = 100
NEVER_ASKED = "This probe has never been asked to watch."


@endpoint(blueprint, "GET", "/api/sites/<slug>/watch", response=WatchPage)
def show_watch(slug: str, query: WatchQuery) -> WatchPage:
    """How a site is watched, and what the samples of one of its probes say."""
    site = require_site(slug)
    look_at(site.id)
    engagement = engagement_store.engagement_by_id(g.db, site.engagement_id)
    probes = [probe for probe in probe_store.probes_of(g.db, site.id) if probe.enrolled_us is not None]
    watched = _watched(site, probes, query)
    until_us = watched.reading.until_us if watched else now_us()
    loads_us = job_store.loads_begun(g.db, site.id, until_us - query.days * DAY_US, until_us, CELL_US)
    return WatchPage(
        site_name=site.name,
        engagement_slug=engagement.slug,
        engagement_name=engagement.name,
        time_zone=site.time_zone,
        target_mos=site.target_mos,
        open_minute=site.open_minute,
        close_minute=site.close_minute,
        open_days=site.open_days,
        probes=[_probe(site, probe) for probe in probes],
        far_ends=far_end_choices(site),
        blackouts=[BlackoutForm.model_validate(one) for one in site.blackouts],
        loads_us=loads_us,
        remedies=[WatchRemedy(at_us=one.at_us, words=one.words) for one in remedy_store.remedies_of(g.db, site.id)],
        watched=watched,
        stamp_bytes=STAMP_BYTES,
        small_bytes=SMALL_BYTES,
        large_bytes=LARGE_BYTES,
        least_rounds=LEAST_MISSED,
        beside=[BesideCost(**vars(one), usual_s=USUAL[one.what]) for one in costs(g.db, site)],
    )


@endpoint(blueprint, "GET", "/api/sites/<slug>/watch/bench", response=MinuteBenchPage)
def show_bench(slug: str, query: MinuteBenchQuery) -> MinuteBenchPage:
    """All places of a watch on one time axis, as fine as the span allows, with the calls of that time."""
    site = require_site(slug)
    watch = watch_store.watch_of(g.db, require_probe(site, query.probe).id)
    if watch is None:
        raise Problem(404, NEVER_ASKED)
    try:
        return MinuteBenchPage(bench=bench_of(g.db, watch.id, site.id, query.from_us, query.until_us))
    except ValueError as error:
        raise Problem(422, str(error)) from None


@endpoint(blueprint, "GET", "/api/sites/<slug>/watch/samples.csv", produces="text/csv")
def export_samples(slug: str, query: MinuteBenchQuery) -> Response:
    """The samples of up to a day, as `tarnfell analyse` reads them."""
    site = require_site(slug)
    watch = watch_store.watch_of(g.db, require_probe(site, query.probe).id)
    if watch is None:
        raise Problem(404, NEVER_ASKED)
    try:
        lines = lines_of(g.db, watch.id, query.from_us, query.until_us)
    except ValueError as error:
        raise Problem(422, str(error)) from None
    headers = {"Content-Disposition": f'attachment; filename="{site.slug}-samples.csv"'}
    return Response(lines, mimetype="text/csv", headers=headers)


def _probe(site: Site, probe: Probe) -> WatchedProbe:
    return WatchedProbe(
        id=probe.id,
        name=probe.name,
        online=is_online(probe),
        watch=watch_view(g.db, probe),
        proposed=[WatchPlaceForm(role=one.role, address=one.address) for one in proposed(g.db, site.id, probe.id)],
    )


def _watched(site: Site, probes: Sequence[Probe], query: WatchQuery) -> Watched | None:
    for probe in probes:
        if query.probe not in (0, probe.id):
            continue
        watch = watch_store.watch_of(g.db, probe.id)
        reading = kept_reading(g.db, watch.id) if watch else None
        if watch and reading:
            shown = reading.episodes[-EPISODES_SHOWN:]
            spans = [(one.from_us, one.until_us) for one in shown]
            calls = calls_during(g.db, site.id, spans, site.target_mos)
            episodes = [_episode(one, *counts) for one, counts in reversed(list(zip(shown, calls, strict=True)))]
            zone = ZoneInfo(site.time_zone)
            found = newest(g.db, watch.id, reading, query.days, zone)
            from_us = reading.until_us - query.days * DAY_US
            if query.measure in get_args(ServiceMeasure):
                measure = cast(ServiceMeasure, query.measure)
                days = services_days(g.db, probe.id, site, reading.until_us, query.days, measure)
            else:
                days = days_of(g.db, found, site, reading, query.days, _shown(query, reading))
            bare = tuple(replace(one, places=()) for one in reading.episodes)
            return Watched(
                probe_id=probe.id,
                reading=replace(reading, episodes=bare),
                episodes=episodes,
                days=days,
                compared=compared(found, reading, zone),
                asks_services=routine_store.asks_services(g.db, probe.id, from_us),
            )
    return None


def _shown(query: WatchQuery, reading: WatchReading) -> Shown:
    """Raises Problem."""
    if query.place is None:
        if query.measure in get_args(LegMeasure):
            return LegsShown(cast(LegMeasure, query.measure))
        raise Problem(422, f"Legs are not measured by {query.measure}: choose a place on the way.")
    if query.measure not in get_args(PlaceMeasure):
        raise Problem(422, f"A place is not measured by {query.measure}: choose the legs.")
    if query.place >= len(reading.places):
        raise Problem(404, "The watch has not asked that place.")
    return PlaceShown(query.place, cast(PlaceMeasure, query.measure))


def _episode(one: ReadEpisode, calls: int, calls_below: int) -> EpisodeView:
    told = {name: value for name, value in vars(one).items() if name != "places"}
    return EpisodeView(**told, calls=calls, calls_below=calls_below)
