"""The stand-in path: relays UDP between probe and far end over two lanes and writes down the truth.

It listens at an address of its own with the far end's port numbers, so that to
the probe it is the far end. TCP to the control port and signalling go through the same
queues (tcp.py), and nothing of it is lost.
"""

from __future__ import annotations

import argparse
import contextlib
import csv
import json
import random
import select
import signal
import socket
import struct
import threading
import time
from collections import OrderedDict
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from queue import SimpleQueue
from typing import IO, Any

from tarnfell.media.host import raise_priority
from tarnfell.media.sockets import Arrival, open_media_socket, receive
from tarnfell.standin.lane import Lane, LaneConfig, LaneError, Packet
from tarnfell.standin.tcp import Stream, Streams
from tarnfell.wire import Unchecked, sip
from tarnfell.wire.rtp import HEADER, looks_like_rtcp

MAX_FLOWS = 2048
_LOOK_S = 0.2
TRUTH_COLUMNS = ("direction", "port", "ssrc", "seq", "bytes", "in_us", "out_us", "fate")


@dataclass(frozen=True)
class Script:
    """What the path does and when it changes. Times are seconds after the path starts."""

    seed: int
    up: LaneConfig
    down: LaneConfig
    steps: tuple[tuple[float, Unchecked], ...] = ()
    repeat_s: float = 0.0

    @staticmethod
    def parse(text: str) -> Script:
        """Raises LaneError."""
        try:
            value = json.loads(text)
            steps = tuple((float(step["at_s"]), step) for step in value.get("steps", []))
            return Script(
                seed=int(value.get("seed", 1)),
                up=LaneConfig.from_json(value.get("up", {})),
                down=LaneConfig.from_json(value.get("down", {})),
                steps=tuple(sorted(steps, key=lambda s: s[0])),
                repeat_s=float(value.get("repeat_s", 0)),
            )
        except LaneError:
            raise
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise LaneError(f"The path's script cannot be read: {error}.") from None

    def at(self, elapsed_s: float) -> tuple[LaneConfig, LaneConfig]:
        """Both lanes' settings at that time: each step changes what it names and leaves the rest."""
        if self.repeat_s:
            elapsed_s %= self.repeat_s
        up, down = self.up, self.down
        for at_s, step in self.steps:
            if at_s <= elapsed_s:
                up = LaneConfig.from_json(step.get("up", {}), up)
                down = LaneConfig.from_json(step.get("down", {}), down)
        return up, down


