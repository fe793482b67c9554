"""All sites of an engagement on one page: where each stands, what they have in common, what to do first and by whom."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from importlib import resources

from jinja2 import Template
from markupsafe import Markup

from tarnfell import __version__
from tarnfell.core.causes import CauseKey
from tarnfell.core.verdict.causes import Cause, CauseName
from tarnfell.core.verdict.site import Evaluation
from tarnfell.report.brand import NO_BRAND, Brand
from tarnfell.report.build import decided_words
from tarnfell.report.figures import verdict_mark_svg
from tarnfell.report.locales import localized_page
from tarnfell.report.render import environment, style, unbroken

ROLLOUT = ("ready", "ready with conditions", "not shown yet", "not ready")
"""Who can move over first."""


@dataclass(frozen=True)
class SiteOnPage:
    name: str
    evaluation: Evaluation
    needed_calls: int
    behind: bool = False
    """Evidence or brief have changed since the evaluation."""

    @property
    def score(self) -> str:
        verdict = self.evaluation.verdict
        return str(verdict.low) if verdict.low == verdict.high else f"{verdict.low} to {verdict.high}"

    @property
    def costliest(self) -> Cause | None:
        return self.evaluation.faults[0] if self.evaluation.faults else None


@dataclass(frozen=True)
class Task:
    """One remedy that somebody has to carry out, at all sites that need it."""

    who: str
    remedy: str
    title: str
    sites: tuple[str, ...]
    points: float
    """That it took of the scores of these sites, together."""


@dataclass(frozen=True)
class SharedCause:
    title: str
    sites: tuple[str, ...]


@dataclass(frozen=True)
class EngagementReport:
    name: str
    summary: str
    made: str
    sites: tuple[SiteOnPage, ...]
    """In the order of the rollout: the readier ones first."""
    tasks: tuple[Task, ...]
    """What takes most points first."""
    shared: tuple[SharedCause, ...]
    """Causes of two sites or more."""
    paper: str = "A4"
    brand: Brand = NO_BRAND


def engagement_report(
    name: str, summary: str, made: str, sites: Sequence[SiteOnPage], paper: str = "A4", brand: Brand = NO_BRAND
) -> EngagementReport:
    tasks: dict[tuple[str, CauseKey, str], Task] = {}
    titles: dict[CauseKey, str] = {}
    with_key: dict[CauseKey, list[str]] = {}
    for site in sites:
        told: set[CauseName] = set()
        for cause in site.evaluation.faults:
            key = (cause.who, cause.key, cause.remedy)
            before = tasks.get(key, Task(cause.who, cause.remedy, cause.title, (), 0.0))
            where = before.sites if site.name in before.sites else (*before.sites, site.name)
            # Two faults of one name, which nothing has joined, share what that name took.
            took = 0.0 if cause.named in told else site.evaluation.verdict.taken_by(cause)
            told.add(cause.named)
            tasks[key] = Task(before.who, before.remedy, before.title, where, before.points + took)
            titles.setdefault(cause.key, cause.title)
            if site.name not in with_key.setdefault(cause.key, []):
                with_key[cause.key].append(site.name)
    ordered = sorted(
        sites, key=lambda one: (ROLLOUT.index(one.evaluation.verdict.word), -one.evaluation.verdict.low, one.name)
    )
    return EngagementReport(
        name,
        summary,
        made,
        tuple(ordered),
        tuple(sorted(tasks.values(), key=lambda one: (-one.points, -len(one.sites), one.who))),
        tuple(
            SharedCause(titles[key], tuple(names))
            for key, names in sorted(with_key.items(), key=lambda one: -len(one[1]))
            if len(names) > 1
        ),
        paper,
        brand,
    )


def engagement_html(report: EngagementReport) -> str:
    """The whole page, self-contained."""
    counts = {word: sum(one.evaluation.verdict.word == word for one in report.sites) for word in ROLLOUT}
    page: str = _template().render(
        r=report,
        counts={word: count for word, count in counts.items() if count},
        mark=lambda verdict: Markup(verdict_mark_svg(verdict.word, verdict.provisional)),
        version=__version__,
        style=Markup(style()),
    )
    typed = [report.name, report.summary, report.brand.name, report.brand.contact]
    for site in report.sites:
        typed += [site.name, *decided_words(site.evaluation)]
    return unbroken(localized_page(page, report.brand.locale, typed))


@cache
def _template() -> Template:
    text = resources.files(__package__).joinpath("engagement.html").read_text(encoding="utf-8")
    return environment().from_string(text)
