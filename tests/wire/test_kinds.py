"""Kinds of work as both ends read them: what fits, what does not and why, and that nothing is lost on the way."""

from __future__ import annotations

import base64
import json
from typing import Any

import pytest

from tarnfell.wire.kinds import KINDS, Nothing
from tarnfell.wire.kinds.answer import AnswerArguments
from tarnfell.wire.kinds.calls import CallPlan, CallsArguments, VideoPlan
from tarnfell.wire.kinds.distances import DistancesResult, FarEndFound
from tarnfell.wire.kinds.fields import MAX_MANY, MAX_TEXT, MAX_WHOLE, KindError, plain, read
from tarnfell.wire.kinds.fill import FillResult
from tarnfell.wire.kinds.selfcheck import EndCheck, SelfCheck, self_check_of
from tarnfell.wire.kinds.update import UpdateArguments
from tarnfell.wire.kinds.watch import MAX_ECHOES, MAX_TARGETS, Watch, WatchRunning, WatchTarget

PLAN = CallPlan(calls=2, packets=9, ptime_us=20_000, payload_type=8, clock_hz=8000, payload_bytes=160, dscp=46)
VIDEO = VideoPlan("720p30", 1, 30, 33_333, 96, 90_000, 34, (900, 800), (400,), 60)
WATCH = {"id": 1, "version": 2, "interval_ms": 1000,
         "targets": [{"far_end_id": 3, "host": "far.example", "port": 4870, "key": "k" * 16, "dscp": 46}]}  # fmt: skip


@pytest.mark.parametrize(
    "value",
    [
        CallsArguments(PLAN, "far.example", 4870, "k"),
        CallsArguments(
            CallPlan(**{**vars(PLAN), "direction": "up", "video": (VIDEO, VIDEO)}), "far.example", 4870, "k"
        ),
        DistancesResult((FarEndFound(1, 12.5, None, True), FarEndFound(2, None, "refused", None))),
        AnswerArguments(4870, 20000, 20399, "k" * 16),
        Watch(1, 2, 1000, (WatchTarget(3, "far.example", 4870, "k", 46),)),
        WatchRunning(1, 2, "why"),
        Nothing(),
    ],
)
def test_what_one_end_tells_the_other_reads(value: Any) -> None:
    assert read(type(value), json.loads(json.dumps(plain(value)))) == value


def test_what_is_as_it_always_was_is_not_told() -> None:
    """So that programs which do not know a newer field go on understanding what does not use it."""
    assert set(plain(PLAN)) == set(vars(PLAN)) - {"direction", "video", "marks"}
    assert plain(FarEndFound(1)) == {"id": 1}


