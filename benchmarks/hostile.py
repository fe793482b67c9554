"""Files that somebody made to be a burden, at the size that is taken: time, memory, and the sentence they get.

Each is read by a process of its own, as the clerk or a request reads it. Yardstick: that process taking the SHA-256 of
the same file.
"""

from __future__ import annotations

import contextlib
import json
import struct
import subprocess
import sys
import tempfile
import time
import zlib
from collections.abc import Callable
from pathlib import Path

MIB = 1 << 20
FILE, LIST = 256 * MIB, 4 * MIB
"""The largest imported file, and the largest list of sites."""


def report() -> str:
    lines = [
        "## Hostile files",
        "",
        "Peak memory is of the whole process, the file itself in it; a process that only imports the program takes "
        "about 100 MiB.",
        "",
        "| file | MiB | hash, s | read, s | × yardstick | peak MiB | what is said |",
        "|---|---:|---:|---:|---:|---:|---|",
    ]
    with tempfile.TemporaryDirectory() as name:
        file = Path(name) / "file"
        for title, (kind, make) in CASES.items():
            make(file)
            found = _in_a_process(kind, file)
            size = file.stat().st_size / MIB
            lines.append(
                f"| {title} | {size:.1f} | {found['hash_s']:.2f} | {found['read_s']:.2f} | "
                f"{found['read_s'] / found['hash_s']:.0f} | {found['peak_mib']:.0f} | {found['says']} |"
            )
    return "\n".join(lines)


def _in_a_process(kind: str, file: Path) -> dict[str, float]:
    done = subprocess.run(
        [sys.executable, "-m", "benchmarks.hostile", kind, str(file)], capture_output=True, text=True, check=True
    )
    found: dict[str, float] = json.loads(done.stdout)
    return found


# What is made


