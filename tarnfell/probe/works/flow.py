"""A load of packets all alike; the result is the record of them."""

from __future__ import annotations

from tarnfell.probe.call import place_calls
from tarnfell.probe.connect import CallError
from tarnfell.probe.works.calls import pack_run
from tarnfell.probe.works.work import Hands, WorkFailed
from tarnfell.wire import failures
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.flow import FlowArguments, FlowResult


def flow(arguments: FlowArguments, hands: Hands) -> None:
    """One that is stopped keeps what was measured by then."""

    def go_on() -> bool:
        hands.begin()
        return hands.go_on()

    far = (arguments.far_host, arguments.far_port, arguments.far_key.encode())
    try:
        result = place_calls(*far, arguments.plan, go_on=go_on)
    except CallError as error:
        reachable = hands.client.reachable() if error.code in failures.OF_THE_NETWORK else None
        raise WorkFailed(str(error), error.code, reachable) from None
    cut = result.cut.reason if result.cut else None
    hands.spool.keep_outcome(hands.job, plain(FlowResult(pack_run(result), result.stopped, cut)))
