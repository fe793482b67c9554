"""A real mail server of the test's own, and what it took."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from email import message_from_bytes, policy
from email.message import EmailMessage
from typing import Any

from aiosmtpd.smtp import SMTP, Envelope

from tarnfell.store.targets import MailServer


class Box:
    """A mail server's: what it took."""

    def __init__(self) -> None:
        self.taken: list[tuple[list[str], EmailMessage]] = []
        self.says = "250 OK"

    async def handle_DATA(self, _server: Any, _session: Any, envelope: Envelope) -> str:
        if self.says.startswith("250"):
            told = message_from_bytes(envelope.content or b"", policy=policy.default)  # type: ignore[arg-type]
            assert isinstance(told, EmailMessage)
            self.taken.append((list(envelope.rcpt_tos), told))
        return self.says

    async def handle_RCPT(self, _server: Any, _session: Any, envelope: Envelope, to: str, _more: Any) -> str:
        if to.startswith("nobody@"):
            return "550 no such mailbox"
        envelope.rcpt_tos.append(to)
        return "250 OK"


def text_of(message: EmailMessage) -> str:
    return str(message.get_content()).replace("\r\n", "\n")


@contextmanager
def mail_server(box: Box, **options: Any) -> Iterator[MailServer]:
    loop = asyncio.new_event_loop()
    server = loop.run_until_complete(loop.create_server(lambda: SMTP(box, loop=loop, **options), "127.0.0.1", 0))
    thread = threading.Thread(target=loop.run_forever)
    thread.start()
    try:
        port = server.sockets[0].getsockname()[1]
        yield MailServer("127.0.0.1", port, "none", "", "", "tarnfell@customer.example")
    finally:
        loop.call_soon_threadsafe(server.close)
        loop.call_soon_threadsafe(loop.stop)
        thread.join()
        loop.close()
