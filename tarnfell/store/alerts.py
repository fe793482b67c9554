"""Rules that people made for alerts, and each time that one was kept.

A rule:  at work ──► ended (removed, or changed: then another takes its place)
An alert: open ──► ended, with the all-clear
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, fields

from tarnfell.core.alerts.rules import Kind, Rule
from tarnfell.core.legs import Role
from tarnfell.store.db import now_us


@dataclass(frozen=True)
class RuleSpec:
    """A rule and what is done when it is kept. ``site_id`` None is all sites of the engagement."""

    rule: Rule
    site_id: int | None
    mail: bool
    webhook: bool
    collect: bool
    quiet_from: int | None = None
    """Minutes since midnight at the site; both or neither."""
    quiet_until: int | None = None


@dataclass(frozen=True)
class KeptRule:
    id: int
    engagement_id: int
    spec: RuleSpec
    made_us: int
    ended_us: int | None


@dataclass(frozen=True)
class Alert:
    id: int
    rule_id: int
    site_id: int
    subject: str
    began_us: int
    ended_us: int | None
    says: str
    made_us: int


_RULE = (
    "SELECT id, engagement_id, site_id, kind, role, bound, minutes, least, of_tests, mail, webhook, collect, "
    "quiet_from, quiet_until, made_us, ended_us FROM alert_rule"
)
_ALERT = f"SELECT {', '.join(f'alert.{f.name}' for f in fields(Alert))} FROM alert"


def add_rule(
    db: sqlite3.Connection, engagement_id: int, spec: RuleSpec, by: int | None, at_us: int | None = None
) -> int:
    rule = spec.rule
    cursor = db.execute(
        "INSERT INTO alert_rule (engagement_id, site_id, kind, role, bound, minutes, least, of_tests, mail, webhook, "
        "collect, quiet_from, quiet_until, made_by, made_us) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            engagement_id, spec.site_id, rule.kind, rule.role, rule.limit, rule.minutes, rule.count, rule.of, spec.mail,
            spec.webhook, spec.collect, spec.quiet_from, spec.quiet_until, by, now_us() if at_us is None else at_us,
        ),
    )  # fmt: skip
    return int(cursor.lastrowid or 0)


def end_rule(db: sqlite3.Connection, rule_id: int) -> None:
    """Its open alerts end with it, without an all-clear."""
    at = now_us()
    db.execute("UPDATE alert_rule SET ended_us = ? WHERE id = ? AND ended_us IS NULL", (at, rule_id))
    db.execute("UPDATE alert SET ended_us = max(?, began_us) WHERE rule_id = ? AND ended_us IS NULL", (at, rule_id))


def rule_by_id(db: sqlite3.Connection, rule_id: int) -> KeptRule | None:
    row = db.execute(f"{_RULE} WHERE id = ?", (rule_id,)).fetchone()
    return _rule(row) if row else None


def rules_at_work(db: sqlite3.Connection, engagement_id: int | None = None) -> list[KeptRule]:
    """Oldest first; of one engagement, or of all that are not archived."""
    if engagement_id is not None:
        rows = db.execute(
            f"{_RULE} WHERE ended_us IS NULL AND engagement_id = ? ORDER BY id", (engagement_id,)
        ).fetchall()
    else:
        rows = db.execute(
            f"{_RULE} WHERE ended_us IS NULL AND engagement_id IN "
            "(SELECT id FROM engagement WHERE archived_us IS NULL) ORDER BY id"
        ).fetchall()
    return [_rule(row) for row in rows]


def _rule(row: sqlite3.Row) -> KeptRule:
    kind: Kind = row["kind"]
    role: Role | None = row["role"]
    rule = Rule(kind, role, row["bound"], row["minutes"], row["least"], row["of_tests"])
    spec = RuleSpec(
        rule, row["site_id"], bool(row["mail"]), bool(row["webhook"]), bool(row["collect"]), row["quiet_from"],
        row["quiet_until"],
    )  # fmt: skip
    return KeptRule(row["id"], row["engagement_id"], spec, row["made_us"], row["ended_us"])


def add_alert(
    db: sqlite3.Connection, rule_id: int, site_id: int, subject: str, began_us: int, ended_us: int | None, says: str
) -> int:
    cursor = db.execute(
        "INSERT INTO alert (rule_id, site_id, subject, began_us, ended_us, says, made_us) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (rule_id, site_id, subject, began_us, ended_us, says, now_us()),
    )
    return int(cursor.lastrowid or 0)


def change_alert(db: sqlite3.Connection, alert_id: int, ended_us: int | None, says: str) -> None:
    db.execute("UPDATE alert SET ended_us = ?, says = ? WHERE id = ?", (ended_us, says, alert_id))


def alert_by_id(db: sqlite3.Connection, alert_id: int) -> Alert | None:
    row = db.execute(f"{_ALERT} WHERE id = ?", (alert_id,)).fetchone()
    return Alert(*row) if row else None


def alerts_since(db: sqlite3.Connection, rule_id: int, site_id: int, since_us: int) -> list[Alert]:
    """Of a rule at a site: those still open, and those that ended after; in the order of time."""
    rows = db.execute(
        f"{_ALERT} WHERE rule_id = ? AND site_id = ? AND (ended_us IS NULL OR ended_us >= ?) ORDER BY began_us",
        (rule_id, site_id, since_us),
    )
    return [Alert(*row) for row in rows]


def alerts_of_rule(db: sqlite3.Connection, rule_id: int, since_us: int) -> list[Alert]:
    """At all sites: those still open, and those that ended after; in the order of time."""
    rows = db.execute(
        f"{_ALERT} WHERE rule_id = ? AND (ended_us IS NULL OR ended_us >= ?) ORDER BY began_us", (rule_id, since_us)
    )
    return [Alert(*row) for row in rows]


def newest_alerts(db: sqlite3.Connection, engagement_id: int, most: int) -> list[Alert]:
    """Open ones first, then the newest; of sites that are not archived."""
    rows = db.execute(
        f"{_ALERT} JOIN site ON site.id = alert.site_id WHERE site.engagement_id = ? AND site.archived_us IS NULL "
        "ORDER BY alert.ended_us IS NOT NULL, alert.began_us DESC, alert.id DESC LIMIT ?",
        (engagement_id, most),
    )
    return [Alert(*row) for row in rows]


def open_alerts(db: sqlite3.Connection) -> list[Alert]:
    """Of sites and engagements at work; newest first."""
    rows = db.execute(
        f"{_ALERT} JOIN site ON site.id = alert.site_id JOIN engagement ON engagement.id = site.engagement_id "
        "WHERE alert.ended_us IS NULL AND site.archived_us IS NULL AND engagement.archived_us IS NULL "
        "ORDER BY alert.began_us DESC, alert.id DESC"
    )
    return [Alert(*row) for row in rows]


# What the clerk looks at next


def look_again(db: sqlite3.Connection, site_ids: Sequence[int], from_us: int) -> None:
    """Have the watches of these sites looked at from there on: a rule is new."""
    db.executemany(
        "UPDATE watch SET alert_from_us = min(coalesce(alert_from_us, ?1), ?1) "
        "WHERE probe_id IN (SELECT id FROM probe WHERE site_id = ?2)",
        [(from_us, site_id) for site_id in site_ids],
    )


@dataclass(frozen=True)
class Changed:
    """A watch with samples that alerts have not looked at; ``changes`` is how often its cells had changed."""

    watch_id: int
    probe_id: int
    site_id: int
    from_us: int
    changes: int


def changed_watches(db: sqlite3.Connection) -> list[Changed]:
    rows = db.execute(
        "SELECT watch.id, probe.id, probe.site_id, watch.alert_from_us, watch.changes FROM watch "
        "JOIN probe ON probe.id = watch.probe_id WHERE watch.alert_from_us IS NOT NULL ORDER BY watch.id"
    )
    return [Changed(*row) for row in rows]


def note_looked(db: sqlite3.Connection, changed: Changed) -> None:
    """Unless more has changed meanwhile."""
    db.execute(
        "UPDATE watch SET alert_from_us = NULL WHERE id = ? AND changes = ?", (changed.watch_id, changed.changes)
    )
