"""A watch hour by hour: the worst that a call would have had in each hour that was sampled."""

from __future__ import annotations

from collections.abc import Sequence

from tarnfell.core.days.rounds import Ints

HOUR_US = 3_600_000_000


def hours_of(
    sampled_us: Ints, spoiled: Sequence[tuple[int, int, float]], calm_mos: float, from_us: int
) -> list[tuple[int, float]]:
    """Beginnings of hours, on whole hours of Unix time, from that of ``from_us`` on, each with its MOS.

    ``sampled_us`` are beginnings of stretches with samples, none longer than an hour; ``spoiled`` are episodes: from,
    until and the MOS of a call in them. Zones that are half an hour off share an hour with their neighbours.
    """
    first = from_us // HOUR_US
    hours = {int(hour): calm_mos for hour in set((sampled_us // HOUR_US).tolist()) if hour >= first}
    for begun_us, ended_us, mos in spoiled:
        for hour in range(max(first, begun_us // HOUR_US), (ended_us - 1) // HOUR_US + 1):
            if hour in hours:
                hours[hour] = min(hours[hour], mos)
    return [(hour * HOUR_US, mos) for hour, mos in sorted(hours.items())]
