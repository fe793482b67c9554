"""The line filled with calls beside it."""

from __future__ import annotations

from tarnfell.probe.call import SILENCE_LIMIT_S, RunResult
from tarnfell.probe.connect import CallError
from tarnfell.probe.fill import fill as fill_line
from tarnfell.probe.works.calls import pack_run
from tarnfell.probe.works.work import Hands, WorkFailed
from tarnfell.wire import failures
from tarnfell.wire.kinds.calls import LiveSecond
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.fill import Echoes, FillArguments, FillPhase, FillResult


def fill(arguments: FillArguments, hands: Hands) -> None:
    """One that is stopped keeps what was measured by then."""

    def tell(phases: tuple[FillPhase, ...], _second: LiveSecond) -> None:
        hands.tell({"result": plain(FillResult(phases))})

    def go_on() -> bool:
        hands.begin()
        return hands.go_on()

    try:
        result, phases, echoes = fill_line(arguments, go_on, tell)
    except CallError as error:
        reachable = hands.client.reachable() if error.code in failures.OF_THE_NETWORK else None
        raise WorkFailed(str(error), error.code, reachable) from None
    hands.spool.keep_outcome(hands.job, plain(told_of(result, phases, echoes)))


def told_of(result: RunResult, phases: tuple[FillPhase, ...], echoes: tuple[Echoes, ...]) -> FillResult:
    """What was measured before a full line broke the run off is evidence of just that."""
    if result.cut is None:
        return FillResult(phases, echoes, pack_run(result), result.stopped)
    silent_s = SILENCE_LIMIT_S if result.cut.code == failures.SILENT else 0.0
    together_s = max(0.0, (result.cut.after_s or 0.0) - silent_s)
    return FillResult(phases, echoes, pack_run(result), result.stopped, result.cut.reason, together_s)
