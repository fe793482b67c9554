"""What a watch has done beside its samples, begun when it is due and by the site's rules of the moment.

due ──► begun: a job of the probe
  ├── something else loads the line ──► tried again until the next turn, for ten minutes at most
  ├── the probe is offline, or a rule ──► left out, with the reason
  └── outside business hours, where it belongs into them ──► passed over without a word
"""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, replace

from tarnfell.core.rates import VideoLoad
from tarnfell.core.schedule import from_us
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import routines as routine_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import writing
from tarnfell.store.fills import FillAsked
from tarnfell.store.probes import Probe
from tarnfell.store.routines import Routine, What
from tarnfell.store.runs import RunSpec
from tarnfell.store.sites import Site
from tarnfell.store.watches import Watch
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.fill import FillPlan
from tarnfell.work.evidence.site_time import moment_at
from tarnfell.work.placing.fill_plan import most_bytes
from tarnfell.work.placing.hand_out import all_services
from tarnfell.work.placing.metered import beside_bytes, run_bytes, within_allowance
from tarnfell.work.placing.rules import Reason, about_ends, about_presence, against, against_filling, ceiling_kbps

WHAT_WORDS: dict[What, str] = {
    "call": "a call",
    "needed": "the calls that are needed",
    "fill": "line fill",
    "services": "names and services",
}
CALL_S, NEEDED_S = 12.0, 20.0
"""How long calls last."""
FILL = FillPlan(seconds=6.0)
LATEST_US = 10 * 60 * 1_000_000
SERVICE_BYTES, NAME_BYTES = 6000, 300
"""About what it takes to ask one, both ways together: a TLS handshake with its certificates, a question over UDP."""
USUAL: dict[What, int] = {"call": 600, "needed": 3600, "fill": 0, "services": 300}
"""What is proposed, in seconds; a fill is proposed to nobody who has not allowed it."""
SOONEST_S: dict[What, int] = {"call": 60, "needed": 300, "fill": 1800, "services": 60}
IN_BUSINESS_HOURS: tuple[What, ...] = ("needed",)
MINUTES = 24 * 60
QUIET_TURNS = 2
"""So many turns without a start are told loudly."""


def begin_routines(db: sqlite3.Connection, at_us: int) -> None:
    """What is due by ``at_us``."""
    if not routine_store.due(db, at_us):
        return
    with writing(db):
        # Read again: another turn may have begun them a moment ago.
        for one in routine_store.due(db, at_us):
            _begin(db, one, at_us)


def _begin(db: sqlite3.Connection, one: Routine, at_us: int) -> None:
    watch = watch_store.watch_by_id(db, one.watch_id)
    assert watch is not None
    probe = probe_store.probe_by_id(db, watch.probe_id)
    site = site_store.site_by_id(db, probe.site_id)
    every_us = one.every_s * 1_000_000
    # Turns stay where they are: one that begins late does not push those after it.
    next_us = one.next_us + every_us * max(1, -(-(at_us + 1 - one.next_us) // every_us))
    if one.what in IN_BUSINESS_HOURS and not moment_at(site, at_us).busy:
        return routine_store.keep_left(db, one, at_us, next_us, "")
    reason = _against(db, one.what, site, probe, watch, at_us)
    if reason is None:
        _ask(db, one, site, probe, watch, at_us)
        return routine_store.keep_begun(db, one, at_us, next_us)
    if reason.code == "busy" and at_us - one.next_us < min(every_us, LATEST_US):
        return None
    return routine_store.keep_left(db, one, at_us, next_us, reason.afterwards)


def _against(db: sqlite3.Connection, what: What, site: Site, probe: Probe, watch: Watch, at_us: int) -> Reason | None:
    far_end, at = place_store.far_end_by_id(db, watch.far_end_id), from_us(at_us)
    if what == "services":
        return about_ends(db, site, probe, far_end) or about_presence(probe)
    if what == "fill":
        return against_filling(db, site, probe, far_end, fill_of(site), at)
    return against(db, site, probe, far_end, spec_of(what, site, probe.id, watch.far_end_id, watch.dscp), at)


def _ask(db: sqlite3.Connection, one: Routine, site: Site, probe: Probe, watch: Watch, at_us: int) -> None:
    if one.what == "services":
        job_store.add(db, site.id, probe.id, "services", _WORDS, one.asked_by)
    elif one.what == "fill":
        asked = FillAsked(watch.far_end_id, site.codec, site.ptime_ms, fill_of(site))
        asked = within_allowance(db, site, asked, from_us(at_us))
        job_store.add(db, site.id, probe.id, "fill", _WORDS, one.asked_by, plain(asked))
    else:
        spec = spec_of(one.what, site, probe.id, watch.far_end_id, watch.dscp, one.asked_by)
        run_store.add_run(db, spec, _WORDS)


_WORDS = "Requested by the watch."


def spec_of(what: What, site: Site, probe_id: int, far_end_id: int, dscp: int, asked_by: int | None = None) -> RunSpec:
    """One call, or all that the brief needs at once."""
    is_all = what == "needed"
    return RunSpec(
        site_id=site.id,
        probe_id=probe_id,
        far_end_id=far_end_id,
        purpose="watch",
        codec=site.codec,
        ptime_ms=site.ptime_ms,
        calls=site.brief.needed_calls if is_all else 1,
        seconds=NEEDED_S if is_all else CALL_S,
        dscp=dscp,
        video=tuple(VideoLoad(need.profile, need.streams) for need in site.video) if is_all else (),
        asked_by=asked_by,
    )


def fill_of(site: Site) -> FillPlan:
    """Short, and below the site's ceiling."""
    return replace(FILL, ceiling_kbps=ceiling_kbps(site) or 0)


@dataclass(frozen=True)
class Cost:
    """What one start moves, and what part of the day its starts take place in."""

    what: What
    start_bytes: float | None
    """Of both ways together, at the most; None of a fill over a line whose rates are not known."""
    share: float


def costs(db: sqlite3.Connection, site: Site) -> list[Cost]:
    def of_run(what: What) -> float:
        return run_bytes(site, spec_of(what, site, 0, 0, 0))

    wish = check_store.wish_of(db, site.id)
    services = all_services(check_store.services_of(db, site.engagement_id), wish.services)
    fill = fill_of(site)
    rates = (site.up_kbps, site.down_kbps)
    streams = most_bytes(fill, *rates) + beside_bytes(site, fill) if rates[0] and rates[1] else None  # type: ignore[arg-type]
    return [
        Cost("call", of_run("call"), 1.0),
        Cost("needed", of_run("needed"), _busy_share(site)),
        Cost("fill", streams, 1.0),
        Cost("services", SERVICE_BYTES * len(services) + NAME_BYTES * len(wish.names), 1.0),
    ]


def _busy_share(site: Site) -> float:
    """Of the week."""
    return ((site.close_minute - site.open_minute) % MINUTES or MINUTES) * len(site.open_days) / (7 * MINUTES)


def quiet_words(one: Routine, watch: Watch, at_us: int) -> str:
    """Why it has not taken place for twice its interval; empty where it has, or need not have."""
    longest_us = QUIET_TURNS * one.every_s * 1_000_000
    if at_us - one.next_us > longest_us:
        return "It is overdue: the clerk, which begins it, does not run."
    since_us = max(one.begun_us or 0, watch.changed_us)
    if one.left_us and one.left_us > since_us and one.left_us - since_us > longest_us - one.every_s * 1_000_000:
        return one.left_words
    return ""
