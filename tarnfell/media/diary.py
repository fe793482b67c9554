"""What a probe or a far end tells whoever runs it: a line each on standard error."""

from __future__ import annotations

import contextlib
import sys


def note(words: str) -> None:
    """Written at once, or not at all: behind it may be a full disk or a terminal that is closed, and work goes on."""
    with contextlib.suppress(OSError, ValueError):
        print(words, file=sys.stderr, flush=True)
