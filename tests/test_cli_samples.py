"""Samples of a watch on the command line: written, analysed, told."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from tarnfell.cli.verbs import main
from tarnfell.core.days.rounds import Rounds
from tests.core.days.weeks import Week, hours


def write(rounds: Rounds, path: Path) -> Path:
    lines = ["at,target,role,rtt_ms\n"]
    for i, at_us in enumerate(rounds.at_us.tolist()):
        at = datetime.fromtimestamp(at_us / 1e6, UTC).isoformat()
        for place, rtt in zip(rounds.places, rounds.rtt_ms[:, i].tolist(), strict=True):
            lines.append(f"{at},{place.name},{place.role},{'' if rtt != rtt else f'{rtt:.3f}'}\n")
    path.write_text("".join(lines))
    return path


def analysed(path: Path, capsys: pytest.CaptureFixture[str], *more: str) -> tuple[int, dict[str, Any]]:
    code = main(["analyse", str(path), "--json", *more])
    return code, json.loads(capsys.readouterr().out)


def test_nights_legs_and_causes_of_a_file(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    week = Week(3, days=5, interval_s=15.0)
    week.slow_edge()
    week.muted(2)
    for day in (0, 1, 3, 4):
        week.outage("line", hours(day, 1.25) + 60 * day, 600)
    week.there[week.among(hours(2, 3), hours(2, 4))] = False
    file = write(week.rounds(), tmp_path / "week.csv")
    code, told = analysed(file, capsys, "--time-zone", "Europe/Berlin")
    assert code == 1
    assert [(one["leg"], one["kind"], one["loss_pct"]) for one in told["episodes"]] == [("line", "outage", 100)] * 4
    assert told["episodes"][0]["from"] == "2026-03-02T02:15:00.000+01:00"
    assert told["episodes"][0]["until"] == "2026-03-02T02:25:00.000+01:00"
    assert told["episodes"][0]["added_ms"] is None
    assert told["episodes"][0]["certainty"] > 0.9
    (again,) = told["recurrences"]
    assert (again["leg"], again["days"], again["of"], again["from"], again["until"]) == ("line", 4, 5, "02:15", "02:29")
    assert again["p"] <= 0.01
    assert [(one["key"], one["leg"]) for one in told["causes"]] == [("line-down", "line")]
    assert "On 4 of 5 nights between 02:15 and 02:29" in told["causes"][0]["says"]
    assert told["gaps"] == [{"from": "2026-03-04T04:00:00.000+01:00", "until": "2026-03-04T05:00:00.000+01:00"}]
    assert {one["key"] for one in told["not_faults"]} == {"hop-slow", "echo-muted"}
    gateway = told["targets"][0]
    assert (gateway["role"], gateway["baseline"]) == (
        "gateway", {"by": "hour of the day", "days": 6, "forming": True},
    )  # fmt: skip
    main(["analyse", str(file)])
    text = capsys.readouterr().out
    assert "outage, on the line (99 %): 100.0 % lost, 1.00 MOS" in text
    assert "What to do: Give the provider these times" in text


def test_where_nothing_spoils_a_call_it_is_said(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    file = write(Week(3, days=1, interval_s=10.0).rounds(), tmp_path / "day.csv")
    code, told = analysed(file, capsys)
    assert (code, told["episodes"], told["causes"], told["gaps"]) == (0, [], [], [])
    assert main(["analyse", str(file)]) == 0
    assert "Nothing in it would have spoiled a call." in capsys.readouterr().out


def test_the_buffer_the_codec_and_the_target_decide_what_spoils(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    week = Week(3, days=1, interval_s=5.0)
    week.queues("line", hours(0, 5), 1800, 90, loss=0)
    week.loses("beyond", hours(0, 15), 3600, 0.06)
    file = write(week.rounds(), tmp_path / "day.csv")

    def kinds(*more: str) -> list[str]:
        return list(dict.fromkeys(one["kind"] for one in analysed(file, capsys, *more)[1]["episodes"]))

    assert kinds() == ["delay", "loss"]
    assert kinds("--buffer", "150") == ["loss"]
    assert kinds("--target", "3") == ["delay"]
    assert kinds("--target", "3", "--codec", "g729a") == ["delay", "loss"]


@pytest.mark.parametrize(
    ("more", "words"),
    [
        (["--time-zone", "Nowhere/Land"], "“Nowhere/Land” is not a time zone"),
        (["--target", "5"], "A target of 5 MOS cannot be used: choose 1 to 4.5."),
        (["--buffer", "-1"], "A buffer of -1 ms cannot be used"),
    ],
)
def test_wrong_use_has_one_clear_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], more: list[str], words: str
) -> None:
    file = tmp_path / "s.csv"
    file.write_text("at,target,role,rtt_ms\n2026-03-02T09:00:00Z,192.0.2.1,gateway,1\n")
    assert main(["analyse", str(file), *more]) == 2
    assert words in capsys.readouterr().err


def test_a_file_that_is_damaged_names_the_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    file = tmp_path / "s.csv"
    file.write_text("at,target,role,rtt_ms\nnow,192.0.2.1,gateway,1\n")
    assert main(["analyse", str(file)]) == 2
    assert "Line 2: “now” is no time with a zone" in capsys.readouterr().err
    file.write_bytes(b"at,target,role,rtt_ms\n\xff\xfe,192.0.2.1,gateway,1\n")
    assert main(["analyse", str(file)]) == 2
    assert "not text in UTF-8" in capsys.readouterr().err