class FaultyPath:
    """The relay. ``run`` until ``stop``."""

    def __init__(
        self,
        listen: str,
        far: str,
        control_port: int,
        media_ports: Iterable[int],
        script: Script,
        truth: IO[str] | None,
        file: Path | None = None,
    ) -> None:
        """``file`` is read again whenever it has changed."""
        self._listen, self._far = listen, far
        self._script, self._file = script, file
        self._read_ns = file.stat().st_mtime_ns if file else 0
        self._fronts = {port: open_media_socket(socket.AF_INET, listen, port) for port in media_ports}
        self._doors = {control_port: socket.create_server((listen, control_port))}
        with contextlib.suppress(OSError):  # somebody has one of these ports; signalling then does not pass
            self._fronts[sip.PORT] = open_media_socket(socket.AF_INET, listen, sip.PORT)
            for port in (sip.PORT, sip.TLS_PORT):
                self._doors[port] = socket.create_server((listen, port))
        self._lanes = {
            "up": Lane(script.up, random.Random(f"{script.seed} up")),
            "down": Lane(script.down, random.Random(f"{script.seed} down")),
        }
        self._epoll = select.epoll()
        self._by_fd: dict[int, tuple[str, int, Any]] = {}
        """Direction, the port at this end (0 of what comes from the far end) and the client."""
        for port, sock in self._fronts.items():
            self._by_fd[sock.fileno()] = ("up", port, None)
            self._epoll.register(sock.fileno(), select.EPOLLIN)
        self._relays: OrderedDict[Any, socket.socket] = OrderedDict()
        """A socket a client, whatever it speaks to: translation that keeps one mapping."""
        self._truth = csv.writer(truth) if truth else None
        if self._truth:
            self._truth.writerow(TRUTH_COLUMNS)
        self._stop = threading.Event()
        self._tcp_busy = False
        self._accepted: SimpleQueue[tuple[socket.socket, socket.socket]] = SimpleQueue()
        self._tcp = Streams(
            lambda direction: self._lanes[direction].has_room(),
            lambda direction: self._lanes[direction].config.rate_kbps > 0,
            self._carry,
        )

    def stop(self, *_: Any) -> None:
        self._stop.set()

    def run(self) -> None:
        raise_priority()
        for port, door in self._doors.items():
            threading.Thread(target=self._pass_in, args=(door, port), daemon=True).start()
        begun, look_at = time.monotonic(), 0.0
        while not self._stop.is_set():
            now = time.monotonic()
            if now >= look_at:
                begun = now if self._changed() else begun
                self._lanes["up"].config, self._lanes["down"].config = self._script.at(now - begun)
                look_at = now + 0.05
            self._wait()
            for fd, _ in self._epoll.poll(0):
                self._take_in(fd)
            self._pass_tcp()
            for direction in ("up", "down"):
                for packet in self._lanes[direction].take(time.time_ns()):
                    if packet.kept:
                        self._tcp.let_out(packet.address, packet.data)
                    else:
                        self._let_out(direction, packet)
                for packet in self._lanes[direction].costs():
                    self._write(direction, packet, None)
        for door in self._doors.values():
            door.close()

    def _changed(self) -> bool:
        """Whether there is another script from now on. One that cannot be read is left alone."""
        if self._file is None:
            return False
        try:
            at_ns = self._file.stat().st_mtime_ns
            if at_ns == self._read_ns:
                return False
            self._read_ns = at_ns
            self._script = Script.parse(self._file.read_text())
        except (OSError, LaneError):
            return False
        return True

    def _wait(self) -> None:
        due = min((t for lane in self._lanes.values() if (t := lane.next_ns()) is not None), default=None)
        left = _LOOK_S if due is None else min(_LOOK_S, (due - time.time_ns()) / 1e9)
        sources = [one.source for one in self._tcp.waiting]
        if self._tcp.stuck or self._tcp_busy:
            left = min(left, 0.001)
        if sources and left > 0:
            watched: list[Any] = [self._epoll, *sources]
            select.select(watched, [], [], left)
        elif left > 0.002:
            # epoll waits in whole milliseconds; the rest is slept more finely on the next round.
            self._epoll.poll(min(left - 0.001, 0.05))
        elif left > 0:
            time.sleep(min(left, 0.0005))

    def _take_in(self, fd: int) -> None:
        direction, port, client = self._by_fd[fd]
        sock = self._fronts[port] if direction == "up" else self._relays.get(client)
        while sock is not None:
            try:
                arrival = receive(sock)
            except OSError:
                return
            if arrival is None:
                return
            if direction == "up":
                self._offer(direction, port, arrival.source, arrival)
            elif arrival.source[0] == self._far and arrival.source[1] in self._fronts:
                self._offer(direction, arrival.source[1], client, arrival)

    def _offer(self, direction: str, port: int, client: Any, arrival: Arrival) -> None:
        packet = Packet(
            data=arrival.data,
            in_ns=arrival.time_ns,
            flow=(client, port),
            port=port,
            dscp=arrival.dscp or 0,
            ttl=max(1, (arrival.ttl or 64) - 1),
            address=client,
        )
        self._lanes[direction].offer(packet)

    def _let_out(self, direction: str, packet: Packet) -> None:
        sock = self._relay(packet.address) if direction == "up" else self._fronts[packet.port]
        to = (self._far, packet.port) if direction == "up" else packet.address
        marks = [
            (socket.IPPROTO_IP, socket.IP_TOS, struct.pack("@i", packet.dscp << 2)),
            (socket.IPPROTO_IP, socket.IP_TTL, struct.pack("@i", packet.ttl)),
        ]
        out_ns = time.time_ns()
        try:
            sock.sendmsg([packet.data], marks, 0, to)
        except OSError:
            packet.fate = "lost"
        self._write(direction, packet, out_ns)

    def _relay(self, client: Any) -> socket.socket:
        """The socket that speaks to the far end for one client address; the oldest gives way to a new one."""
        found = self._relays.get(client)
        if found is None:
            if len(self._relays) >= MAX_FLOWS:
                _, old = self._relays.popitem(last=False)
                self._epoll.unregister(old.fileno())
                del self._by_fd[old.fileno()]
                old.close()
            found = open_media_socket(socket.AF_INET, self._listen)
            self._relays[client] = found
            self._by_fd[found.fileno()] = ("down", 0, client)
            self._epoll.register(found.fileno(), select.EPOLLIN)
        return found

    def _write(self, direction: str, packet: Packet, out_ns: int | None) -> None:
        if not self._truth:
            return
        ssrc = sequence = ""
        if len(packet.data) >= HEADER.size and packet.data[0] >> 6 == 2 and not looks_like_rtcp(packet.data):
            _, _, number, _, source = HEADER.unpack_from(packet.data)
            ssrc, sequence = str(source), str(number)
        out = "" if out_ns is None or packet.fate in ("lost", "queue", "blocked") else out_ns // 1000
        self._truth.writerow(
            (direction, packet.port, ssrc, sequence, len(packet.data), packet.in_ns // 1000, out, packet.fate)
        )

    def _pass_tcp(self) -> None:
        while not self._accepted.empty():
            self._tcp.add(*self._accepted.get())
        for _ in range(64):  # media waits for no more than so many segments
            self._tcp_busy = self._tcp.take_in()
            if not self._tcp_busy:
                break
        self._tcp.flush()

    def _carry(self, stream: Stream, data: bytes) -> None:
        packet = Packet(data, time.time_ns(), stream, address=stream, kept=True)
        self._lanes[stream.direction].carry(packet)

    def _pass_in(self, door: socket.socket, port: int) -> None:
        while not self._stop.is_set():
            try:
                near, _ = door.accept()
            except OSError:
                return
            try:
                far = socket.create_connection((self._far, port), 5, source_address=(self._listen, 0))
                far.settimeout(None)
            except OSError:
                near.close()
                continue
            self._accepted.put((near, far))


def main(arguments: list[str] | None = None) -> int:
    parser = argparse.ArgumentParser(
        prog="python -m tarnfell.standin.path",
        description="A path with faults between a probe and a far end, for trying things out on one machine.",
    )
    parser.add_argument("--listen", required=True, metavar="ADDR", help="address to stand in at")
    parser.add_argument("--far", required=True, metavar="ADDR", help="address of the real far end")
    parser.add_argument("--control-port", type=int, required=True)
    parser.add_argument("--media-ports", required=True, metavar="A-B")
    parser.add_argument(
        "--script", metavar="FILE", help="JSON: seed, up, down, steps, repeat_s; read again when changed"
    )
    parser.add_argument("--truth", metavar="FILE", help="write what happened to each packet to this CSV file")
    options = parser.parse_args(arguments)
    low, high = (int(p) for p in options.media_ports.split("-"))
    try:
        script = Script.parse(Path(options.script).read_text() if options.script else "{}")
        truth = open(options.truth, "w", newline="", buffering=1) if options.truth else None  # noqa: SIM115
        file = Path(options.script) if options.script else None
        ports = range(low, high + 1)
        path = FaultyPath(options.listen, options.far, options.control_port, ports, script, truth, file)
    except (LaneError, OSError) as error:
        parser.error(str(error))
    signal.signal(signal.SIGTERM, path.stop)
    signal.signal(signal.SIGINT, path.stop)
    path.run()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
