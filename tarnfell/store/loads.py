"""Video that a run or a plan holds beside its calls, as JSON."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import asdict

from tarnfell.core.rates import VideoLoad


def loads_to_json(loads: Iterable[VideoLoad]) -> str:
    return json.dumps([asdict(load) for load in loads])


def loads_from_json(text: str) -> tuple[VideoLoad, ...]:
    return tuple(VideoLoad(**one) for one in json.loads(text))
