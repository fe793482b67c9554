"""From values to places on the screen: the front end's geometry, called through node as its drawings call it."""

from __future__ import annotations

import atexit
import json
import re
import subprocess
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

import pytest

from tarnfell.report import figures

WEB = Path(__file__).parents[2] / "web"
SERVE = """
const fs = require("node:fs");
const ts = require("typescript");
const options = { module: ts.ModuleKind.ESNext, target: ts.ScriptTarget.ES2022 };
const loaded = new Map();
function load(file) {
  if (!loaded.has(file)) {
    const source = fs.readFileSync(`src/charts/${file}.ts`, "utf8");
    const { outputText } = ts.transpileModule(source, { compilerOptions: options });
    loaded.set(file, import(`data:text/javascript,${encodeURIComponent(outputText)}`));
  }
  return loaded.get(file);
}
require("node:readline").createInterface({ input: process.stdin }).on("line", async (line) => {
  const [file, name, given] = JSON.parse(line);
  try {
    const value = (await load(file))[name];
    const told = typeof value === "function" ? value(...given) : value;
    console.log(JSON.stringify({ told: told === undefined ? null : told }));
  } catch (error) {
    console.log(JSON.stringify({ fault: String(error) }));
  }
});
"""


@cache
def _node() -> subprocess.Popen[str]:
    """One for all calls: to load the compiler takes longer than all of them."""
    node = subprocess.Popen(["node", "-e", SERVE], cwd=WEB, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    atexit.register(node.kill)
    return node


def js(file: str, name: str, *given: Any) -> Any:
    node = _node()
    assert node.stdin is not None
    assert node.stdout is not None
    node.stdin.write(json.dumps([file, name, given]) + "\n")
    node.stdin.flush()
    answer = json.loads(node.stdout.readline())
    assert "fault" not in answer, answer["fault"]
    return answer["told"]


def test_depth_of_mos_is_the_same_on_screen_and_paper() -> None:
    assert (js("depth", "CALM_MOS"), js("depth", "BAD_MOS")) == (figures.CALM_MOS, figures.BAD_MOS)
    assert [js("depth", "depthOfMos", mos) for mos in (5, 4.35, 2.6, 1)] == [0, 0, 1, 1]
    assert js("depth", "depthOfMos", 3.475) == pytest.approx(0.5)


def test_colours_lie_between_the_stops_of_the_ramp() -> None:
    assert js("depth", "paint", 0) == "color-mix(in oklab, var(--depth-1) 0%, var(--depth-0))"
    assert js("depth", "paint", 0.5) == "color-mix(in oklab, var(--depth-3) 50%, var(--depth-2))"
    assert js("depth", "paint", 1) == "color-mix(in oklab, var(--depth-5) 100%, var(--depth-4))"
    assert js("depth", "paintMos", None) == js("depth", "paintScore", None) == "transparent"
    assert js("depth", "paintScore", 4.5) == js("depth", "paint", 0)
    assert js("depth", "paintScore", 2) == js("depth", "paint", 1)


FRAME = {"left": 36, "right": 936, "top": 22, "bottom": 192, "endMs": 1000, "topMs": 100, "ticks": []}


def test_packets_stand_at_their_time_and_above_the_fastest_one() -> None:
    assert [js("packet-geometry", "xOf", FRAME, at) for at in (0, 500, 1000)] == [36, 486, 936]
    assert [js("packet-geometry", "yOf", FRAME, pdv) for pdv in (0, 50, 100, 900)] == [192, 107, 22, 22]


@pytest.mark.parametrize(
    ("packets", "buffer_ms", "top_ms", "ticks", "end_ms"),
    [
        ([], 10, 20, [0, 10, 20], 1000),
        ([{"at_ms": 400, "pdv_ms": 10}], 60, 69, [0, 20, 40, 60], 1000),
        ([{"at_ms": 4000, "pdv_ms": 200}, {"at_ms": 8000, "pdv_ms": None}], 60, 210, [0, 50, 100, 150, 200], 8000),
        ([{"at_ms": 1, "pdv_ms": 100}], 0, 105, [0, 50, 100], 1000),
    ],
)
def test_a_plot_of_packets_has_room_for_the_buffer_and_the_worst(
    packets: list[dict[str, Any]], buffer_ms: float, top_ms: float, ticks: list[int], end_ms: float
) -> None:
    frame = js("packet-geometry", "frameOf", packets, buffer_ms, 1000, 200)
    assert (frame["topMs"], frame["ticks"], frame["endMs"]) == (pytest.approx(top_ms), ticks, end_ms)
    assert (frame["left"], frame["right"], frame["top"], frame["bottom"]) == (36, 936, 22, 192)


def test_stairs_rise_with_the_share_and_stand_side_by_side() -> None:
    assert [js("stair-geometry", "shareY", pct) for pct in (100, 50, 0)] == [18, 114, 210]
    first, second = js(
        "stair-geometry", "stairs",
        [{"pct": 100, "low_pct": 50, "high_pct": 100}, {"pct": None, "low_pct": 0, "high_pct": 100}],
    )  # fmt: skip
    assert first == {"x": 273, "width": 438, "y": 18, "low": 114, "high": 18}
    assert second == {"x": 711, "width": 438, "y": None, "low": 210, "high": 18}


def test_the_blocking_curve_goes_down_to_the_right() -> None:
    frame = {"width": 100, "height": 50, "left": 10, "right": 10, "top": 5, "bottom": 5}
    points = [{"calls": 0, "blocked_pct": 100}, {"calls": 4, "blocked_pct": 25}, {"calls": 8, "blocked_pct": 0}]
    assert js("erlang-geometry", "line", frame, points) == "M10.0 5.0L50.0 35.0L90.0 45.0"


SECONDS = [
    {"frames": 30, "shown": 30, "broken": 0, "lost": 0, "late": 0},
    {"frames": 30, "shown": 15, "broken": 2, "lost": 3, "late": 4},
    {"frames": 31, "shown": 0, "broken": 0, "lost": 99, "late": 0},
]


def test_what_is_lacking_hangs_below_its_second() -> None:
    side = {"seconds": 3, "stretch_s": 1, "stretches": SECONDS}
    half, whole = js("sounding-geometry", "soundings", side, 30, 404)
    assert (half["number"], half["x"], half["width"], half["depth"], half["share"]) == (1, 134, 99, 75, 0.5)
    assert half["words"] == "second 2: 15 of 30 frames shown; 2 broken, 3 packets lost, 4 late"
    assert (whole["number"], whole["x"], whole["depth"], whole["share"]) == (2, 234, 150, 1)


def test_a_stretch_hangs_as_wide_as_it_is_long() -> None:
    side = {"seconds": 700, "stretch_s": 300, "stretches": SECONDS}
    half, rest = js("sounding-geometry", "soundings", side, 30, 804)
    assert (half["x"], half["width"]) == (334, 299)
    assert (rest["x"], rest["width"]) == (634, pytest.approx(99))
    words = "5:00 to 10:00, in its worst second: 15 of 30 frames shown; in all 2 broken, 3 packets lost, 4 late"
    assert half["words"] == words
    assert rest["words"].startswith("10:00 to 11:40, in its worst second: 0 of 31")


def test_a_stretch_is_named_by_its_place() -> None:
    def name(*of: int) -> str:
        return str(js("sounding-geometry", "stretchName", *of))

    assert [name(0, 1, 30), name(65, 10, 3599), name(65, 60, 14_400)] == [
        "second 1",
        "10:50 to 11:00",
        "1:05:00 to 1:06:00",
    ]
    assert name(359, 10, 3600) == "0:59:50 to 1:00:00"


@pytest.mark.parametrize(
    ("seconds", "step", "last"),
    [
        (10, 5, 10),
        (26, 10, 20),
        (91, 30, 90),
        (600, 30, 600),
        (601, 120, 600),
        (3600, 600, 3600),
        (14_400, 1800, 14_400),
    ],
)
def test_marks_of_time_are_neither_crowded_nor_bare(seconds: int, step: int, last: int) -> None:
    marks = js("sounding-geometry", "timeMarks", seconds)
    assert (marks[0], marks[1] - marks[0], marks[-1]) == (0, step, last)


def test_marks_of_time_are_in_seconds_or_minutes() -> None:
    def words(*of: int) -> str:
        return str(js("sounding-geometry", "markWords", *of))

    assert [words(0, 600), words(30, 600), words(0, 601), words(120, 601)] == ["0\u00a0s", "30", "0\u00a0min", "2"]


def test_two_sets_share_one_axis_with_room_at_its_ends() -> None:
    axis = js("strip-geometry", "axisOf", [10, 30], [20, 110], 1)
    assert axis == {"low": 4, "high": 116}
    assert js("strip-geometry", "axisOf", [5], [5], 2) == {"low": 3, "high": 7}
    assert [js("strip-geometry", "along", axis, value, 112) for value in (4, 60, 116)] == [0, 56, 112]
    assert js("strip-geometry", "across", 0, 20) == 0
    assert js("strip-geometry", "across", 2, 100) == pytest.approx(23.6068)


def test_test_points_stand_inside_or_outside_the_edge_in_their_order() -> None:
    inside = js("test-point-geometry", "stations", [False, False], 1)
    assert inside == {"testPoints": [90, 355], "wayOut": 620, "ends": [62]}
    both = js("test-point-geometry", "stations", [False, True], 3)
    assert both == {"testPoints": [90, 670], "wayOut": 560, "ends": [32, 62, 92]}
    none = js("test-point-geometry", "stations", [], 9)
    assert (none["testPoints"], len(none["ends"])) == ([], 9)
    assert min(none["ends"]) >= 6
    assert max(none["ends"]) <= 142


# A filled line


def instant(at_s: float, **ms: float | None) -> dict[str, float | None]:
    return {"at_s": at_s, "rtt_ms": None, "up_ms": None, "down_ms": None, "up_marked_ms": None,
            "down_marked_ms": None, **ms}  # fmt: skip


def test_delay_hangs_below_the_surface_to_one_scale_for_both_directions() -> None:
    fill = js("fill-geometry", "FILL")
    instants = [instant(0, up_ms=0, down_ms=5), instant(0.1, up_ms=200, down_ms=100), instant(0.2)]
    scale = js("fill-geometry", "scaleOf", instants)
    assert scale["deepMs"] == pytest.approx(208)
    assert scale["endS"] == 1
    assert scale["ticks"] == [0, 100, 200]
    up, down = (
        js("fill-geometry", "soundingsOf", instants, [{"up": 1.5, "down": 4.2}], side, 1080) for side in ("up", "down")
    )
    assert [one["depth"] for one in up] == [0, pytest.approx(fill["tier"] * 200 / 208)]
    assert down[1]["depth"] == pytest.approx(up[1]["depth"] / 2)
    assert [one["mos"] for one in (*up, *down)] == [1.5, 1.5, 4.2, 4.2]
    assert (
        js("fill-geometry", "surfaceOf", "down") - js("fill-geometry", "surfaceOf", "up") == fill["tier"] + fill["gap"]
    )
    assert js("fill-geometry", "xOf", scale, 0, 1080) == fill["left"]
    assert js("fill-geometry", "xOf", scale, 1, 1080) == 1080 - fill["right"]
    assert js("fill-geometry", "scaleOf", [])["deepMs"] == 20
    for side in ("up", "down"):
        assert js("fill-geometry", "scaleOf", [{"at_s": 0, f"{side}_marked_ms": 300}])["deepMs"] == pytest.approx(312)


@pytest.mark.parametrize("side", ["up", "down"])
def test_a_marked_call_is_drawn_where_one_was_held(side: str) -> None:
    second = {"at_s": 0, "up": 4.2, "down": 4.2, "up_marked": None, "down_marked": None}
    assert not js("fill-geometry", "holdsMarked", [second, second])
    assert js("fill-geometry", "holdsMarked", [second, {**second, f"{side}_marked": 1.0}])


def test_the_marked_call_is_a_line_with_gaps_where_nothing_arrived() -> None:
    marked = [instant(n / 10, up_marked_ms=ms) for n, ms in enumerate((10, 18, None, 5))]
    path = js("fill-geometry", "markedLine", marked, "up", 1080)
    assert re.findall("[ML]", path) == ["M", "L", "M"]
    assert path.startswith(f"M74.0 {26 + 128 * 10 / 20:.1f}")  # at least 20 ms deep


def echoes(median: float | None, p95: float | None, lost: int = 0) -> dict[str, Any]:
    return {"sent": 100, "answered": 100 - lost, "lost": lost, "median_ms": median, "p95_ms": p95, "packet_bytes": 64}


def test_places_share_one_scale_and_bars_go_from_the_median_to_the_95th_percentile() -> None:
    assert js("survey-geometry", "endOf", [echoes(1, 3), None, echoes(5, 21)]) == 50
    assert js("survey-geometry", "endOf", []) == 10
    assert js("survey-geometry", "endOf", [echoes(1, 20)]) == 20
    width = js("survey-geometry", "BAR")["width"]
    assert js("survey-geometry", "barOf", echoes(10, 30), 50) == {"x": width / 5, "width": width * 2 / 5}
    assert js("survey-geometry", "barOf", echoes(10, 10), 50)["width"] == 2
    assert js("survey-geometry", "barOf", echoes(80, 90), 50) == {"x": width, "width": 2}
    assert js("survey-geometry", "barOf", echoes(None, None), 50) is None
    assert js("survey-geometry", "lossOf", echoes(1, 2, lost=5)) == 5
    few = {**echoes(1, 2), "answered": 19}
    assert js("survey-geometry", "lossOf", few) is None


def test_round_trips_hang_as_deep_as_they_were_long() -> None:
    strip = js("look-geometry", "STRIP")
    assert js("look-geometry", "deepOf", [900, 4100, -1]) == 5
    assert js("look-geometry", "deepOf", []) == 1
    drops = js("look-geometry", "dropsOf", [5000, -1, 2500], 5)
    assert [one["y"] for one in drops] == [strip["height"], None, strip["top"] + (strip["height"] - strip["top"]) / 2]
    assert drops[0]["x"] < drops[1]["x"] < drops[2]["x"] < strip["width"] / 10
    assert js("look-geometry", "dropsOf", [1] * 300, 5)[-1]["x"] < strip["width"]


def test_packets_of_each_second_are_steps_and_the_lost_hang_from_them() -> None:
    assert [js("flow-geometry", "topOf", counts) for counts in ([500, 498], [100], [1500], [0], [61])] == [
        500, 100, 1500, 1, 70,
    ]  # fmt: skip
    flow = js("flow-geometry", "FLOW")
    width, height = flow["width"] - flow["left"] - flow["right"], flow["height"]
    steps = js("flow-geometry", "stepsOf", [10, 5], 2, 10)
    left, middle, right = flow["left"], flow["left"] + width / 2, flow["left"] + width
    assert steps == f"M{left} 0H{middle:g}L{middle:g} {height / 2:g}H{right:g}"
    missing = js("flow-geometry", "missingOf", [10, 10], [0, 5], 2, 10)
    assert missing == f"M{middle:g} 0H{right:g}V{height / 2:g}H{middle:g}Z"
    assert js("flow-geometry", "missingOf", [10], [11], 1, 10).count("M") == 1  # never below nothing
    assert f"V{height}H" in js("flow-geometry", "missingOf", [10], [11], 1, 10)


@pytest.mark.parametrize(
    ("spell", "block"),
    [
        ({"from_us": 100, "until_us": 300}, {"x": 0, "width": 100}),
        ({"from_us": 0, "until_us": 200}, {"x": 0, "width": 50}),  # it began before
        ({"from_us": 200, "until_us": None}, {"x": 50, "width": 50}),  # it goes on
        ({"from_us": 150, "until_us": 150}, {"x": 25, "width": 3}),  # so short that it would not be seen
        ({"from_us": 300, "until_us": None}, {"x": 97, "width": 3}),  # and not beyond the line
    ],
)
def test_the_block_of_a_spell_lies_within_its_week(spell: dict[str, int | None], block: dict[str, float]) -> None:
    assert js("spell-geometry", "spellBlock", spell, 100, 300, 100) == block


def test_days_begin_at_midnight_and_lie_within_the_week() -> None:
    monday = int(datetime(2026, 11, 2, 9, tzinfo=UTC).timestamp() * 1e6)
    days = js("spell-geometry", "daysBetween", monday, monday + 7 * 86_400_000_000)
    assert [day["name"] for day in days] == ["Tue", "Wed", "Thu", "Fri", "Sat", "Sun", "Mon"]
    assert [round(day["at"] * 7 * 24) for day in days] == [15 + 24 * n for n in range(7)]
