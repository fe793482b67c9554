"""Reports from the command line: drawn as they are now, issued, shown, and files held against what was issued."""

from __future__ import annotations

import argparse
import hashlib
import json
import sqlite3
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from tarnfell.cli.common import DONE, FAILED, print_report
from tarnfell.report.data import report_data, schema
from tarnfell.report.render import render_html, render_pdf
from tarnfell.store import issued as issued_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import open_database
from tarnfell.store.issued import Issued
from tarnfell.store.sites import Site
from tarnfell.work.issuing.dataset import data_set
from tarnfell.work.issuing.issue import issue, make_issued_pdf
from tarnfell.work.issuing.report import report_to_date


def report_make(options: argparse.Namespace) -> int:
    """A draft."""
    with _data(options) as db:
        site = _site(db, options.site)
        report = report_to_date(db, site)
        calls = data_set(db, site) if options.format == "csv" else b""
    if options.format == "csv":
        body = calls
    elif options.format == "pdf":
        body = render_pdf(report)
    elif options.format == "html":
        body = render_html(report).encode()
    else:
        body = json.dumps(report_data(report), indent=1, ensure_ascii=False).encode()
    if options.out == "-":
        sys.stdout.buffer.write(body)
    else:
        Path(options.out).write_bytes(body)
    return DONE


def report_issue(options: argparse.Namespace) -> int:
    with _data(options) as db:
        site = _site(db, options.site)
        one = issue(db, Path(options.data), site, None)
        given_up: set[int] = set()
        while make_issued_pdf(db, Path(options.data), given_up):
            pass
        _tell(options, db, issued_store.by_id(db, one.id) or one)
    return DONE


def report_show(options: argparse.Namespace) -> int:
    with _data(options) as db:
        one = issued_store.by_number(db, options.number)
        if one is None:
            raise ValueError(f"No report {options.number} was issued here.")
        _tell(options, db, one)
    return DONE


def report_schema(_options: argparse.Namespace) -> int:
    sys.stdout.buffer.write(schema())
    return DONE


def report_verify(options: argparse.Namespace) -> int:
    """Exit status 1 for a file that is none of them."""
    sha256 = hashlib.sha256(Path(options.file).read_bytes()).hexdigest()
    with _data(options) as db:
        one = issued_store.by_file(db, sha256)
        if one is None:
            told = {"sha256": sha256, "number": None}
            print_report(options, told, lambda _: "No report that was issued here has this file, unchanged.")
            return FAILED
        _tell(options, db, one)
    return DONE


@contextmanager
def _data(options: argparse.Namespace) -> Iterator[sqlite3.Connection]:
    db = open_database(Path(options.data))
    try:
        yield db
    finally:
        db.close()


def _site(db: sqlite3.Connection, slug: str) -> Site:
    site = site_store.site_by_slug(db, slug)
    if site is None:
        raise ValueError(f"There is no site “{slug}”.")
    return site


def _tell(options: argparse.Namespace, db: sqlite3.Connection, one: Issued) -> None:
    newer = issued_store.by_id(db, one.replaced_by) if one.replaced_by else None
    told = {
        "number": one.number,
        "site": site_store.site_by_id(db, one.site_id).name,
        "issued": datetime.fromtimestamp(one.issued_us / 1e6, UTC).isoformat(timespec="seconds"),
        "state": one.state,
        "withdrawn": one.withdrawn or None,
        "replaced_by": newer.number if newer else None,
        "word": one.word,
        "low": one.low,
        "high": one.high,
        "page_sha256": one.page_sha256,
        "data_sha256": one.data_sha256,
        "pdf_sha256": one.pdf_sha256,
    }
    lines = [f"{name:<12} {value}" for name, value in told.items() if value is not None]
    print_report(options, told, lambda _: "\n".join(lines))
