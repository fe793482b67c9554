"""Every golden value of the reference: E-model, traces, wire rates, Erlang B."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pytest

from tarnfell.core import emodel
from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import Criterion, judge
from tarnfell.core.rates import call_rate
from tarnfell.core.stats import concurrent_calls, erlang_b
from tarnfell.core.tracefile import parse_csv

REFERENCE = Path(__file__).parents[1] / "reference"


def rows(name: str) -> list[dict[str, str]]:
    with open(REFERENCE / name, newline="") as text:
        return list(csv.DictReader(text))


def near(value: float, tolerance: float = 1e-3) -> object:
    return pytest.approx(value, rel=tolerance, abs=1e-9)


@pytest.mark.parametrize("row", rows("emodel-narrowband.csv"), ids=lambda r: f"{r['one_way_ms']}ms-{r['loss_pct']}%")
def test_emodel(row: dict[str, str]) -> None:
    v = {name: float(value) for name, value in row.items()}
    R = emodel.rate(v["one_way_ms"], v["loss_pct"], v["burst_ratio"], v["ie"], v["bpl"]).R
    assert float(emodel.clamp_r(R)) == near(v["r_factor"], 1e-5)
    assert float(emodel.mos_from_r(R)) == near(v["mos"], 1e-4)


def test_emodel_defaults_as_published() -> None:
    """G.107: R = 93.2 and MOS 4.41 with all parameters at their defaults."""
    R = emodel.rate(0, 0, 1, 0, 4.3).R
    assert round(float(R), 1) == 93.2
    assert round(float(emodel.mos_from_r(R)), 2) == 4.41


@pytest.mark.parametrize("file", sorted((REFERENCE / "traces").glob("*.csv")), ids=lambda f: f.stem)
def test_trace(file: Path) -> None:
    found = judge(parse_csv(file.read_text()), Criterion(ie=0, bpl=25.1, ptime_ms=20)).fields()
    expected = json.loads(file.with_suffix(".json").read_text())
    for name, value in expected.items():
        assert found[name] == (value if isinstance(value, int) else near(value)), name


def test_trace_of_which_nothing_arrived_has_no_quality() -> None:
    trace = parse_csv((REFERENCE / "traces" / "nothing-arrived.csv").read_text())
    found = judge(trace, Criterion(0, 25.1, 20)).fields()
    for name in ("delay_min_ms", "pdv_p95_ms", "mouth_to_ear_ms", "r_factor", "mos"):
        assert found[name] is None


@pytest.mark.parametrize("row", rows("wire-rates.csv"), ids=lambda r: f"{r['codec']}-{r['ptime_ms']}")
def test_wire_rates(row: dict[str, str]) -> None:
    rate = call_rate(find_codec(row["codec"]), int(row["ptime_ms"]))
    assert rate.payload_bytes == int(row["payload_bytes"])
    for name in ("packets_per_s", "ipv4_kbps", "ipv6_kbps", "ethernet_ipv4_kbps", "wire_ipv4_kbps"):
        assert getattr(rate, name) == near(float(row[name])), name


@pytest.mark.parametrize("row", rows("erlang-b.csv"), ids=lambda r: f"{r['erlangs']}E-{r['blocking_accepted']}")
def test_erlang_b(row: dict[str, str]) -> None:
    traffic = int(row["people"]) * int(row["busy_hour_calls_each"]) * float(row["minutes_a_call"]) / 60
    assert traffic == near(float(row["erlangs"]))
    needed = concurrent_calls(traffic, float(row["blocking_accepted"]))
    assert needed == int(row["concurrent_calls"])
    assert erlang_b(traffic, needed) == pytest.approx(float(row["blocking_reached"]), abs=1e-6)
