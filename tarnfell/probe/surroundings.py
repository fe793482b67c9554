"""What a probe can tell of where it stands: system, addresses, gateway, name servers, medium, time source.

Everything is read from the system, nothing is asked of the network, and nothing here fails: what a system does not
tell is left out and named under ``cannot``, so that nobody takes silence for an answer.
"""

from __future__ import annotations

import array
import ctypes
import os
import platform
import socket
import struct
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from tarnfell.media import host
from tarnfell.wire.kinds.surroundings import Surroundings

_MAX_ADDRESSES = 32
_SIOCGIFCONF, _SIOCGIFNETMASK = 0x8912, 0x891B
_ADJ_READ = 0
_STA_UNSYNC = 0x0040
_TIME_ERROR = 5


def surroundings(root: Path = Path("/")) -> Surroundings:
    """``root`` is where /proc, /sys, /etc, /run and /var are looked for."""
    gateway, interface = default_route(root) or (None, None)
    link = medium(root, interface) if interface else Medium()
    found = Surroundings(
        system=_system(root),
        python=platform.python_version(),
        host=socket.gethostname(),
        cpus=os.cpu_count(),
        addresses=tuple(addresses(root)),
        gateway=gateway,
        interface=interface,
        name_servers=tuple(_name_servers(root)),
        dhcp=_dhcp(root, interface) if interface else None,
        medium=link.kind,
        link_mbps=link.mbps,
        duplex=link.duplex,
        mtu=link.mtu,
        wifi_signal_dbm=link.wifi_signal_dbm,
        time_source=_time_source(root),
        clock_synchronised=_synchronised(),
        receive_stamps="kernel" if host.HERE.linux else "program",
    )
    return replace(found, cannot=tuple(_cannot(found)))


def default_route(root: Path) -> tuple[str, str] | None:
    """Gateway and interface of the IPv4 default route with the least metric, else the IPv6 one."""
    routes = []
    for line in _lines(root / "proc/net/route")[1:]:
        part = line.split()
        if len(part) >= 8 and part[1] == "00000000" and part[7] == "00000000" and int(part[3], 16) & 2:
            gateway = socket.inet_ntoa(struct.pack("<I", int(part[2], 16)))
            routes.append((int(part[6]), gateway, part[0]))
    if routes:
        return min(routes)[1:]
    for line in _lines(root / "proc/net/ipv6_route"):
        part = line.split()
        if len(part) >= 10 and part[0] == "0" * 32 and part[1] == "00" and part[4] != "0" * 32:
            return socket.inet_ntop(socket.AF_INET6, bytes.fromhex(part[4])), part[9]
    return None


def link_is_down(root: Path = Path("/")) -> bool:
    """The interface of the way out has no carrier: a cable that is out, Wi-Fi that is away. Where the system does not
    tell, it is not down."""
    route = default_route(root)
    return route is not None and _lines(root / "sys/class/net" / route[1] / "carrier")[:1] == ["0"]


def addresses(root: Path) -> list[str]:
    """``interface address/prefix`` of every address but loopback and link-local."""
    found = _ipv4_addresses()
    for line in _lines(root / "proc/net/if_inet6"):
        part = line.split()
        if len(part) == 6 and part[3] == "00":  # global scope
            address = socket.inet_ntop(socket.AF_INET6, bytes.fromhex(part[0]))
            found.append(f"{part[5]} {address}/{int(part[2], 16)}")
    return found[:_MAX_ADDRESSES]


def _ipv4_addresses() -> list[str]:
    if not host.HERE.linux:
        try:
            own = {info[4][0] for info in socket.getaddrinfo(socket.gethostname(), None, socket.AF_INET)}
        except OSError:
            return []
        return sorted(f"- {address}" for address in own if not str(address).startswith("127."))
    import fcntl

    found = []
    room = array.array("B", b"\0" * 40 * _MAX_ADDRESSES)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asker:
        try:
            request = struct.pack("iL", len(room), room.buffer_info()[0])
            used = struct.unpack("iL", fcntl.ioctl(asker, _SIOCGIFCONF, request))[0]
            for at in range(0, used, 40):
                name = bytes(room[at : at + 16]).split(b"\0")[0]
                address = socket.inet_ntoa(bytes(room[at + 20 : at + 24]))
                mask = fcntl.ioctl(asker, _SIOCGIFNETMASK, name.ljust(40, b"\0"))[20:24]
                if not address.startswith("127."):
                    found.append(f"{name.decode()} {address}/{bin(int.from_bytes(mask, 'big')).count('1')}")
        except OSError:
            pass  # an odd kernel: the rest still helps
    return found


