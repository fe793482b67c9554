"""State of the server."""

from __future__ import annotations

from typing import Literal

from tarnfell.server.http.models.base import Model


class Health(Model):
    version: str
    clerk: Literal["working", "absent"]
    """Absent: nothing that probes deliver is judged, and no plan starts."""
