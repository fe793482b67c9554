"""The call that a site's next report lets its reader hear."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell.core.hearing.carried import A_LAW, MU_LAW, Heard
from tarnfell.report.build import Recording, Sound
from tarnfell.store import calls as call_store
from tarnfell.store import issued as issued_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.sites import Site
from tarnfell.store.tasks import Task
from tarnfell.work.closeup.call import CALLS, CallChoice, CallCloseUp, CallLook, look_at_call
from tarnfell.work.closeup.sounds import wav

WAYS = {"up": "from the site", "down": "to the site"}


def recording_of(db: sqlite3.Connection, site: Site) -> Recording | None:
    """By the run's codec and the usual listener, whatever time it takes; None where none was chosen, or there is
    nothing to hear of it."""
    chosen = _chosen(db, site)
    return _recording(*chosen, chosen[0].answer()) if chosen else None


def recording_lately(db: sqlite3.Connection, site: Site) -> tuple[Recording | None, bool]:
    """As ``recording_of``; None of a long call that the clerk has yet to judge, and whether it has."""
    chosen = _chosen(db, site)
    if chosen is None:
        return None, False
    found = CALLS.lately(db, chosen[0], None)
    return (None, True) if isinstance(found, Task) else (_recording(*chosen, found), False)


def _chosen(db: sqlite3.Connection, site: Site) -> tuple[CallLook, str] | None:
    draft = issued_store.draft_of(db, site.id)
    if draft.sound_call is None:
        return None
    return look_at_call(db, call_store.call_by_id(db, draft.sound_call), CallChoice()), draft.sound_direction


def call_words(call: StoredCall, site: Site) -> str:
    """Which call, and when, in site time."""
    at = datetime.fromtimestamp(call.started_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    return f"call {call.number} of run {call.run_id}, {at:%d %B %Y, %H:%M:%S}"


def _recording(look: CallLook, way: str, found: CallCloseUp) -> Recording | None:
    side, codec, ptime_ms = found.side(way), look.codec, look.run.ptime_ms
    if side is None or side.sound is None:
        return None
    audible = side.sound
    made = audible.heard(codec, ptime_ms)
    sounds = [
        Sound("As it was sent", "Every packet in time.", wav(made, made.sent)),
        Sound("As it came", _filled_in(made), wav(made, made.heard)),
    ]
    better = audible.with_media_first(codec, ptime_ms)
    if better is not None:
        sounds.append(
            Sound("With media first in that queue, as worked out", _filled_in(better), wav(better, better.heard))
        )
    return Recording(
        call=call_words(look.call, look.site),
        way=WAYS[way],
        from_s=audible.first * ptime_ms / 1000,
        seconds=audible.packets * ptime_ms / 1000,
        packets=audible.packets,
        missed=made.missed,
        missed_with_media_first=better.missed if better is not None else None,
        exact=codec.name in (A_LAW, MU_LAW),
        sounds=tuple(sounds),
    )


def _filled_in(made: Heard) -> str:
    return f"{made.missed} of {made.packets} packets were missed and filled in."
