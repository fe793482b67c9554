"""The pages around a report that is read by a link."""

from __future__ import annotations

from functools import cache
from importlib import resources

from jinja2 import Template
from markupsafe import Markup

from tarnfell.report.brand import NO_BRAND, Brand
from tarnfell.report.render import environment, style


def shared_page(site: str, number: str, standing: str, path: str, has_pdf: bool, brand: Brand) -> str:
    """``standing`` is what there is to say of it; empty where it stands."""
    return _drawn(
        "shown", f"{site} · {number}", brand, site=site, number=number, standing=standing, path=path, has_pdf=has_pdf
    )


def ask_page(problem: str, brand: Brand) -> str:
    return _drawn("ask", "A shared report", brand, problem=problem)


def gone_page() -> str:
    """In nobody's name: who has a link that opens nothing is told nothing by it."""
    return _drawn("gone", "A shared report", NO_BRAND)


def _drawn(kind: str, title: str, brand: Brand, **values: object) -> str:
    return _template().render(kind=kind, title=title, brand=brand, style=Markup(style()), **values)


@cache
def _template() -> Template:
    text = resources.files(__package__).joinpath("shared.html").read_text(encoding="utf-8")
    return environment().from_string(text)
