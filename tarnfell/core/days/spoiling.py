"""When samples say that a call would have been spoiled: by what its listener would have missed."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.core.quality import Criterion, mouth_to_ear_ms

MARGIN_MOS = 0.1
"""Where the delay alone takes a call to its target, missing packets must cost it so much before they count."""
_HALVINGS = 30


@dataclass(frozen=True)
class Spoiling:
    """The site's codec, buffer and target, over a way whose round trip is ``calm_ms`` while nothing is in the way.

    Round trips do not tell how long each direction takes; half is taken for one way, and all of an excess for one
    direction, which is the worse case for a call.
    """

    criterion: Criterion
    target_mos: float
    calm_ms: float

    @property
    def buffer_ms(self) -> float:
        """An excess beyond it comes too late to be played."""
        return self.criterion.buffer_ms

    def mos(self, missed: float) -> float:
        """Of a call whose listener misses this share of packets, 0…1, one here and one there (G.107).

        Samples a second apart do not tell how long losses last within it; long ones would cost more.
        """
        if missed >= 1:
            return 1.0  # nothing is heard; the formula was not fitted to that
        ear_ms = mouth_to_ear_ms(self.calm_ms / 2, self.buffer_ms, self.criterion)
        return float(self.criterion.mos(self.criterion.rating(ear_ms or 0.0, 100 * missed, 1.0)))

    @property
    def least_mos(self) -> float:
        return min(self.target_mos, self.mos(0.0) - MARGIN_MOS)

    def spoils(self, missed: float) -> bool:
        return self.mos(missed) < self.least_mos

    def share(self) -> float:
        """The missed share, 0…1, that takes a call to the least MOS."""
        low, high = 0.0, 1.0
        for _ in range(_HALVINGS):
            middle = (low + high) / 2
            if self.spoils(middle):
                high = middle
            else:
                low = middle
        return high
