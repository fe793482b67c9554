"""When packets of a capture were sent, by their timestamps: what the sender itself set on is no delay."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from tarnfell.core.trace import Ints

JUMP_US = 300_000
"""A timestamp this far off what arrivals say was set on by the sender: no queue or route gives or takes as much at
once and for good."""
LEVEL_PACKETS = 25
LEAST_LEVEL_PACKETS = 10
"""Before a jump and after it: the delay of a packet or two at either end of a stream is no level."""


def without_jumps(sent_us: NDArray[np.float64], at_us: Ints, numbers: Ints, notes: list[str]) -> NDArray[np.float64]:
    """Send times by timestamp, less the jumps that the sender itself made: held calls that go on with old timestamps.

    A jump is one in how arrivals stand to timestamps, between two packets in a row, that stays; after a stall of the
    network packets come in a burst, faster than they were sent.
    """
    apart = at_us - at_us[0] - (sent_us - sent_us[0])
    leaps = np.flatnonzero(np.abs(np.diff(apart)) > JUMP_US) + 1
    shift = np.zeros(len(sent_us))
    count = 0
    for i in leaps.tolist():
        if min(i, len(at_us) - i) < LEAST_LEVEL_PACKETS:
            continue
        before, after = apart[max(0, i - LEVEL_PACKETS) : i], apart[i : i + LEVEL_PACKETS]
        step = float(after.min() - before.min())
        took = float(at_us[min(i + LEVEL_PACKETS, len(at_us)) - 1] - at_us[i])
        meant = float(sent_us[min(i + LEVEL_PACKETS, len(at_us)) - 1] - sent_us[i])
        burst = step > 0 and took < 0.8 * meant
        if abs(step) > JUMP_US and not burst and numbers[i] - numbers[i - 1] <= LEVEL_PACKETS:
            shift[i:] += step
            count += 1
    if count:
        times = "once" if count == 1 else f"{count} times"
        notes.append(f"Its timestamps jumped against its arrivals {times} (a call held, or a new source): taken out.")
    return np.asarray(sent_us + shift)


def spread(whole: Ints, numbers: Ints, sent_us: NDArray[np.float64], interval_us: float) -> NDArray[np.float64]:
    """Send times of all numbers: between two known ones evenly, before and after them by the interval.

    Where the sender fell silent, numbers go on by one while time does not stand still: that stays between two known.
    """
    times = np.interp(whole, numbers, sent_us)
    times = np.where(whole < numbers[0], sent_us[0] - (numbers[0] - whole) * interval_us, times)
    return np.asarray(np.where(whole > numbers[-1], sent_us[-1] + (whole - numbers[-1]) * interval_us, times))
