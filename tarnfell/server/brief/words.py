"""A brief's values in words, and what was changed between two of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from tarnfell.core.targets import BOUNDS
from tarnfell.server.http.sentences import in_words
from tarnfell.store.briefs import Changed

_TITLES = {
    "open_minute": "Opens", "close_minute": "Closes", "open_days": "Business days", "ceiling_pct": "Maximum line share",
    "metered_mb": "Loads on a metered line, a day",
    "medium": "Access type", "down_kbps": "Download rate", "up_kbps": "Upload rate", "line_by": "Line managed by",
    "firewall_by": "Firewall managed by", "switches_by": "Switches managed by", "blackouts": "Hours without load",
    "needed_calls": "Concurrent calls", "calls_per_hour": "Busy-hour calls per person", "blocking_pct": "Blocking",
    "minutes_per_call": "Average call duration", "ptime_ms": "Packetisation interval", "tunnel_bytes": "VPN overhead",
    **{bound.key: bound.title for bound in BOUNDS},
}  # fmt: skip
_UNITS = {
    "down_kbps": " kbit/s", "up_kbps": " kbit/s", "ceiling_pct": " %", "metered_mb": " MB", "blocking_pct": " %",
    "ptime_ms": " ms",
    "tunnel_bytes": " bytes", "minutes_per_call": " min", **{b.key: f" {b.unit}" for b in BOUNDS if b.unit},
}  # fmt: skip


def changes_between(before: Mapping[str, object], after: Mapping[str, object]) -> list[Changed]:
    """Field by field, in the order of the brief."""
    return [
        Changed(_TITLES.get(name) or in_words((name,)), _words(name, before[name]), _words(name, value))
        for name, value in after.items()
        if before[name] != value
    ]


def _words(name: str, value: Any) -> str:
    if value is None or value == "" or value == ():
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if name.endswith("_minute"):
        return f"{value // 60}:{value % 60:02d}"
    if isinstance(value, tuple):
        return "; ".join(_entry(one) for one in value)
    text = f"{value:g}" if isinstance(value, float) else str(value)
    return text + _UNITS.get(name, "")


def _entry(value: Any) -> str:
    fields = vars(value)
    parts = [
        f"{v // 60}:{v % 60:02d}" if name.endswith("_minute") else str(v)
        for name, v in fields.items()
        if v not in ("", None)
    ]
    return " ".join(parts)
