"""Runs every benchmark and writes docs/performance.md."""

from __future__ import annotations

import platform
from datetime import UTC, datetime
from pathlib import Path

from benchmarks import analysis, fleet, live, pages, run_end, send_lateness

DOC = Path(__file__).parents[1] / "docs" / "performance.md"


def main() -> None:
    parts = [
        "# Performance",
        "",
        f"Made by `make bench` on {datetime.now(UTC):%d %B %Y}: {_machine()}. The machine is shared and noisy; compare "
        "within a table, not across runs.",
    ]
    for part in (send_lateness, analysis, pages, fleet, live, run_end):
        print(f"{part.__name__.rsplit('.', maxsplit=1)[-1]} …", flush=True)
        text = part.report()
        print(text, flush=True)
        parts += ["", text]
    DOC.write_text("\n".join(parts) + "\n", encoding="utf-8")


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
    main()
