"""Steps of the delay that stay: another route, not a queue.

A queue comes with scatter and moves; another route lifts or lowers everything at once and leaves the scatter as it was.
What a step brought is no jitter: a receiver's buffer follows it within a call.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from tarnfell.core.days.blocks import Blocks
from tarnfell.core.days.rounds import Flags, Floats, Ints, Place
from tarnfell.core.legs import DEPTH

SIDE = 10
"""Blocks that a level must hold on each side of a step."""
LEAST_STEP_MS = 4.0
OVER_SCATTER = 4.0
"""A step stands out from what the blocks' own levels vary by on both sides by so many times."""
MORE_SCATTER = 2.0
"""With so many times its usual scatter a place is behind a queue."""
SCATTER_FLOOR_MS = 0.5
ALIKE = 0.5
"""A step that all beyond have is one of the way: within so much of its size, and of ``NEAR_BLOCKS`` in time."""
NEAR_BLOCKS = 2
STAYS_US = 6 * 3_600_000_000
"""A level that is left for the old one within so long was trouble, however little it scattered."""


@dataclass(frozen=True)
class Step:
    place: int
    at_us: int
    """Start of the first block at the new level."""
    by_ms: float


def steps_of(blocks: Blocks, places: Sequence[Place]) -> list[Step]:
    """In the order of time. What a router has for itself alone, and passes on to nobody, is none of the way."""
    own = [_own_steps(blocks, place) for place in range(len(places))]
    told = []
    for place, steps in enumerate(own):
        depth = DEPTH[places[place].role]
        beyond = [own[i] for i, one in enumerate(places) if DEPTH[one.role] > depth and blocks.answered[i].any()]
        told += [step for step in steps if all(_has_alike(others, step, blocks.block_us) for others in beyond)]
    return sorted(told, key=lambda step: (step.at_us, step.place))


def _has_alike(steps: Sequence[Step], step: Step, block_us: int) -> bool:
    return any(
        abs(one.at_us - step.at_us) <= NEAR_BLOCKS * block_us and abs(one.by_ms - step.by_ms) <= ALIKE * abs(step.by_ms)
        for one in steps
    )


def _own_steps(blocks: Blocks, place: int) -> list[Step]:
    known = np.nonzero(blocks.answered[place] > 0)[0]
    if len(known) < 2 * SIDE:
        return []
    level = blocks.quantile(place, 0.25)[known]
    scatter = blocks.quantile(place, 0.75)[known] - level
    before, after = _sides(level, 50.0)
    rise = after - before
    noise = np.maximum(*(high - low for low, high in zip(_sides(level, 25.0), _sides(level, 75.0), strict=True)))
    stands_out = np.abs(rise) >= np.maximum(LEAST_STEP_MS, OVER_SCATTER * noise)
    usual = MORE_SCATTER * (float(np.median(scatter)) + SCATTER_FLOOR_MS)
    calm = np.maximum(*_sides(scatter, 50.0)) <= usual
    jump = np.abs(np.diff(level))[SIDE - 1 : len(level) - SIDE]
    found = _peaks(stands_out & calm & _sharp(level, before, after), jump).tolist()
    at_us = blocks.start_us[known]
    windows = np.percentile(sliding_window_view(level, SIDE), 50.0, axis=1)
    stays = [i for i in found if _stays(at_us, windows, i, float(rise[i]))]
    return [Step(place, int(at_us[i + SIDE]), float(rise[i])) for i in stays]


def _stays(at_us: Ints, windows: Floats, before: int, by_ms: float) -> bool:
    """Whether the old level is not met again soon after a step, nor the new one soon before it: both ways of trouble
    that came and went, at once or with a scatter that makes no step of it. ``windows`` are the medians of ``SIDE``
    blocks on end, that at ``before`` being the last of before the step."""
    after = before + SIDE
    at = at_us[after]
    last = int(np.searchsorted(at_us, at + STAYS_US)) - SIDE
    first = int(np.searchsorted(at_us, at - STAYS_US))
    like = ALIKE * abs(by_ms)
    comes_back = np.abs(windows[after : last + 1] - windows[before]) <= like
    was_there = np.abs(windows[first : before + 1] - windows[after]) <= like
    return not (comes_back.any() or was_there.any())


def _sides(values: Floats, percent: float) -> tuple[Floats, Floats]:
    """A percentile of the ``SIDE`` blocks before each possible step, and of those after it; steps lie before block
    ``SIDE``, and so on."""
    windows = np.percentile(sliding_window_view(values, SIDE), percent, axis=1)
    return windows[:-SIDE], windows[SIDE:]


def _sharp(level: Floats, before: Floats, after: Floats) -> Flags:
    """The block before the step is at the old level and the second one after it at the new one."""
    last, second = level[SIDE - 1 : -SIDE], level[SIDE + 1 : len(level) - SIDE + 2]
    half = np.abs(after - before) / 4
    return np.asarray((np.abs(last - before) <= half) & (np.abs(second[: len(last)] - after) <= half))


def _peaks(is_step: Flags, jump: Floats) -> Ints:
    """Of each stretch of neighbours that could be one step that where the level itself jumps most."""
    (at,) = np.nonzero(is_step)
    if not len(at):
        return at
    runs = np.split(at, np.nonzero(np.diff(at) > SIDE // 2)[0] + 1)
    return np.array([run[np.argmax(jump[run])] for run in runs], np.int64)
