"""What a watch had best ask, by what is known of the site so far, and what it costs the line."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.wire.icmp import ECHO_HEAD_BYTES, IP_HEAD_BYTES
from tarnfell.wire.kinds.check import EchoFacts
from tarnfell.wire.kinds.fields import read_known
from tarnfell.wire.kinds.watch import MAX_ECHOES, EchoTarget
from tarnfell.wire.stamp import AUTHENTICATED_BYTES

LARGE_EVERY = 5
LARGE_BYTES = 1400
SMALL_BYTES = 64
STAMP_BYTES = AUTHENTICATED_BYTES + IP_HEAD_BYTES + ECHO_HEAD_BYTES
"""A time stamp at IP; UDP's header is as long as an echo's."""


def proposed(db: sqlite3.Connection, site_id: int, probe_id: int) -> tuple[EchoTarget, ...]:
    """Gateway, provider's edge and addresses outside: by hand where the check's wishes name them, else as the newest
    check of this probe found them."""
    wish = check_store.wish_of(db, site_id)
    found = _newest(db, probe_id)
    edge = wish.edge or (found.edge if found and found.edge else "")
    outside = wish.outside or tuple(one.address for one in found.echoes if one.role == "outside") if found else ()
    places = [EchoTarget("gateway", wish.gateway)]
    places += [EchoTarget("edge", edge)] if edge else []
    places += [EchoTarget("outside", one) for one in outside]
    return tuple(places[:MAX_ECHOES])


@dataclass(frozen=True)
class _Found:
    """Of the result of a check, what a watch goes by."""

    edge: str | None = None
    echoes: tuple[EchoFacts, ...] = ()


def _newest(db: sqlite3.Connection, probe_id: int) -> _Found | None:
    job = job_store.newest_done(db, probe_id, "check")
    return read_known(_Found, job.result) if job and job.result else None