@pytest.mark.parametrize(
    ("shape", "value", "words"),
    [
        (Nothing, [], "not told by fields"),
        (Nothing, {"more": 1}, "“more”, which is not known"),
        (UpdateArguments, {"program": "x"}, "no field “sha256”"),
        (UpdateArguments, {"program": "x", "sha256": "0" * 63}, "“sha256” is too small: 63, at least 64"),
        (UpdateArguments, {"program": "x", "sha256": "0" * 65}, "“sha256” is too large: 65, at most 64"),
        (UpdateArguments, {"program": 5, "sha256": "0" * 64}, "“program” is not what belongs there"),
        (UpdateArguments, {"program": "x" * (MAX_TEXT + 1), "sha256": "0" * 64}, "“program” is not what"),
        (AnswerArguments, {"port": 0, "media_low": 1, "media_high": 2, "key": "k" * 16}, "“port” is too small"),
        (AnswerArguments, {"port": 65536, "media_low": 1, "media_high": 2, "key": "k" * 16}, "“port” is too large"),
        (AnswerArguments, {"port": True, "media_low": 1, "media_high": 2, "key": "k" * 16}, "“port” is not what"),
        (AnswerArguments, {"port": 1.0, "media_low": 1, "media_high": 2, "key": "k" * 16}, "“port” is not what"),
        (FarEndFound, {"id": MAX_WHOLE + 1}, "“id” is not what"),
        (FarEndFound, {"id": 1, "connect_ms": float("nan")}, "“connect_ms” is not what"),
        (FarEndFound, {"id": 1, "connect_ms": float("inf")}, "“connect_ms” is not what"),
        (FarEndFound, {"id": 1, "connect_ms": -0.1}, "“connect_ms” is too small"),
        (FarEndFound, {"id": 1, "key_fits": 1}, "“key_fits” is not what"),
        (FarEndFound, {"id": 1, "failure": "x" * 301}, "“failure” is too large: 301"),
        (DistancesResult, {"distances": {}}, "“distances” is not a list"),
        (DistancesResult, {"distances": [{"id": 1}] * 51}, "“distances” is too large: 51, at most 50"),
        (DistancesResult, {"distances": [{"id": 1}] * (MAX_MANY + 1)}, f"more than {MAX_MANY} entries"),
        (DistancesResult, {"distances": [{"id": 1, "far": 2}]}, "“distances” has a field “far”"),
        (Watch, {**WATCH, "echoes": [{"role": "edge"}] * (MAX_ECHOES + 1)}, "“echoes” is too large"),
        (Watch, {**WATCH, "echoes": [{"role": "router"}]}, "“role” is none of gateway, edge, outside, far-end"),
        (Watch, {**WATCH, "large_bytes": 99}, "“large_bytes” is too small"),
        (Watch, {**WATCH, "targets": WATCH["targets"] * (MAX_TARGETS + 1)}, "“targets” is too large"),
        (Watch, {**WATCH, "interval_ms": 99}, "“interval_ms” is too small: 99, at least 100"),
        (Watch, {**WATCH, "id": 0}, "“id” is too small"),
        (WatchRunning, {"id": 1, "version": 1, "trouble": "x" * 301}, "“trouble” is too large"),
        (CallPlan, {**plain(PLAN), "direction": 5}, "none of both, up, down"),
    ],
)
def test_what_does_not_fit_is_told_by_its_name(shape: type, value: Any, words: str) -> None:
    with pytest.raises(KindError, match=words):
        read(shape, value)


def test_numbers_at_their_bounds_fit() -> None:
    assert read(FarEndFound, {"id": MAX_WHOLE, "connect_ms": 0, "failure": "x" * 300}).connect_ms == 0.0
    assert isinstance(read(FarEndFound, {"id": 1, "connect_ms": 3}).connect_ms, float)
    assert read(FarEndFound, {"id": 1, "connect_ms": None}).connect_ms is None
    assert len(read(DistancesResult, {"distances": [{"id": 1}] * 50}).distances) == 50


def test_every_kind_has_its_name_and_what_loads_the_line_says_so() -> None:
    assert {name: kind.name for name, kind in KINDS.items()} == {name: name for name in KINDS}
    assert {name: kind.lane for name, kind in KINDS.items()} == {
        "calls": "line", "check": "light", "fill": "line", "flow": "line", "look": "light", "services": "light",
        "distances": "light", "answer": "light", "silence": "light",
        "update": "alone", "end": "alone",
    }  # fmt: skip
    assert KINDS["calls"].result is None


def test_bytes_cross_as_text_and_are_bounded() -> None:
    told = FillResult(record=bytes(range(256)))
    assert read(FillResult, json.loads(json.dumps(plain(told)))) == told
    for wrong in ("%%%", "AAA", 5, None, ["AA=="]):
        with pytest.raises(KindError):
            read(FillResult, {"record": wrong})
    assert len(read(FillResult, {"record": base64.b64encode(bytes(700_000)).decode()}).record) == 700_000
    with pytest.raises(KindError, match="too large: 700001"):
        read(FillResult, {"record": base64.b64encode(bytes(700_001)).decode()})


def test_what_is_not_known_is_left_out_only_where_that_is_asked_for() -> None:
    told = {"tainted": True, "reasons": None, "probe": {"not_sent": 3, "newer": 1}, "newer": {"a": [1]}}
    known = self_check_of(told)
    assert (known.tainted, known.reasons, known.probe.not_sent, known.far_end) == (True, (), 3, EndCheck())
    with pytest.raises(KindError, match="newer"):
        read(SelfCheck, told)
    for wrong in ({"probe": {"not_sent": "three"}}, {"reasons": "late"}, {"reasons": ["x"] * 101}, {"probe": 5}):
        with pytest.raises(KindError):
            self_check_of(wrong)
    assert self_check_of(None) == SelfCheck()


def test_a_strange_field_is_named_as_far_as_it_is_short() -> None:
    with pytest.raises(KindError) as told:
        read(FarEndFound, {"id": 1, "x" * 41: 1})
    assert f"“{'x' * 40}”" in str(told.value)
