"""A report as HTML for the screen and, from the same page, PDF on A4."""

from __future__ import annotations

import base64
import re
from functools import cache
from importlib import resources

from jinja2 import Environment, StrictUndefined
from markupsafe import Markup

from tarnfell.core import picture
from tarnfell.core.targets import in_words
from tarnfell.report.brand import brand_style, byline, letterhead
from tarnfell.report.build import Report
from tarnfell.report.figures import RAMP, coverage_svg, day_sheet_svg, legs_svg, path_svg, verdict_mark_svg
from tarnfell.report.locales import localized_page
from tarnfell.report.tables import capacity_table, measured_tables, runs_table


def render_html(report: Report) -> str:
    """The whole page, self-contained."""
    e, site = report.evaluation, report.site
    page: str = _template().render(
        r=report,
        e=e,
        site=site,
        v=e.verdict,
        brief=e.brief,
        acceptable=in_words(e.brief),
        picture=picture,
        faults=e.faults,
        others=[c for c in e.causes if not c.network],
        left_out=e.left_out,
        score=str(e.verdict.low) if e.verdict.low == e.verdict.high else f"{e.verdict.low} to {e.verdict.high}",
        mark=Markup(verdict_mark_svg(e.verdict.word, e.verdict.provisional)),
        sheet=Markup(day_sheet_svg(e.sheet, site.open_minute, site.close_minute, site.open_days)) if e.sheet else None,
        capacity=capacity_table(e),
        tables=measured_tables(report.measured, e.brief.target_picture),
        runs=runs_table(report.measured.runs),
        coverage=_coverage(report),
        path=_path(report),
        ramp=["#" + "".join(f"{c:02x}" for c in stop) for stop in RAMP],
        style=Markup(style()),
    )
    return unbroken(localized_page(page, report.brand.locale, report.typed))


def _coverage(report: Report) -> tuple[Markup, int, int] | None:
    """The picture, with how many hours of business were seen, and of how many."""
    hours, business = report.evaluation.coverage, report.site.business.hours()
    seen = {(one.weekday, one.hour) for one in hours} & business
    return (Markup(coverage_svg(hours, business)), len(seen), len(business)) if hours else None


def _path(report: Report) -> Markup | None:
    """In its real legs where a watch tells them apart; else as calls alone know it."""
    site, legs = report.site, report.evaluation.legs
    ends = site.test_point or "probe", site.far_end or "far end"
    if report.path:
        return Markup(legs_svg(*ends, report.path))
    return Markup(path_svg(*ends, *legs)) if legs else None


def render_pdf(report: Report) -> bytes:
    """The page on A4."""
    return pdf_of(render_html(report))


def pdf_of(page: str) -> bytes:
    # WeasyPrint takes a second to import; nothing else should wait for it.
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    # The page holds all that it needs: what people typed into it must not make this machine fetch anything.
    own = URLFetcher(allowed_protocols=["data"])
    # Tagged, so that it can be read aloud.
    return bytes(HTML(string=page, url_fetcher=own).write_pdf(pdf_tags=True))


def unbroken(page: str) -> str:
    """No line of the page ends between a figure and its unit."""
    return _FIGURE.sub("\N{NO-BREAK SPACE}", page)


_FIGURE = re.compile(r"(?<=\d) (?=(?:%|ms|s|min|h|kbit/s|Mbit/s|MOS|dB|MB|GB)(?![\w/]))")


@cache
def style() -> str:
    """The style sheet with its typeface inside, so that the page looks the same wherever it is opened."""
    folder = resources.files(__package__)
    faces = []
    for weight in (400, 600):
        font = folder.joinpath("fonts", f"source-sans-3-latin-{weight}-normal.woff2").read_bytes()
        data = base64.b64encode(font).decode()
        faces.append(
            f'@font-face{{font-family:"Source Sans 3";font-weight:{weight};'
            f'src:url("data:font/woff2;base64,{data}") format("woff2")}}'
        )
    return "\n".join(faces) + "\n" + folder.joinpath("report.css").read_text(encoding="utf-8")


@cache
def environment() -> Environment:
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters["cssquoted"] = lambda text: Markup(re.sub(r"[^\w ,.()/–’-]", " ", str(text)))
    environment.filters |= {"letterhead": letterhead, "brandstyle": brand_style, "byline": byline}
    environment.filters["wav_url"] = lambda wav: "data:audio/wav;base64," + base64.b64encode(wav).decode()
    environment.filters["kbps"] = lambda value: "–" if value is None else f"{value / 1000:g} Mbit/s"
    return environment


@cache
def _template():  # type: ignore[no-untyped-def]
    text = resources.files(__package__).joinpath("report.html").read_text(encoding="utf-8")
    return environment().from_string(text)
