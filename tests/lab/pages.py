"""Many pages at once as a far end sees them: offers, data channels and packets (HOST PORT KEY PAGES SECONDS).

Prints how many packets each sent, how many came back, and whether the far end kept its half.
"""

import asyncio
import json
import sys
import time
from dataclasses import dataclass, field

from aiortc import RTCConfiguration, RTCDataChannel, RTCPeerConnection, RTCSessionDescription

from tarnfell.probe.offering import answer_of
from tarnfell.wire.browser import CONTROL, MEDIA, BrowserCalls, Packet

host, port, key, pages, seconds = sys.argv[1], int(sys.argv[2]), sys.argv[3], int(sys.argv[4]), float(sys.argv[5])
INTERVAL_MS = 60


@dataclass
class Told:
    sent: int = 0
    numbers: set[int] = field(default_factory=set)
    kept: bool = False
    up: int = 0
    """Of what was sent, as the far end tells it came."""


async def page(number: int, all_open: asyncio.Barrier) -> Told:
    told, finished = Told(), asyncio.Event()
    peer = RTCPeerConnection(RTCConfiguration(iceServers=[]))
    media: RTCDataChannel = peer.createDataChannel(MEDIA, ordered=False, maxRetransmits=0)
    control: RTCDataChannel = peer.createDataChannel(CONTROL)
    is_open = asyncio.Event()
    control.on("open", is_open.set)

    @media.on("message")
    def _(data: bytes) -> None:
        told.numbers.add(Packet.parse(data).sequence_number)

    @control.on("message")
    def _(text: str) -> None:
        words = json.loads(text)
        told.kept = told.kept or bool(words.get("kept"))
        if "progress" in words:
            told.up = words["progress"]["received"][0]
        if told.kept:
            finished.set()

    await peer.setLocalDescription(await peer.createOffer())
    asked = BrowserCalls(
        calls=1,
        interval_ms=INTERVAL_MS,
        filling=93,
        seconds=seconds,
        offer=peer.localDescription.sdp,
        token="f" * 62 + f"{number:02x}",
    )
    answer = await asyncio.to_thread(answer_of, host, port, key, asked)
    await peer.setRemoteDescription(RTCSessionDescription(answer, "answer"))
    await asyncio.wait_for(is_open.wait(), 60)
    await all_open.wait()
    control.send(json.dumps({"begin": True}))
    print(f"page {number} is open", file=sys.stderr, flush=True)
    for count in range(round(seconds * 1000 / INTERVAL_MS)):
        media.send(Packet(0, count, time.time() * 1e6).serialize(93))
        told.sent += 1
        await asyncio.sleep(INTERVAL_MS / 1000)
    await asyncio.sleep(3)
    control.send(json.dumps({"finish": True}))
    await asyncio.wait_for(finished.wait(), 60)
    await peer.close()
    return told


async def main() -> None:
    all_open = asyncio.Barrier(pages)
    done = await asyncio.gather(*(page(number, all_open) for number in range(pages)))
    print(json.dumps([{"sent": one.sent, "came": len(one.numbers), "up": one.up, "kept": one.kept} for one in done]))


asyncio.run(main())
