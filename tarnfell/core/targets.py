"""What a call must reach to be acceptable, and how much evidence proves a site: bounds, their sources, our presets."""

from __future__ import annotations

from dataclasses import dataclass

from tarnfell.core.stats import moments_to_show


@dataclass(frozen=True, kw_only=True)
class Targets:
    """Bounds on one direction of a call, the share of calls that must keep them, and the evidence asked for.

    A bound of None is not asked.
    """

    target_mos: float
    required_share_pct: float
    target_picture: float = 3.5
    """Picture score of a video stream, each direction."""
    max_delay_ms: float | None = None
    """Mouth to ear."""
    max_loss_pct: float | None = None
    """Lost on the network, before any buffer."""
    max_variation_ms: float | None = None
    """99th percentile of packet delay variation (RFC 5481)."""
    min_stretch_mos: float | None = None
    """MOS of the worst ten seconds of a call."""
    required_days: int
    required_busy_hours: int
    required_moments: int


@dataclass(frozen=True)
class Bound:
    """One line of the targets: what it means and where its values come from."""

    key: str
    title: str
    unit: str
    low: float
    high: float
    optional: bool
    meaning: str
    source: str


BOUNDS = (
    Bound(
        "target_mos", "Quality of a call", "MOS", 1.0, 4.5, False,
        "Each direction of a call must be at least this good, by the E-model.",
        "ITU-T G.109: R 80 (4.03) satisfies users, R 70 (3.60) leaves some dissatisfied, R 60 (3.10) many.",
    ),
    Bound(
        "required_share_pct", "Required share of acceptable calls", "%", 50.0, 99.9, False,
        "The site is ready only when this share is shown at 95 % confidence, not merely observed.",
        "Our own: at 97 % three calls in a hundred may be bad, at 99 % one.",
    ),
    Bound(
        "target_picture", "Picture score of video", "score", 1.0, 5.0, False,
        "Each direction of a video stream must be at least this good. Asked where the brief holds video.",
        "Our own: 3.5 is left with 4.7 % of frames missing here and there, or with 1.8 % of the time frozen.",
    ),
    Bound(
        "max_delay_ms", "Mouth-to-ear delay", "ms", 20.0, 1000.0, True,
        "Above it people begin to talk over one another. Buffer, packet interval and codec are counted in.",
        "ITU-T G.114 §4: below 150 ms most uses are not affected; up to 400 ms only where planned for.",
    ),
    Bound(
        "max_loss_pct", "Network loss", "%", 0.0, 20.0, True,
        "Lost packets are gaps to be concealed. What comes too late for the buffer is counted by the MOS.",
        "ITU-T Y.1541 table 1, classes 0 and 1: 0.1 %. By the E-model 1 % costs G.711 with concealment 0.1 MOS.",
    ),
    Bound(
        "max_variation_ms", "Packet delay variation (PDV)", "ms", 1.0, 500.0, True,
        "How far the slowest hundredth of packets trails the fastest one. More needs a deeper buffer.",
        "ITU-T Y.1541 table 1, classes 0 and 1: 50 ms (there the 99.9th percentile; we bound the 99th).",
    ),
    Bound(
        "min_stretch_mos", "Worst ten seconds of a call", "MOS", 1.0, 4.5, True,
        "A long call hides a dead minute in its average. Its worst ten seconds must be at least this good.",
        "ITU-T G.109: below R 60 (3.10) many users are dissatisfied, below R 50 (2.58) nearly all.",
    ),
    Bound(
        "required_days", "Days of evidence", "days", 1, 90, False,
        "Faults that come once a day need several days to be seen twice.",
        "Our own: seven days see each weekday once, which a baseline by hour of the week needs.",
    ),
    Bound(
        "required_busy_hours", "Business hours with calls", "hours", 1, 1000, False,
        "Hours of the site's own business in which a call was measured. An idle line proves nothing.",
        "Our own: 40 is a working week.",
    ),
    Bound(
        "required_moments", "Ten-minute moments with calls", "moments", 1, 100_000, False,
        "Calls within the same ten minutes meet the same network and count as one observation. "
        "Fewer cannot show the share, even without a bad call among them.",
        "Clopper–Pearson at 95 %: 122 moments without a bad call show 97 %, 368 show 99 %, 72 show 95 %.",
    ),
)  # fmt: skip


@dataclass(frozen=True)
class Preset:
    key: str
    title: str
    says: str
    targets: Targets


