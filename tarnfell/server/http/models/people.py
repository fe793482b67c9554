"""Requests and responses of signing in."""

from __future__ import annotations

from typing import Annotated

from pydantic import ConfigDict, Field, StringConstraints

from tarnfell.server.http.models.base import Model


class SignIn(Model):
    model_config = ConfigDict(str_strip_whitespace=False)  # blanks around a password are part of it

    email: Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=254)]
    password: str = Field(min_length=1, max_length=1000)


class Session(Model):
    name: str
    email: str
    outside: bool
    """A customer, who sees what engagements show to customers and no more."""
    csrf: str
    """Sent back as X-CSRF-Token with every request that changes something."""


class FirstAccount(Model):
    wanted: bool
    """Nobody can sign in yet."""


class NewAccount(Model):
    code: str = Field(max_length=100)
    email: str = Field(max_length=200)
    name: str = Field("", max_length=200)
    password: str = Field(max_length=1000)