class Medium(NamedTuple):
    """Wired or wireless, speed and duplex, signal where there is one."""

    kind: str | None = None
    mbps: int | None = None
    duplex: str | None = None
    mtu: int | None = None
    wifi_signal_dbm: int | None = None


def medium(root: Path, interface: str) -> Medium:
    about = root / "sys/class/net" / interface
    kind = signal = None
    if (about / "wireless").exists() or (about / "phy80211").exists():
        kind = "Wi-Fi"
        for line in _lines(root / "proc/net/wireless"):
            part = line.split()
            if part and part[0] == f"{interface}:" and len(part) >= 4:
                signal = round(float(part[3].rstrip(".")))
    elif (about / "tun_flags").exists():
        kind = "tunnel"
    elif (about / "device").exists() or _word(about / "type") == "1":
        kind = "Ethernet"
    mtu, speed, duplex = _word(about / "mtu"), _word(about / "speed"), _word(about / "duplex")
    return Medium(
        kind,
        int(speed) if speed.isdigit() and int(speed) > 0 else None,
        duplex if duplex in ("full", "half") else None,
        int(mtu) if mtu.isdigit() else None,
        signal,
    )


def _name_servers(root: Path) -> list[str]:
    # A stub on this machine hides the servers that are really asked; its own file names them.
    for file in ("run/systemd/resolve/resolv.conf", "etc/resolv.conf"):
        servers = [part[1] for part in map(str.split, _lines(root / file)) if part[:1] == ["nameserver"] and part[1:]]
        if servers:
            return servers[:8]
    return []


def _dhcp(root: Path, interface: str) -> str | None:
    """Whether the address was given by DHCP, as far as a lease file shows; None where no client is known."""
    index = _word(root / "sys/class/net" / interface / "ifindex")
    if index and (root / "run/systemd/netif/leases" / index).exists():
        return "yes"
    for folder, pattern in (
        ("run/NetworkManager", "devices/*"),
        ("var/lib/NetworkManager", f"*{interface}*.lease"),
        ("var/lib/dhcp", f"*{interface}*.leases"),
        ("var/lib/dhcpcd", f"*{interface}*.lease"),
    ):
        for file in (root / folder).glob(pattern):
            if folder != "run/NetworkManager":
                return "yes"
            if index and file.name == index and any("dhcp4" in line or "dhcp6" in line for line in _lines(file)):
                return "yes"
    return None


def _time_source(root: Path) -> str | None:
    """The program that keeps the clock, by its process."""
    known = {"chronyd": "chrony", "systemd-timesyn": "systemd-timesyncd", "ntpd": "ntpd", "openntpd": "OpenNTPD",
             "ptp4l": "PTP", "phc2sys": "PTP"}  # fmt: skip
    for file in (root / "proc").glob("[0-9]*/comm"):
        name = _word(file)
        if name in known:
            return known[name]
    return None


def _synchronised() -> bool | None:
    """Whether the kernel holds its clock to be synchronised (adjtimex)."""
    if not host.HERE.linux:
        return None

    class Timex(ctypes.Structure):
        _fields_ = (
            ("modes", ctypes.c_uint), ("offset", ctypes.c_long), ("freq", ctypes.c_long),
            ("maxerror", ctypes.c_long), ("esterror", ctypes.c_long), ("status", ctypes.c_int),
            ("rest", ctypes.c_long * 40),
        )  # fmt: skip

    try:
        kept = Timex(modes=_ADJ_READ)
        state = ctypes.CDLL(None).adjtimex(ctypes.byref(kept))
    except (OSError, AttributeError):
        return None
    return state not in (-1, _TIME_ERROR) and not kept.status & _STA_UNSYNC


def _system(root: Path) -> str:
    for line in _lines(root / "etc/os-release"):
        if line.startswith("PRETTY_NAME="):
            return f"{line.partition('=')[2].strip(chr(34))}, {platform.system()} {platform.release()}"
    return f"{platform.system()} {platform.release()}"


def _cannot(found: Surroundings) -> list[str]:
    """What this system does not tell or allow, in words."""
    limits = []
    if not host.HERE.linux:
        limits.append("stamp packets in the kernel: receive times include this program's own delay")
        limits.append("read the gateway, the medium and the time source")
    elif found.gateway is None:
        limits.append("find a default route: there is none")
    if found.medium == "Wi-Fi" and found.wifi_signal_dbm is None:
        limits.append("read the Wi-Fi signal")
    if found.medium == "Ethernet" and found.link_mbps is None:
        limits.append("read the speed of the link")
    if found.dhcp is None and host.HERE.linux:
        limits.append("tell whether its address came by DHCP")
    return limits


def _lines(file: Path) -> list[str]:
    try:
        return file.read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return []


def _word(file: Path) -> str:
    lines = _lines(file)
    return lines[0].strip() if lines else ""
