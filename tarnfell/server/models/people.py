"""Requests and responses of signing in."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from tarnfell.server.models.base import Model


class SignIn(Model):
    model_config = ConfigDict(str_strip_whitespace=False)  # blanks around a password are part of it

    email: str = Field(min_length=1, max_length=254)
    password: str = Field(min_length=1, max_length=1000)


class Session(Model):
    name: str
    email: str
    csrf: str
    """Sent back as X-CSRF-Token with every request that changes something."""
