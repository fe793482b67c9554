"""The line filled with calls beside it."""

from __future__ import annotations

from tarnfell.probe.connect import CallError
from tarnfell.probe.fill import fill as fill_line
from tarnfell.probe.works.calls import pack_run
from tarnfell.probe.works.work import Hands, WorkFailed
from tarnfell.wire import failures
from tarnfell.wire.kinds.calls import LiveSecond
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.fill import FillArguments, FillPhase, FillResult


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
    if result.cut:
        raise WorkFailed(result.cut.reason, result.cut.code, hands.client.reachable())
    hands.spool.keep_outcome(hands.job, plain(FillResult(phases, echoes, pack_run(result), result.stopped)))
