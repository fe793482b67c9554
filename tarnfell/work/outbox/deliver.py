"""What goes out, of each queue one after the other: messages, made from their alert as that stands, and letters."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Literal, get_args

from tarnfell.core.alerts.rules import sentence
from tarnfell.store import alerts as alert_store
from tarnfell.store import engagements as engagement_store
from tarnfell.store import letters, outbox
from tarnfell.store import sites as site_store
from tarnfell.store import targets as target_store
from tarnfell.store.db import now_us, writing
from tarnfell.store.outbox import Message
from tarnfell.work.outbox import mail, webhook
from tarnfell.work.outbox.failures import NotNow, Refused

Queue = Literal["mail", "webhook", "letter"]
"""A receiver that is slow holds up its own queue: a webhook that hangs delays no mail, and no alert a letter."""
QUEUES: tuple[Queue, ...] = get_args(Queue)
NO_MAIL_SERVER = "no mail server is set for this installation"
NOBODY = "nobody is named any more to send it to"


@dataclass(frozen=True)
class Sending:
    """What the operator of this server says of it."""

    public_address: str | None = None
    """For links in messages."""
    allow_private: bool = False
    """Webhooks may be addresses inside a network."""


@dataclass(frozen=True)
class Told:
    subject: str
    text: str
    value: Mapping[str, Any]


def deliver_next(db: sqlite3.Connection, sending: Sending, queue: Queue) -> bool:
    """Send what has been due longest; False where nothing is. Nothing is locked while the network is waited for."""
    if queue == "letter":
        return _deliver_letter(db)
    message = outbox.next_due(db, queue)
    if message is None:
        return False
    try:
        told = _told(db, message, sending)
        _send(db, message, told, sending)
    except Refused as error:
        with writing(db):
            outbox.give_up(db, message, str(error))
    except NotNow as error:
        with writing(db):
            outbox.put_off(db, message, str(error))
    else:
        with writing(db):
            outbox.note_sent(db, message)
            if message.alert_id is not None and message.what == "begun" and told.value["ended_at"]:
                outbox.take_back(db, message.alert_id, "ended", message.channel)
    return True


def _deliver_letter(db: sqlite3.Connection) -> bool:
    letter = letters.next_due(db)
    if letter is None:
        return False
    try:
        server = target_store.mail_server(db)
        if server is None:
            raise NotNow(NO_MAIL_SERVER)
        mail.send(server, [letter.address], letter.subject, letter.words, f"letter-{letter.id}", now_us())
    except Refused as error:
        with writing(db):
            letters.give_up(db, letter, str(error))
    except NotNow as error:
        with writing(db):
            letters.put_off(db, letter, str(error))
    else:
        with writing(db):
            letters.note_sent(db, letter)
    return True


def _send(db: sqlite3.Connection, message: Message, told: Told, sending: Sending) -> None:
    targets = target_store.targets_of(db, message.engagement_id)
    number = f"alert-{message.alert_id}-{message.what}" if message.alert_id else f"test-{message.id}"
    if message.channel == "webhook":
        if not targets.webhook_url:
            raise Refused(NOBODY)
        webhook.post(targets.webhook_url, targets.webhook_secret, told.value, number, now_us(), sending.allow_private)
        return
    if not targets.addresses:
        raise Refused(NOBODY)
    server = target_store.mail_server(db)
    if server is None:
        raise NotNow(NO_MAIL_SERVER)
    mail.send(server, targets.addresses, told.subject, told.text, number, now_us())


def _told(db: sqlite3.Connection, message: Message, sending: Sending) -> Told:
    engagement = engagement_store.engagement_by_id(db, message.engagement_id)
    link = (
        f"{sending.public_address.rstrip('/')}/engagements/{engagement.slug}/alerts" if sending.public_address else ""
    )
    alert = alert_store.alert_by_id(db, message.alert_id) if message.alert_id is not None else None
    if alert is None:
        text = f"This is a test: alerts of {engagement.name} are sent here."
        value = {"what": "test", "engagement": engagement.name, "says": text, "ended_at": None, "link": link}
        return Told(f"Test: alerts of {engagement.name}", _paragraphs(text, link), value)
    rule = alert_store.rule_by_id(db, alert.rule_id)
    site = site_store.site_by_id(db, alert.site_id)
    rule_words = sentence(rule.spec.rule) if rule else ""
    over = alert.ended_us is not None
    subject = f"{'All clear' if message.what == 'ended' else 'Alert'}: {site.name}, {engagement.name}"
    state = f"All clear at {site.name}." if message.what == "ended" else "It is over." if over else ""
    text = _paragraphs(alert.says, state, f"The rule: {rule_words}", link)
    return Told(
        subject,
        text,
        {
            "what": message.what,
            "alert": alert.id,
            "engagement": engagement.name,
            "site": site.name,
            "rule": rule_words,
            "says": alert.says,
            "began_at": _time(alert.began_us),
            "ended_at": _time(alert.ended_us),
            "link": link,
        },
    )


def _paragraphs(*texts: str) -> str:
    return "\n\n".join(text for text in texts if text) + "\n"


def _time(at_us: int | None) -> str | None:
    """RFC 3339."""
    if at_us is None:
        return None
    return datetime.fromtimestamp(at_us / 1e6, UTC).isoformat(timespec="seconds").replace("+00:00", "Z")
