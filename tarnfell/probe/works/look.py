"""A look at addresses for a while, and at a place where a call is placed beside it."""

from __future__ import annotations

from dataclasses import replace

from tarnfell.probe.asking.looking import Look
from tarnfell.probe.call import place_calls
from tarnfell.probe.connect import CallError
from tarnfell.probe.works.calls import pack_run
from tarnfell.probe.works.work import Hands
from tarnfell.wire.kinds.calls import LiveSecond
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.look import LookArguments, LookResult


def look(arguments: LookArguments, hands: Hands) -> None:
    """One that is stopped keeps what was seen by then."""
    hands.begin()
    one = Look(arguments, hands.go_on, lambda known: hands.tell({"result": plain(known)}))
    found = _beside_a_call(arguments, hands, one) if arguments.call else one.run()
    hands.spool.keep_outcome(hands.job, plain(found))


def _beside_a_call(arguments: LookArguments, hands: Hands, one: Look) -> LookResult:
    """The call and the echoes begin together; where there is no call, the echoes tell what they can."""
    assert arguments.call is not None
    begun = False

    def watch(_second: LiveSecond) -> bool:
        return hands.go_on()

    def flowing() -> bool:
        """Asked only once packets flow: calls are forked from a process that has no threads."""
        nonlocal begun
        if not begun:
            begun = True
            one.start()
        return hands.go_on()

    try:
        result = place_calls(
            arguments.far_host, arguments.far_port, arguments.far_key.encode(), arguments.call, watch, go_on=flowing
        )
    except CallError as error:
        found = one.finish() if begun else one.run()
        return replace(found, call_failure=str(error))
    found = one.finish()
    return replace(found, record=pack_run(result), call_failure=result.cut.reason if result.cut else None)
