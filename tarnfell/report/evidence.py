"""The evidence sheet: one fault on one page, for whoever has to mend it and says that all is well."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib import resources

from markupsafe import Markup

from tarnfell.report.brand import NO_BRAND, Brand
from tarnfell.report.locales import localized_page
from tarnfell.report.render import environment, pdf_of, style, unbroken


@dataclass(frozen=True)
class Time:
    """One episode, in the words of the table."""

    begin: str
    end: str
    lasted: str
    lost: str
    added: str
    added_p95: str


@dataclass(frozen=True)
class AtPlace:
    name: str
    lost: str
    added: str
    lost_over_all: str
    usual: str


@dataclass(frozen=True)
class EvidenceSheet:
    """All of it as text; times are in ``zone``."""

    paper: str
    title: str
    says: str
    addressee: str
    site: str
    place: str
    line: str
    measured: str
    measured_from: str
    measured_to: str
    zone: str
    made: str
    times: tuple[Time, ...]
    more: int
    """Episodes that are not in the table."""
    places: tuple[AtPlace, ...]
    """From the site outwards."""
    ruled_out: tuple[str, ...]
    moment: str
    rounds: tuple[tuple[str, ...], ...]
    """A time, and what each place answered then."""
    brand: Brand = NO_BRAND


def evidence_html(sheet: EvidenceSheet) -> str:
    page: str = _template().render(s=sheet, style=Markup(style()))
    typed = [sheet.site, sheet.place, sheet.line, sheet.addressee, sheet.measured_from, sheet.measured_to]
    typed += [sheet.brand.name, sheet.brand.contact, *(one.name for one in sheet.places)]
    return unbroken(localized_page(page, sheet.brand.locale, typed))


def evidence_pdf(sheet: EvidenceSheet) -> bytes:
    return pdf_of(evidence_html(sheet))


@cache
def _template():  # type: ignore[no-untyped-def]
    text = resources.files(__package__).joinpath("evidence.html").read_text(encoding="utf-8")
    return environment().from_string(text)
