"""The relay (TURN, RFC 8656) for tests from browsers."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from tarnfell.server.http.models.base import Model


class RelayForm(Model):
    host: str = Field(min_length=1, max_length=253)
    port: int = Field(3478, ge=1, le=65535)
    """By UDP and by TCP."""
    tls_port: int | None = Field(None, ge=1, le=65535)
    """Null where it takes no TLS."""
    user: str = Field("", max_length=200)
    """Empty where the secret is shared with the relay, which then takes names that end with a time."""
    secret: str | None = Field(None, min_length=1, max_length=200)
    """The password, or the shared secret; null leaves the one that is kept, if it is of the same sort."""


class RelayView(Model):
    host: str
    port: int
    tls_port: int | None
    user: str


class RelayPage(Model):
    relay: RelayView | None


class TestRelay(Model):
    """Where a browser finds the relay (RFC 7065), and by what name and password it is let through."""

    model_config = ConfigDict(str_strip_whitespace=False)

    udp: str
    tcp: str
    tls: str | None
    user: str
    password: str
