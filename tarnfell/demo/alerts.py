"""Rules for alerts at the demo's engagement, as if they had been at work all week."""

from __future__ import annotations

import sqlite3
from datetime import datetime

from tarnfell.core.alerts.rules import Rule, checked
from tarnfell.store import alerts as alert_store
from tarnfell.store.alerts import RuleSpec
from tarnfell.store.db import now_us, writing
from tarnfell.work.alerts.looking import look

RULES = (
    Rule("above-normal", "far-end", minutes=10),
    Rule("loss", "far-end", limit=2, minutes=3),
    Rule("calls-below", limit=3.6, count=3, of=4),
)


def keep_rules(db: sqlite3.Connection, engagement_id: int, since: datetime) -> None:
    """What the week's samples and calls keep of them is told."""
    since_us = round(since.timestamp() * 1e6)
    with writing(db):
        for rule in RULES:
            spec = RuleSpec(checked(rule), None, mail=False, webhook=False, collect=False)
            alert_store.add_rule(db, engagement_id, spec, None, at_us=since_us)
    look(db, back_us=now_us() - since_us)
