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
from pathlib import Path
from typing import Any

from tarnfell.media import host

_MAX_ADDRESSES = 32
_SIOCGIFCONF, _SIOCGIFNETMASK = 0x8912, 0x891B
_ADJ_READ = 0
_STA_UNSYNC = 0x0040
_TIME_ERROR = 5


def surroundings(root: Path = Path("/")) -> dict[str, Any]:
    """Plain values for the server. ``root`` is where /proc, /sys, /etc, /run and /var are looked for."""
    found: dict[str, Any] = {
        "system": _system(root),
        "python": platform.python_version(),
        "host": socket.gethostname(),
        "cpus": os.cpu_count(),
        "receive_stamps": "kernel" if host.HERE.linux else "program",
        "addresses": addresses(root),
        "name_servers": _name_servers(root),
    }
    way_out = default_route(root)
    if way_out:
        found["gateway"], found["interface"] = way_out
        found |= medium(root, way_out[1])
        found["dhcp"] = _dhcp(root, way_out[1])
    found["time_source"] = _time_source(root)
    found["clock_synchronised"] = _synchronised()
    found["cannot"] = _cannot(found)
    return {name: value for name, value in found.items() if value is not None}


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


def medium(root: Path, interface: str) -> dict[str, Any]:
    """Wired or wireless, speed and duplex, signal where there is one."""
    about = root / "sys/class/net" / interface
    found: dict[str, Any] = {}
    mtu = _word(about / "mtu")
    if mtu.isdigit():
        found["mtu"] = int(mtu)
    if (about / "wireless").exists() or (about / "phy80211").exists():
        found["medium"] = "Wi-Fi"
        for line in _lines(root / "proc/net/wireless"):
            part = line.split()
            if part and part[0] == f"{interface}:" and len(part) >= 4:
                found["wifi_signal_dbm"] = round(float(part[3].rstrip(".")))
    elif (about / "tun_flags").exists():
        found["medium"] = "tunnel"
    elif (about / "device").exists() or _word(about / "type") == "1":
        found["medium"] = "Ethernet"
    speed, duplex = _word(about / "speed"), _word(about / "duplex")
    if speed.isdigit() and int(speed) > 0:
        found["link_mbps"] = int(speed)
    if duplex in ("full", "half"):
        found["duplex"] = duplex
    return found


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


def _cannot(found: dict[str, Any]) -> list[str]:
    """What this system does not tell or allow, in words."""
    limits = []
    if not host.HERE.linux:
        limits.append("stamp packets in the kernel: receive times include this program's own delay")
        limits.append("read the gateway, the medium and the time source")
    elif "gateway" not in found:
        limits.append("find a default route: there is none")
    if found.get("medium") == "Wi-Fi" and "wifi_signal_dbm" not in found:
        limits.append("read the Wi-Fi signal")
    if found.get("medium") == "Ethernet" and "link_mbps" not in found:
        limits.append("read the speed of the link")
    if found.get("dhcp") is None and host.HERE.linux:
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
