"""What is said beside the packets of one session with a browser, and how that session goes.

the page may come ──► begin ──► packets both ways ──► finish, or the page is gone, or time is up
     └──► it does not come
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from typing import Any

from tarnfell.media.browser.far_side import TICK_S, FarSide

CONNECT_S = 20.0
"""From the answer to the browser's word to begin."""
OVERTIME_S = 10.0
"""After the planned end, for the browser to say that it has finished."""
MOST_CONTROL = 400
LOOK_S = 1.0


class Talk:
    """Lives in one event loop. ``say`` puts a message on its way, and may drop it where nobody listens any more."""

    def __init__(self, side: FarSide, seconds: float, say: Callable[[str], None]) -> None:
        self._side, self._seconds, self._send = side, seconds, say
        self._begun, self._over = asyncio.Event(), asyncio.Event()
        self._heard = 0

    def told(self, message: Any) -> None:
        """A message from the page; one that is not understood is passed over."""
        self._heard += 1
        if self._heard > MOST_CONTROL:
            self.end()
            return
        try:
            told = json.loads(message)
            words = set(told) if isinstance(told, dict) else set()
        except (ValueError, TypeError, RecursionError):
            return
        if "begin" in words:
            self._begun.set()
        if "stop" in words:
            self._side.stopped = True
        if "finish" in words:
            self.end()

    def end(self) -> None:
        """The page has finished, or is gone."""
        self._over.set()

    def say(self, **what: object) -> None:
        self._send(json.dumps(what))

    async def begun(self) -> bool:
        """Once the page has said so; False where it is gone before, or does not come."""
        waiting = [asyncio.ensure_future(one.wait()) for one in (self._begun, self._over)]
        await asyncio.wait(waiting, timeout=CONNECT_S, return_when=asyncio.FIRST_COMPLETED)
        for one in waiting:
            one.cancel()
        return self._begun.is_set()

    @property
    def is_over(self) -> bool:
        return self._over.is_set()

    async def carry_on(self) -> None:
        """Packets until the session ends, and once a second how many have come."""
        loop = asyncio.get_running_loop()
        begun = told_at = loop.time()
        self._side.begin()
        self.say(begun=True)
        while not self.is_over and loop.time() - begun < self._seconds + OVERTIME_S:
            self._side.turn()
            if loop.time() - told_at >= LOOK_S:
                told_at += LOOK_S
                self.say(progress=self._side.progress())
            await asyncio.sleep(TICK_S)
