"""The pages around a report that is read by a link."""

from __future__ import annotations

from functools import cache
from importlib import resources

from jinja2 import Template
from markupsafe import Markup

from tarnfell.report.render import environment, style


def shared_page(site: str, number: str, standing: str, path: str, has_pdf: bool) -> str:
    """``standing`` is what there is to say of it; empty where it stands."""
    return _drawn(
        "shown", f"{site} · {number}", site=site, number=number, standing=standing, path=path, has_pdf=has_pdf
    )


def ask_page(problem: str) -> str:
    return _drawn("ask", "A shared report", problem=problem)


def gone_page() -> str:
    return _drawn("gone", "A shared report")


def _drawn(kind: str, title: str, **values: object) -> str:
    return _template().render(kind=kind, title=title, style=Markup(style()), **values)


@cache
def _template() -> Template:
    text = resources.files(__package__).joinpath("shared.html").read_text(encoding="utf-8")
    return environment().from_string(text)
