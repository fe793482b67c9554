"""One session of calls with a browser, from its offer to this end's half of the packets.

    offer ──► answer told, the control connection is over ──► ICE, DTLS, two data channels ──► talk and packets ──► the
    half is kept

Nothing is sent to an address that has not answered ICE's checks with the password of this session (RFC 8445), and
whoever asks for a session holds the far end's key: a browser comes by way of the server.
"""

from __future__ import annotations

import asyncio
from typing import Any

from aiortc import RTCConfiguration, RTCDataChannel, RTCPeerConnection, RTCSessionDescription

from tarnfell.farend.offer import Offer, Refused
from tarnfell.media.browser.far_side import FarSide
from tarnfell.media.browser.talk import LOOK_S, Talk
from tarnfell.media.channel import Channel
from tarnfell.media.diary import note
from tarnfell.webrtc import sdp
from tarnfell.webrtc.loop import MediaPortsLoop, dropped
from tarnfell.webrtc.way_back import WayBack
from tarnfell.wire.browser import CONTROL, MEDIA, BrowserCalls
from tarnfell.wire.kinds.fields import KindError, read

_ROOM_BYTES = 1 << 20
ARRANGEMENT = "WebRTC data channels (aiortc), one loop"


def serve_browser(channel: Channel, offer: Offer, asked: Any) -> None:
    """Raises Refused for what is not understood, ChannelClosed or TimeoutError before the answer was told."""
    try:
        wanted = read(BrowserCalls, asked, "The request")
    except KindError as error:
        raise Refused(str(error)) from None
    loop = MediaPortsLoop(offer)
    try:
        loop.run_until_complete(_Session(channel, offer, wanted, loop.ports).serve())
    finally:
        loop.close()


class _Session:
    def __init__(self, channel: Channel, offer: Offer, wanted: BrowserCalls, ports: set[int]) -> None:
        self._channel, self._offer, self._wanted, self._ports = channel, offer, wanted, ports
        self._peer = RTCPeerConnection(RTCConfiguration(iceServers=[]))
        self._media: RTCDataChannel | None = None
        self._control: RTCDataChannel | None = None
        self._side = FarSide(wanted, self._send, ARRANGEMENT)
        self._talk = Talk(self._side, wanted.seconds, self._say)

    async def serve(self) -> None:
        self._peer.on("datachannel", self._opened)
        self._peer.on("connectionstatechange", self._changed)
        try:
            answer = await self._answered()
            self._channel.send({"accepted": {"answer": answer}})
            self._channel.close()
            await self._carry_on()
        finally:
            await self._peer.close()
            # What was arranged for and has not run yet would be told as lost when the loop ends.
            for task in asyncio.all_tasks() - {asyncio.current_task()}:
                task.cancel()

    async def _answered(self) -> str:
        try:
            offered = RTCSessionDescription(sdp.without_names(self._wanted.offer), "offer")
            await self._peer.setRemoteDescription(offered)
            if self._peer.sctp is None:
                raise ValueError("it has no data channel")
            await self._peer.setLocalDescription(await self._peer.createAnswer())
        except Exception as error:  # a parser of what a stranger's browser wrote may fail in any way
            raise Refused(f"The browser's offer is not understood: {error}") from None
        answer = str(self._peer.localDescription.sdp)
        if "a=candidate:" not in answer:
            raise Refused(
                f"The far end has no address for browsers: none of its media ports {self._offer.first_port}–"
                f"{self._offer.last_port} is free, or the host has no address but loopback."
            )
        return sdp.reached_at(answer, self._wanted.reached_at)

    def _opened(self, opened: RTCDataChannel) -> None:
        if opened.label == MEDIA and self._media is None:
            self._media = opened
            opened.on("message", self._take)
        elif opened.label == CONTROL and self._control is None:
            self._control = opened
            opened.on("message", self._talk.told)

    def _changed(self) -> None:
        if self._peer.connectionState in ("failed", "closed"):
            self._talk.end()

    def _take(self, message: Any) -> None:
        if isinstance(message, bytes):
            self._side.take(message)

    def _send(self, data: bytes) -> None:
        if self._media is not None and self._media.readyState == "open":
            self._open_the_throttle()
            self._media.send(data)

    def _open_the_throttle(self) -> None:
        """Media is sent when it is due, as by RTP: SCTP would hold it back after a loss, and that would look like the
        network's delay. The rate is bounded by what was asked for."""
        transport = self._peer.sctp
        if transport is not None:
            transport._cwnd = transport._ssthresh = _ROOM_BYTES

    def _look_back(self) -> WayBack | None:
        """To where the browser's packets come from; None where ICE does not say."""
        transport = self._peer.sctp
        if transport is None:
            return None
        try:
            chosen = transport.transport.transport._connection._nominated.get(1)
        except AttributeError:
            return None  # another version keeps it elsewhere: calls are worth more than where they came from
        return WayBack(*chosen.remote_addr) if chosen else None

    def _say(self, message: str) -> None:
        if self._control is not None and self._control.readyState == "open":
            self._control.send(message)

    async def _carry_on(self) -> None:
        if not await self._talk.begun():
            if not self._talk.is_over:
                note("far end: a browser did not come.")
            return
        way_back = self._look_back()
        await self._talk.carry_on()
        self._side.queue_drops = dropped(self._ports)
        reach = await asyncio.to_thread(way_back.told) if way_back else None
        if self._offer.halves is None or not self._offer.halves.keep(self._wanted.token, self._side.half(reach)):
            note("far end: its half of a browser's calls could not be kept.")
            return
        self._talk.say(kept=True)
        await asyncio.sleep(LOOK_S)  # for that to leave
