"""What a report says, before it is drawn: plain values from an evaluation."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tarnfell import __version__
from tarnfell.core.business import BusinessHours
from tarnfell.core.codecs import Codec
from tarnfell.core.days.depths import PathDepth
from tarnfell.core.quality import MOS_SCALE
from tarnfell.core.rates import CallRate
from tarnfell.core.verdict.capacity import concurrent_words
from tarnfell.core.verdict.decisions import Dismissed
from tarnfell.core.verdict.requirements import share_words
from tarnfell.core.verdict.site import Evaluation
from tarnfell.report.brand import NO_BRAND, Brand
from tarnfell.report.measured import NOT_MEASURED, Measured

SOUND_AWAITED = "The call that can be heard in it is still being judged and is not in this report yet."
BEHIND = "Evidence has come in, or the brief was changed, that is still being judged and is not in this report yet."


@dataclass(frozen=True)
class SiteFacts:
    """What the report says of the site itself."""

    engagement: str
    name: str
    place: str
    time_zone: str
    business_hours: str
    open_minute: int
    close_minute: int
    open_days: str
    medium: str
    down_kbps: int | None
    up_kbps: int | None
    provider: str
    test_point: str
    far_end: str
    codec: Codec
    ptime_ms: int
    rate: CallRate

    @property
    def business(self) -> BusinessHours:
        return BusinessHours(self.open_days, self.open_minute, self.close_minute)


@dataclass(frozen=True)
class BriefChanged:
    """What the brief said before, so that nobody wonders why an earlier report says something else."""

    at_local: str
    by: str
    says: str


@dataclass(frozen=True)
class Noted:
    """What the consultant noted of a stretch of time, a leg or a call."""

    at_local: str
    of: str
    """The leg or the call; empty where it is of none in particular."""
    words: str
    by: str


@dataclass(frozen=True)
class Added:
    """A cause that the consultant knows of and the evidence cannot; what is not known is empty."""

    title: str
    says: str
    remedy: str
    who: str
    by: str


@dataclass(frozen=True)
class Sound:
    """A made-up sentence as one direction of a call would have brought it."""

    title: str
    says: str
    wav: bytes


@dataclass(frozen=True)
class Heard:
    """A call that the reader can hear, where its listener missed most; without its sound."""

    call: str
    """Which, and when, in site time."""
    way: str
    from_s: float
    seconds: float
    packets: int
    missed: int
    missed_with_media_first: int | None
    """None where no queue stands."""
    exact: bool
    """What was missed is filled in as this codec's own standard says; else it is an impression."""


@dataclass(frozen=True)
class Recording(Heard):
    """With its sound."""

    sounds: tuple[Sound, ...]


@dataclass(frozen=True)
class Issue:
    """What makes a report one that was issued."""

    number: str
    digest: str
    """SHA-256 of its figures."""
    by: str


@dataclass(frozen=True)
class Report:
    """One report at one moment."""

    site: SiteFacts
    evaluation: Evaluation
    made_local: str
    mos_scale: str
    version: str
    summary: tuple[str, ...]
    changes: tuple[BriefChanged, ...]
    note: str = ""
    """What the consultant adds."""
    issue: Issue | None = None
    """None of a draft."""
    path: PathDepth | None = None
    """Leg by leg, from days of a watch."""
    dismissed: tuple[Dismissed, ...] = ()
    noted: tuple[Noted, ...] = ()
    added: tuple[Added, ...] = ()
    paper: str = "A4"
    brand: Brand = NO_BRAND
    recording: Recording | None = None
    measured: Measured = NOT_MEASURED
    typed: tuple[str, ...] = ()
    """What people typed in and is shown: left as they wrote it, dates and numbers too."""

    def issued(self, issue: Issue) -> Report:
        return replace(self, issue=issue)


def build_report(
    site: SiteFacts,
    evaluation: Evaluation,
    at_us: int,
    changes: Sequence[BriefChanged] = (),
    *,
    behind: Sequence[str] = (),
    written: Sequence[str] = (),
    note: str = "",
    path: PathDepth | None = None,
    dismissed: Sequence[Dismissed] = (),
    noted: Sequence[Noted] = (),
    added: Sequence[Added] = (),
    paper: str = "A4",
    brand: Brand = NO_BRAND,
    recording: Recording | None = None,
    measured: Measured = NOT_MEASURED,
) -> Report:
    """``behind`` says what has changed or was chosen and is not in it yet. ``written`` stands in the place of the
    summary that the report would give by itself."""
    local = datetime.fromtimestamp(at_us / 1e6, UTC).astimezone(ZoneInfo(site.time_zone))
    return Report(
        site=site,
        evaluation=evaluation,
        made_local=local.strftime("%d %B %Y, %H:%M %Z"),
        mos_scale=MOS_SCALE,
        version=__version__,
        summary=(*(written or summary_of(evaluation)), *behind),
        changes=tuple(changes),
        note=note,
        path=path,
        dismissed=tuple(dismissed),
        noted=tuple(noted),
        added=tuple(added),
        paper=paper,
        brand=brand,
        recording=recording,
        measured=measured,
        typed=(
            *(site.engagement, site.name, site.place, site.provider, site.test_point, site.far_end, site.codec.source),
            *(brand.name, brand.contact, *written, note),
            *decided_words(evaluation),
            *(name for one in measured.runs for name in (one.probe, one.far_end)),
            *(one.name for one in (measured.check.services if measured.check else ())),
            *(words for one in dismissed for words in (one.words, one.by)),
            *(words for one in noted for words in (one.words, one.by)),
            *(words for one in added for words in (one.title, one.says, one.remedy, one.who, one.by)),
        ),
    )


def decided_words(evaluation: Evaluation) -> list[str]:
    """What the consultant wrote of the causes."""
    decided = [one for one in evaluation.causes if one.decided]
    return [words for one in decided for words in (one.title, one.remedy, one.who, one.note)]


def summary_of(evaluation: Evaluation) -> tuple[str, ...]:
    """The answer in a few sentences, the verdict first; each sentence only where its figures are there."""
    v, brief = evaluation.verdict, evaluation.brief
    need = concurrent_words(brief.needed_calls)
    said = [
        {
            "ready": f"Everything the brief requires was shown: this site can carry its {need}.",
            "ready with conditions": f"This site can carry its {need}, on the conditions named below.",
            "not ready": f"This site is not ready for its {need}: at least one requirement was shown not to be met.",
            "not shown yet": f"Whether this site can carry its {need} has not been shown yet."
            if v.calls
            else f"No call counts at this site yet; whether it can carry its {need} is open.",
        }[v.word]
    ]
    if v.share.pct is not None:
        said.append(
            f"In business hours {share_words(v.share, brief.required_share_pct)}; {brief.required_share_pct:g} % is "
            "required."
        )
    if evaluation.faults:
        top, weighed = evaluation.faults[0], any(one.weight for one in evaluation.faults)
        named = "First, as the consultant weighs it" if weighed else "Costliest cause"
        said.append(f"{named}: {top.headline[0].lower()}{top.headline[1:]}.")
    if v.word == "not shown yet" and v.calls:
        first = next(r for r in v.requirements if r.stops and r.state == "open")
        said.append(f"Open first: {first.title}. {first.closes}")
    if v.provisional:
        said.append(f"The verdict is provisional: {', '.join(v.missing)}.")
    if evaluation.word_with_all:
        left_out = "; ".join(f"{one.calls} {one.what}" for one in evaluation.left_out)
        said.append(
            f"Had the calls left out been counted ({left_out}), the verdict would be “{evaluation.word_with_all}”."
        )
    return tuple(said)
