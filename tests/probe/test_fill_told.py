"""A fill that was broken off is told by how long both ends had been there."""

from __future__ import annotations

from dataclasses import replace
from typing import cast

import pytest

from tarnfell.probe.call import SILENCE_LIMIT_S, RunResult
from tarnfell.probe.works import fill
from tarnfell.wire import failures
from tarnfell.wire.failures import Failure
from tarnfell.wire.kinds.selfcheck import SelfCheck
from tarnfell.wire.record import Record

WHOLE = RunResult([], [], Record({}), cast(SelfCheck, None), stopped=False)


@pytest.mark.parametrize(
    ("code", "after_s", "together_s"),
    [
        (failures.SILENT, 100.0, 100.0 - SILENCE_LIMIT_S),  # it had been away for that long when it was noticed
        (failures.SILENT, 10.0, 0.0),
        *((code, 100.0, 100.0) for code in failures.CUTS if code != failures.SILENT),
    ],
)
def test_silence_is_taken_off(monkeypatch: pytest.MonkeyPatch, code: str, after_s: float, together_s: float) -> None:
    monkeypatch.setattr(fill, "pack_run", lambda result: b"record")
    cut = Failure(code=code, reason="It went away.", after_s=after_s)
    told = fill.told_of(replace(WHOLE, cut=cut), (), ())
    assert (told.cut, told.cut_s, told.record) == ("It went away.", together_s, b"record")


def test_a_fill_that_came_to_its_end_tells_of_no_cut(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fill, "pack_run", lambda result: b"record")
    told = fill.told_of(replace(WHOLE, stopped=True), (), ())
    assert (told.cut, told.cut_s, told.stopped) == (None, 0.0, True)
