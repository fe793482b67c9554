"""Messages about alerts, from when they are due until they have been sent or are given up.

waiting ──► sent
   │ ▲╰───► failed: refused for good, or tried for a day
   ╰─╯ tried without success: again later, each pause longer than the one before

A message is sent at least once: one that went out just before its sender was killed goes out again, under the same
number, by which its receiver knows it.
"""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass, fields
from typing import Literal

from tarnfell.store.db import now_us

What = Literal["begun", "ended", "trial"]
Channel = Literal["mail", "webhook"]
PAUSES_US = tuple(seconds * 1_000_000 for seconds in (30, 120, 600, 1800, 3600, 3 * 3600, 6 * 3600, 12 * 3600))
"""After each try without success; after the last the message is given up."""


@dataclass(frozen=True)
class Message:
    id: int
    engagement_id: int
    alert_id: int | None
    what: What
    channel: Channel
    state: Literal["waiting", "sent", "failed"]
    tries: int
    next_us: int
    made_us: int
    ended_us: int | None
    failure: str | None
    """Of the newest try."""


_MESSAGE = f"SELECT {', '.join(f.name for f in fields(Message))} FROM message"


def add(
    db: sqlite3.Connection, engagement_id: int, alert_id: int | None, what: What, channel: Channel, due_us: int
) -> None:
    """Once for an alert: another of the same changes nothing."""
    db.execute(
        "INSERT OR IGNORE INTO message (engagement_id, alert_id, what, channel, next_us, made_us) "
        "VALUES (?, ?, ?, ?, ?, ?)",
        (engagement_id, alert_id, what, channel, due_us, now_us()),
    )


def next_due(db: sqlite3.Connection, channel: Channel) -> Message | None:
    """In the order in which they were made, so that an all-clear does not overtake its alert."""
    row = db.execute(
        f"{_MESSAGE} WHERE state = 'waiting' AND channel = ? AND next_us <= ? AND NOT EXISTS (SELECT 1 "
        "FROM message AS before WHERE before.alert_id = message.alert_id AND before.channel = message.channel "
        "AND before.state = 'waiting' AND before.id < message.id) ORDER BY tries, id LIMIT 1",
        (channel, now_us()),
    ).fetchone()
    return Message(*row) if row else None


def note_sent(db: sqlite3.Connection, message: Message) -> None:
    db.execute(
        "UPDATE message SET state = 'sent', tries = tries + 1, ended_us = ?, failure = NULL WHERE id = ?",
        (now_us(), message.id),
    )


def take_back(db: sqlite3.Connection, alert_id: int, what: What, channel: Channel) -> None:
    """Another message has told it."""
    db.execute(
        "DELETE FROM message WHERE alert_id = ? AND what = ? AND channel = ? AND state = 'waiting'",
        (alert_id, what, channel),
    )


def put_off(db: sqlite3.Connection, message: Message, failure: str) -> None:
    """It could not be sent this time."""
    if message.tries >= len(PAUSES_US):
        give_up(db, message, failure)
        return
    db.execute(
        "UPDATE message SET tries = tries + 1, next_us = ?, failure = ? WHERE id = ?",
        (now_us() + PAUSES_US[message.tries], failure, message.id),
    )


def give_up(db: sqlite3.Connection, message: Message, failure: str) -> None:
    db.execute(
        "UPDATE message SET state = 'failed', tries = tries + 1, failure = ?, ended_us = ? WHERE id = ?",
        (failure, now_us(), message.id),
    )


def of_alert(db: sqlite3.Connection, alert_id: int) -> list[Message]:
    return [Message(*row) for row in db.execute(f"{_MESSAGE} WHERE alert_id = ? ORDER BY id", (alert_id,))]


def newest_trials(db: sqlite3.Connection, engagement_id: int) -> list[Message]:
    """The newest of each channel."""
    rows = db.execute(
        f"{_MESSAGE} WHERE id IN (SELECT max(id) FROM message WHERE engagement_id = ? AND what = 'trial' "
        "GROUP BY channel) ORDER BY channel",
        (engagement_id,),
    )
    return [Message(*row) for row in rows]


def forget_trials(db: sqlite3.Connection, engagement_id: int, channel: Channel) -> None:
    db.execute(
        "DELETE FROM message WHERE engagement_id = ? AND what = 'trial' AND channel = ?", (engagement_id, channel)
    )
