"""What all requests and responses have in common."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

LAST_US = 253_402_300_799_000_000
"""The end of the year 9999."""


EmailText = Annotated[
    str, StringConstraints(strip_whitespace=True, min_length=3, max_length=254, pattern=r"^[^@\s]+@[^@\s]+$")
]


class Model(BaseModel):
    """Unknown fields are turned away, so that a misspelt one is not silently dropped. Blanks around text are."""

    model_config = ConfigDict(
        extra="forbid",
        from_attributes=True,
        str_strip_whitespace=True,
        # Of some three hundred, one start of the server needs a few.
        defer_build=True,
    )


class Paging(Model):
    limit: int = Field(20, ge=1, le=200)
    offset: int = Field(0, ge=0, le=1_000_000)
