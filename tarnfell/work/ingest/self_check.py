"""What a run's two ends saw of themselves, checked when it comes in, so that nothing later stumbles over it."""

from __future__ import annotations

import math
from typing import Any

from tarnfell.wire import WireError

ENDS = ("probe", "far_end")
MAX_REASONS = 100
MAX_WORDS = 500


def checked(told: Any) -> dict[str, Any]:
    """The self-check of a record's head, as far as it is read here. Raises WireError for what is of another shape.

    What is not known here is kept: a newer probe may tell more.
    """
    check = _object(told, "as a whole")
    reasons = check.get("reasons") or []
    if not isinstance(reasons, list) or len(reasons) > MAX_REASONS or not all(map(_is_words, reasons)):
        raise _unreadable("its reasons")
    if not isinstance(check.get("tainted", False), bool):
        raise _unreadable("whether it spoiled the run")
    for name in ENDS:
        end = _object(check.get(name), name)
        late = _object(end.get("send_late_ms"), f"how late the {name} sent")
        if not all(value is None or _is_number(value) for value in late.values()):
            raise _unreadable(f"how late the {name} sent")
        if not all(value is None or _is_words(value) for value in (end.get("priority"), end.get("receive_stamps"))):
            raise _unreadable(f"how the {name} ran")
        if not isinstance(end.get("clock_steps") or [], list):
            raise _unreadable(f"the clock of the {name}")
    return check


def _object(value: Any, what: str) -> dict[str, Any]:
    if value is None:
        return {}
    if not isinstance(value, dict):
        raise _unreadable(what)
    return value


def _is_words(value: Any) -> bool:
    return isinstance(value, str) and len(value) <= MAX_WORDS


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def _unreadable(what: str) -> WireError:
    return WireError(f"Packet record: the self-check cannot be read ({what}).")
