"""Runs every benchmark, or those named, and writes docs/performance.md: ``python -m benchmarks live``."""

from __future__ import annotations

import platform
import re
import sys
from datetime import UTC, datetime
from pathlib import Path

from benchmarks import (
    analysis,
    browser,
    causes,
    closeups,
    coverage,
    days,
    fleet,
    hostile,
    live,
    pages,
    past,
    run_end,
    send_lateness,
    watchers,
    watches,
    what_if,
    zooming,
)  # fmt: skip

DOC = Path(__file__).parents[1] / "docs" / "performance.md"
PARTS = {
    part.__name__.rsplit(".", maxsplit=1)[-1]: part
    for part in (
        send_lateness,
        analysis,
        pages,
        closeups,
        past,
        fleet,
        watchers,
        live,
        run_end,
        hostile,
        coverage,
        causes,
        days,
        watches,
        what_if,
        zooming,
        browser,
    )
}


def main(names: list[str]) -> None:
    unknown = set(names) - set(PARTS)
    if unknown:
        raise SystemExit(f"There is no benchmark {', '.join(sorted(unknown))}; there are {', '.join(PARTS)}.")
    kept = _sections()
    for name in names or PARTS:
        print(f"{name} …", flush=True)
        text = PARTS[name].report()
        print(text, flush=True)
        title, _, body = text.partition("\n")
        kept[title] = f"\n{body.strip()}\n\nMeasured on {datetime.now(UTC):%d %B %Y}: {_machine()}.\n"
    head = (
        "# Performance\n\nMade by `make bench`. The machine is shared and noisy, and loses its processor for tens of "
        "milliseconds at times: compare within a table, not across them.\n"
    )
    DOC.write_text(head + "".join(f"\n{title}\n{body}" for title, body in kept.items()), encoding="utf-8")


def _sections() -> dict[str, str]:
    """What the document says so far, by heading."""
    text = DOC.read_text(encoding="utf-8") if DOC.exists() else ""
    parts = re.split(r"^(## .*)$", text, flags=re.M)[1:]
    return {title: f"\n{body.strip()}\n" for title, body in zip(parts[::2], parts[1::2], strict=True)}


def _machine() -> str:
    model = "unknown processor"
    try:
        lines = Path("/proc/cpuinfo").read_text().splitlines()
        model = next(line.split(":", 1)[1].strip() for line in lines if line.startswith("model name"))
        cores = sum(line.startswith("processor") for line in lines)
    except (OSError, StopIteration):
        return f"{platform.machine()}, Python {platform.python_version()}"
    return f"{cores} cores, {model}, Linux {platform.release().split('-')[0]}, Python {platform.python_version()}"


if __name__ == "__main__":
    main(sys.argv[1:])
