"""Mail by SMTP (RFC 5321), encrypted from the first byte or after STARTTLS (RFC 3207) where the server is set so."""

from __future__ import annotations

import smtplib
import ssl
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from tarnfell.store.targets import MailServer
from tarnfell.work.outbox.failures import NotNow, Refused

TIMEOUT_S = 20.0
PERMANENT = range(500, 600)


def send(server: MailServer, to: Sequence[str], subject: str, text: str, number: str, at_us: int) -> None:
    """``number`` names the message wherever it turns up again (RFC 5322 §3.6.4). Raises NotNow and Refused.

    Addresses that the server takes get it; where it takes none, it is refused.
    """
    message = EmailMessage(policy=SMTP)
    message["From"] = server.sender
    message["To"] = ", ".join(to)
    message["Subject"] = " ".join(subject.split())
    message["Date"] = format_datetime(datetime.fromtimestamp(at_us / 1e6, UTC))
    message["Message-ID"] = f"<{number}@{server.sender.rpartition('@')[2] or 'localhost'}>"
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's absence notice answers it
    message.set_content(text, cte="quoted-printable")  # not every server takes eight bits
    with _connected(server) as smtp:
        smtp.send_message(message, server.sender, list(to))


@contextmanager
def _connected(server: MailServer) -> Iterator[smtplib.SMTP]:
    where = f"the mail server {server.host}:{server.port}"
    try:
        with _open(server) as smtp:
            if server.security == "starttls":
                smtp.starttls(context=ssl.create_default_context())
            if server.user_name:
                smtp.login(server.user_name, server.password)
            yield smtp
    except smtplib.SMTPRecipientsRefused as error:
        told = "; ".join(f"{address}: {_words(text)}" for address, (_, text) in error.recipients.items())
        permanent = all(code in PERMANENT for code, _ in error.recipients.values())
        raise (Refused if permanent else NotNow)(f"{where} takes none of the addresses ({told})") from None
    except smtplib.SMTPAuthenticationError as error:
        raise NotNow(f"{where} does not take the user name and password ({_words(error.smtp_error)})") from None
    except smtplib.SMTPNotSupportedError as error:
        raise NotNow(f"{where} cannot do what it is set to: {error}") from None
    except smtplib.SMTPResponseException as error:
        kind = Refused if error.smtp_code in PERMANENT else NotNow
        raise kind(f"{where} answers {error.smtp_code} {_words(error.smtp_error)}") from None
    except ssl.SSLError as error:
        raise NotNow(f"{where}: its certificate or encryption is not accepted ({error.reason or error})") from None
    except (smtplib.SMTPException, OSError) as error:
        raise NotNow(
            f"{where} is not reached or broke off ({error.strerror if isinstance(error, OSError) else error})"
        ) from None


def _open(server: MailServer) -> smtplib.SMTP:
    if server.security == "tls":
        return smtplib.SMTP_SSL(server.host, server.port, timeout=TIMEOUT_S, context=ssl.create_default_context())
    return smtplib.SMTP(server.host, server.port, timeout=TIMEOUT_S)


def _words(told: bytes | str) -> str:
    text = told.decode("utf-8", "replace") if isinstance(told, bytes) else told
    return " ".join(text.split())[:200]
