"""The call that a site's next report lets its reader hear."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.core.hearing.carried import A_LAW, MU_LAW, Heard, carried
from tarnfell.core.quality import criterion_for
from tarnfell.core.trace import Trace
from tarnfell.report.build import Recording, Sound
from tarnfell.store import calls as call_store
from tarnfell.store import issued as issued_store
from tarnfell.store import runs as run_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.codecs import codec_of_site
from tarnfell.store.runs import Run
from tarnfell.store.sites import Site
from tarnfell.work.judging.sounds import heard_trace, stretch_of, wav, with_media_first

WAYS = {"up": "from the site", "down": "to the site"}


def recording_of(db: sqlite3.Connection, site: Site) -> Recording | None:
    """By the run's codec and the usual listener; None where none was chosen, or there is nothing to hear of it."""
    draft = issued_store.draft_of(db, site.id)
    if draft.sound_call is None:
        return None
    call = call_store.call_by_id(db, draft.sound_call)
    run = run_store.run_by_id(db, call.run_id)
    trace = heard_trace(call, draft.sound_direction)
    return _recording(db, site, call, run, draft.sound_direction, trace) if trace is not None else None


def call_words(call: StoredCall, site: Site) -> str:
    """Which call, and when, in site time."""
    at = datetime.fromtimestamp(call.started_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    return f"call {call.number} of run {call.run_id}, {at:%d %B %Y, %H:%M:%S}"


def _recording(db: sqlite3.Connection, site: Site, call: StoredCall, run: Run, way: str, trace: Trace) -> Recording:
    codec = codec_of_site(db, site.id, run.codec)
    criterion = criterion_for(codec, run.ptime_ms)
    played = criterion.play(trace)
    first, count = stretch_of(played, run.ptime_ms)
    made = carried(played, codec, run.ptime_ms, first, count)
    sounds = [
        Sound("As it was sent", "Every packet in time.", wav(made, made.sent)),
        Sound("As it came", _filled_in(made), wav(made, made.heard)),
    ]
    mended = with_media_first(trace, site, way)
    better = carried(criterion.play(mended), codec, run.ptime_ms, first, count) if mended is not None else None
    if better is not None:
        sounds.append(
            Sound("With media first in that queue, as worked out", _filled_in(better), wav(better, better.heard))
        )
    return Recording(
        call=call_words(call, site),
        way=WAYS[way],
        from_s=first * run.ptime_ms / 1000,
        seconds=count * run.ptime_ms / 1000,
        packets=count,
        missed=made.missed,
        missed_with_media_first=better.missed if better is not None else None,
        exact=codec.name in (A_LAW, MU_LAW),
        sounds=tuple(sounds),
    )


def _filled_in(made: Heard) -> str:
    return f"{made.missed} of {made.packets} packets were missed and filled in."