def _pcap(file: Path, packet: Callable[[int], bytes], most: int) -> None:
    with open(file, "wb") as out:
        out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
        at, number = 24, 0
        while True:
            body = packet(number)
            at += 16 + len(body)
            if at > most:
                return
            out.write(struct.pack("<IIII", number // 1000, number % 1000, len(body), len(body)) + body)
            number += 1


def _udp(payload: bytes, port: int = 20000) -> bytes:
    udp = struct.pack("!HHHH", port, port, 8 + len(payload), 0) + payload
    ends = bytes((192, 0, 2, 1, 198, 51, 100, 1))
    head = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(udp), 0, 0, 64, 17, 0) + ends
    return bytes(12) + b"\x08\x00" + head + udp


def _rtp(ssrc: int, number: int) -> bytes:
    return _udp(struct.pack("!BBHII", 0x80, 8, number & 0xFFFF, 160 * number & 0xFFFFFFFF, ssrc) + bytes(4))


def _million_streams(file: Path) -> None:
    """Three packets each, so that every one might be a stream."""
    _pcap(file, lambda n: _rtp(n % 1_000_000, n // 1_000_000), FILE)


def _one_stream(file: Path) -> None:
    _pcap(file, lambda n: _rtp(7, n), FILE)


def _smallest_packets(file: Path) -> None:
    _pcap(file, lambda n: b"\0" * 14, FILE)


def _nested(file: Path) -> None:
    _pcap(file, lambda n: bytes(12) + b"\x81\x00\x00\x01" * 300 + b"\x08\x00", FILE)


def _endless_block(file: Path) -> None:
    head = struct.pack("<IIIHHqI", 0x0A0D0D0A, 28, 0x1A2B3C4D, 1, 0, -1, 28)
    file.write_bytes(head + struct.pack("<II", 6, 0xFFFFFFFC) + bytes(FILE - 64))


def _one_line(file: Path) -> None:
    file.write_bytes(b"64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=" + b"1" * (100 * MIB))


def _empty_lines(file: Path) -> None:
    file.write_bytes(b"PING 192.0.2.1\n" + b"\n" * (FILE - 32))


def _many_lines(file: Path) -> None:
    with open(file, "w") as out:
        out.write("PING 192.0.2.1 (192.0.2.1) 56(84) bytes of data.\n")
        for number in range(4_000_000):
            out.write(f"64 bytes from 192.0.2.1: icmp_seq={number} ttl=64 time=1.5 ms\n")


def _many_hosts(file: Path) -> None:
    with open(file, "w") as out:
        for number in range(1_500_000):
            host = f"192.0.{number >> 8 & 255}.{number & 255}"
            out.write(f"PING {host} ({host}) 56(84) bytes of data.\n")
            out.write(f"64 bytes from {host}: icmp_seq=1 ttl=64 time=1 ms\n")


def _many_sites(file: Path) -> None:
    file.write_text("name,needed_calls\n" + "".join(f"s{n},1\n" for n in range(LIST // 9)))


def _quotes(file: Path) -> None:
    file.write_text('name\n"' + '"\n' * (LIST // 2 - 8))


def _columns(file: Path) -> None:
    file.write_text("name" + ",name" * (LIST // 5 - 8) + "\nx\n")


def _swollen_record(file: Path) -> None:
    """A hundred calls of which each says to have had as many packets as a column can hold."""
    from tarnfell.wire.record import MAX_VALUES, PackedColumn, Record, join_parts

    zeros = zlib.compress(bytes(8 * MAX_VALUES))
    names = [f"{way}.{name}" for way in ("up", "down") for name in ("sent_us", "arrival_seq", "arrival_us")]
    columns = {name: PackedColumn(name, MAX_VALUES, zeros) for name in names}
    about = {"ssrc": 1, "dscp_sent": 46}
    head = Record({"shared": True, "self_check": {}}).serialize()
    calls = [Record({"call": n, "start_us": 1, "up": about, "down": about}, columns).serialize() for n in range(1, 101)]
    file.write_bytes(join_parts([head, *calls]))


CASES: dict[str, tuple[str, Callable[[Path], None]]] = {
    "capture: a million streams": ("import", _million_streams),
    "capture: one stream of four million packets": ("import", _one_stream),
    "capture: the smallest packets": ("import", _smallest_packets),
    "capture: three hundred tags around nothing": ("import", _nested),
    "capture: a block longer than the file": ("import", _endless_block),
    "log: one line of 100 MB": ("import", _one_line),
    "log: nothing but line ends": ("import", _empty_lines),
    "log: four million answers": ("import", _many_lines),
    "log: 1.5 million hosts": ("import", _many_hosts),
    "site list: as many sites as fit": ("sites", _many_sites),
    "site list: quotes that do not end": ("sites", _quotes),
    "site list: as many columns as fit": ("sites", _columns),
    "record: 100 calls of 16 million packets": ("record", _swollen_record),
}


# What reads it, in a process of its own


def _read(kind: str, body: bytes) -> str:
    from tarnfell.core.codecs import find_codec

    if kind == "import":
        from tarnfell.core.imported import Choices
        from tarnfell.work.ingest.files import FileError, read_file

        try:
            _, result = read_file(body, "file", Choices(), find_codec)
        except FileError as error:
            return str(error)
        return f"read: {len(result.streams)} streams, {len(result.echoes)} logs"
    if kind == "sites":
        from tarnfell.server.brief.site_list import rows_of
        from tarnfell.server.http.api import Problem

        try:
            return f"read: {len(rows_of(body.decode()))} sites"
        except Problem as problem:
            return problem.detail
    from tarnfell.store.runs import Run
    from tarnfell.wire import WireError
    from tarnfell.work.ingest.uploads import judge_upload

    values = dict.fromkeys(Run.__dataclass_fields__)
    run = Run(**{**values, "id": 1, "calls": 100, "seconds": 300.0, "ptime_ms": 20, "video": ()})  # type: ignore[arg-type]
    try:
        judge_upload(run, body, find_codec("g711a"))
    except WireError as error:
        return str(error)
    return "read"


def _main(kind: str, name: str) -> None:
    import hashlib
    import re

    _read("import", b"PING")  # so that no time is of loading the program
    with contextlib.suppress(Exception):
        _read("sites", b"")

    body = Path(name).read_bytes()
    begun = time.perf_counter()
    hashlib.sha256(body).digest()
    hash_s = time.perf_counter() - begun
    begun = time.perf_counter()
    says = _read(kind, body)
    read_s = time.perf_counter() - begun
    # What the system tells of resource use would have the parent's peak in it.
    status = Path("/proc/self/status").read_text()
    peak_mib = int(re.findall(r"VmHWM:\s+(\d+)", status)[0]) / 1024
    print(json.dumps({"hash_s": hash_s, "read_s": read_s, "peak_mib": peak_mib, "says": says[:120]}))


if __name__ == "__main__":
    _main(*sys.argv[1:])