PRESETS = (
    Preset(
        "strict",
        "Strict",
        "For call centres and control rooms, where each bad call is a customer.",
        Targets(
            target_mos=4.2,
            required_share_pct=99.0,
            max_delay_ms=150.0,
            max_loss_pct=0.1,
            max_variation_ms=50.0,
            min_stretch_mos=3.6,
            required_days=14,
            required_busy_hours=80,
            required_moments=moments_to_show(99),
        ),
    ),
    Preset(
        "usual",
        "Usual",
        "For an office that lives on its phones.",
        Targets(
            target_mos=4.0,
            required_share_pct=97.0,
            max_delay_ms=200.0,
            max_loss_pct=1.0,
            max_variation_ms=60.0,
            min_stretch_mos=3.1,
            required_days=7,
            required_busy_hours=40,
            required_moments=moments_to_show(97),
        ),
    ),
    Preset(
        "tolerant",
        "Tolerant",
        "For places that call little, or over radio and satellite because nothing else is there.",
        Targets(
            target_mos=3.6,
            required_share_pct=95.0,
            max_delay_ms=400.0,
            max_loss_pct=3.0,
            max_variation_ms=None,
            min_stretch_mos=2.6,
            required_days=5,
            required_busy_hours=20,
            required_moments=moments_to_show(95),
        ),
    ),
)


def in_words(targets: Targets) -> str:
    """What makes a direction of a call acceptable, for a sentence."""
    asked = [f"{targets.target_mos:.1f} MOS or better"]
    if targets.max_delay_ms is not None:
        asked.append(f"at most {targets.max_delay_ms:g} ms mouth-to-ear")
    if targets.max_loss_pct is not None:
        asked.append(f"at most {targets.max_loss_pct:g} % lost")
    if targets.max_variation_ms is not None:
        asked.append(f"at most {targets.max_variation_ms:g} ms PDV")
    if targets.min_stretch_mos is not None:
        asked.append(f"no ten seconds below {targets.min_stretch_mos:.1f} MOS")
    return ", ".join(asked)


class TargetError(ValueError):
    """A bound that cannot be; the text says which and what can."""


def check_targets(targets: Targets) -> None:
    """Raises TargetError."""
    for bound in BOUNDS:
        value = getattr(targets, bound.key)
        if value is None:
            if not bound.optional:
                raise TargetError(f"{bound.title} must be given.")
        elif not bound.low <= value <= bound.high:
            raise TargetError(
                f"{bound.title}: {value:g} cannot be; choose {bound.low:g} to {bound.high:g} {bound.unit}."
            )


@dataclass(frozen=True)
class BoundsJudged:
    """How one direction of a call stands to the bounds asked."""

    missed: dict[str, float]
    """Keys of the bounds it does not keep, with the value found."""
    open: tuple[str, ...]
    """Keys of the bounds that cannot be told without its delay."""

    @property
    def acceptable(self) -> bool | None:
        """None where nothing is missed but something is open."""
        return False if self.missed else None if self.open else True


def judge_bounds(
    targets: Targets,
    *,
    mos: float | None,
    mouth_to_ear_ms: float | None,
    loss_pct: float | None,
    pdv_p99_ms: float | None,
    worst_stretch_mos: float | None,
) -> BoundsJudged:
    """A direction in which nothing arrived has no MOS and misses it with the scale's least.

    Without its delay (``mouth_to_ear_ms`` None) a MOS is what the call had at best: below the target it misses it, at
    or above it says nothing. The same holds for what could not be counted at both ends.
    """
    missed: dict[str, float] = {}
    unknown: list[str] = []
    if mos is None or mos < targets.target_mos:
        missed["target_mos"] = 1.0 if mos is None else mos
    elif mouth_to_ear_ms is None:
        unknown.append("target_mos")
    least = targets.min_stretch_mos
    if least is not None and mos is not None:
        if worst_stretch_mos is not None and worst_stretch_mos < least:
            missed["min_stretch_mos"] = worst_stretch_mos
        elif worst_stretch_mos is None or mouth_to_ear_ms is None:
            unknown.append("min_stretch_mos")
    for key, value in (
        ("max_delay_ms", mouth_to_ear_ms),
        ("max_loss_pct", loss_pct),
        ("max_variation_ms", pdv_p99_ms),
    ):
        bound = getattr(targets, key)
        if bound is None:
            continue
        if value is not None and value > bound:
            missed[key] = value
        elif value is None and mos is not None:
            unknown.append(key)
    return BoundsJudged(missed, tuple(unknown))
