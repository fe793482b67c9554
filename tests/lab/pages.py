"""Many pages at once as a far end sees them: offers, data channels and packets (HOST PORT KEY PAGES).

Says on standard error when all are open, and ends them at a line on standard input. Then it prints of each how many
packets came, how many the far end told that it had, and whether it kept its half.
"""

import asyncio
import json
import sys
import time
from dataclasses import dataclass, field

from aiortc import RTCConfiguration, RTCDataChannel, RTCPeerConnection, RTCSessionDescription

from tarnfell.probe.offering import answer_of
from tarnfell.wire.browser import CONTROL, MEDIA, BrowserCalls, Packet

host, port, key, pages = sys.argv[1], int(sys.argv[2]), sys.argv[3], int(sys.argv[4])
INTERVAL_MS, PACKETS = 60, 30
LONG_S = 100.0
"""Of a session, however slow this machine is: nothing is sent for most of it."""


@dataclass
class Told:
    numbers: set[int] = field(default_factory=set)
    up: int = 0
    kept: bool = False


async def page(number: int, door: asyncio.Semaphore, is_open: asyncio.Event, finish: asyncio.Event) -> Told:
    told, finished = Told(), asyncio.Event()
    peer = RTCPeerConnection(RTCConfiguration(iceServers=[]))
    media: RTCDataChannel = peer.createDataChannel(MEDIA, ordered=False, maxRetransmits=0)
    control: RTCDataChannel = peer.createDataChannel(CONTROL)
    control.on("open", is_open.set)

    @media.on("message")
    def _(data: bytes) -> None:
        told.numbers.add(Packet.parse(data).sequence_number)

    @control.on("message")
    def _(text: str) -> None:
        words = json.loads(text)
        if "progress" in words:
            told.up = words["progress"]["received"][0]
        if words.get("kept"):
            told.kept = True
            finished.set()

    # A far end waits no longer than twenty seconds for a page that it has answered: a few at a time.
    async with door:
        await peer.setLocalDescription(await peer.createOffer())
        asked = BrowserCalls(1, INTERVAL_MS, 93, LONG_S, peer.localDescription.sdp, f"{number:064x}")
        answer = await asyncio.to_thread(answer_of, host, port, key, asked)
        await peer.setRemoteDescription(RTCSessionDescription(answer, "answer"))
        await asyncio.wait_for(is_open.wait(), LONG_S)
        control.send(json.dumps({"begin": True}))
    for count in range(PACKETS):
        media.send(Packet(0, count, time.time() * 1e6).serialize(93))
        await asyncio.sleep(INTERVAL_MS / 1000)
    control.send(json.dumps({"stop": True}))
    await finish.wait()
    control.send(json.dumps({"finish": True}))
    await asyncio.wait_for(finished.wait(), LONG_S)
    await peer.close()
    return told


async def main() -> None:
    door, finish = asyncio.Semaphore(3), asyncio.Event()
    opens = [asyncio.Event() for _ in range(pages)]
    under_way = asyncio.gather(*(page(number, door, one, finish) for number, one in enumerate(opens)))
    for one in opens:
        await one.wait()
    print("all are open", file=sys.stderr, flush=True)
    await asyncio.to_thread(sys.stdin.readline)
    finish.set()
    print(json.dumps([{"came": len(one.numbers), "up": one.up, "kept": one.kept} for one in await under_way]))


asyncio.run(main())
