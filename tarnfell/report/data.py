"""A report's figures for programs: what its JSON holds, described by ``SCHEMA``."""

from __future__ import annotations

from dataclasses import asdict, dataclass, fields
from importlib import resources

from tarnfell.core.days.depths import PathDepth
from tarnfell.core.daysheet import Day
from tarnfell.core.path import Leg
from tarnfell.core.verdict.causes import Cause
from tarnfell.core.verdict.coverage import CoveredHour
from tarnfell.core.verdict.decisions import Dismissed
from tarnfell.core.verdict.facts import Brief
from tarnfell.core.verdict.moments import Share
from tarnfell.core.verdict.readings import KeptBound
from tarnfell.core.verdict.score import Verdict, Word
from tarnfell.core.verdict.site import LeftOut
from tarnfell.report.build import Added, BriefChanged, Heard, Noted, Report, SiteFacts
from tarnfell.report.measured import Measured

SCHEMA = "report.schema.json"
"""JSON Schema of what is below, drawn from it by ``make api``; it lies beside this file."""


@dataclass(frozen=True)
class By:
    """In whose name it was made; empty where no brand is set."""

    name: str
    contact: str


@dataclass(frozen=True)
class Legs:
    """As calls alone know the path."""

    up: Leg
    down: Leg


@dataclass(frozen=True)
class ReportData:
    """A readiness report: the verdict, what it follows from, and what people wrote beside it."""

    number: str | None
    """None of a draft."""
    site: SiteFacts
    made_local: str
    """In site time."""
    mos_scale: str
    """By which every MOS is to be read."""
    made_with: str
    summary: tuple[str, ...]
    note: str
    """The consultant's own."""
    by: By
    noted: tuple[Noted, ...]
    brief: Brief
    """What the verdict is held against."""
    brief_changes: tuple[BriefChanged, ...]
    verdict: Verdict
    kept_bounds: tuple[KeptBound, ...]
    """How the bounds that the brief asks beside the MOS were kept."""
    video: Share
    """Video streams that were good both ways."""
    causes: tuple[Cause, ...]
    """In the order of the report."""
    dismissed: tuple[Dismissed, ...]
    added: tuple[Added, ...]
    """What the consultant knows and the evidence cannot."""
    heard: Heard | None
    left_out: tuple[LeftOut, ...]
    """Evidence that does not count, and why."""
    word_with_all: Word | None
    """The verdict had everything been counted, where it would be another."""
    legs: Legs | None
    """None where no call counts."""
    watched_legs: PathDepth | None
    """Leg by leg, from days of a watch."""
    days: tuple[Day, ...]
    """In ten-minute cells, the worst call of each."""
    hours_of_the_week: tuple[CoveredHour, ...]
    """Those in which calls were placed."""
    measured: Measured
    """What was measured beside the verdict."""


def report_data(report: Report) -> dict[str, object]:
    """ReportData as JSON has it."""
    e, heard = report.evaluation, report.recording
    data = ReportData(
        number=report.issue.number if report.issue else None,
        site=report.site,
        made_local=report.made_local,
        mos_scale=report.mos_scale,
        made_with=f"Tarnfell {report.version}",
        summary=report.summary,
        note=report.note,
        by=By(report.brand.name, report.brand.contact),
        noted=report.noted,
        brief=e.brief,
        brief_changes=report.changes,
        verdict=e.verdict,
        kept_bounds=e.kept,
        video=e.video,
        causes=tuple(e.causes),
        dismissed=report.dismissed,
        added=report.added,
        heard=Heard(*(getattr(heard, one.name) for one in fields(Heard))) if heard else None,
        left_out=e.left_out,
        word_with_all=e.word_with_all,
        legs=Legs(*e.legs) if e.legs else None,
        watched_legs=report.path,
        days=tuple(e.sheet),
        hours_of_the_week=tuple(e.coverage),
        measured=report.measured,
    )
    return asdict(data)


def schema() -> bytes:
    """JSON Schema 2020-12 of ``report_data``."""
    return resources.files(__package__).joinpath(SCHEMA).read_bytes()
