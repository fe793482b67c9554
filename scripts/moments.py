"""The demo's tests with weeks that end at other moments than now: a demo is made at any hour of any day.

Half of the moments are chance; the other half lie within what the scenario places by the clock, where a week's first
and last day both have a part of it.
"""

from __future__ import annotations

import argparse
import os
import random
import subprocess
import sys
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

MONDAY = datetime(2026, 11, 23, tzinfo=ZoneInfo("Europe/London"))
BY_THE_CLOCK = (
    (60, 85),
    (6 * 60, 6 * 60 + 30),
    (9 * 60, 9 * 60 + 30),
    (11 * 60 + 40, 12 * 60 + 30),
    (23 * 60, 24 * 60),
)
"""Minutes of the day: the call centre's nights, the beginnings of business, the booking hall's lunch, and midnight."""


def main() -> None:
    """Print each moment and what failed there; leave with 1 where anything did."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=24)
    parser.add_argument("--seed", type=int, default=1)
    told = parser.parse_args()
    chance = random.Random(told.seed)
    failed = 0
    for number in range(told.count):
        if number % 2:
            first, last = BY_THE_CLOCK[number // 2 % len(BY_THE_CLOCK)]
            minute = chance.randrange(first, last)
        else:
            minute = chance.randrange(24 * 60)
        end = MONDAY + timedelta(days=chance.randrange(7), minutes=minute)
        words = _failures(end)
        failed += bool(words)
        print(f"{end:%a %H:%M}  {words or 'passed'}", flush=True)
    sys.exit(failed > 0)


def _failures(end: datetime) -> str:
    ran = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "--no-header", "--tb=line", "tests/demo"],
        env={**os.environ, "DEMO_END": end.isoformat()},
        capture_output=True,
        text=True,
    )
    return "" if ran.returncode == 0 else ran.stdout[-3000:]


if __name__ == "__main__":
    main()
