"""What a probe reads of its system, from a made-up system laid out as files."""

from __future__ import annotations

from pathlib import Path

import pytest

from tarnfell.probe import surroundings as around
from tarnfell.probe.surroundings import Medium, addresses, default_route, medium, surroundings

ROUTES = """Iface	Destination	Gateway 	Flags	RefCnt	Use	Metric	Mask		MTU	Window	IRTT
wlan0	00000000	FE0200C0	0003	0	0	600	00000000	0	0	0
eth0	00000000	010200C0	0003	0	0	100	00000000	0	0	0
eth0	000200C0	00000000	0001	0	0	100	00FFFFFF	0	0	0
"""
ROUTES6 = (
    "00000000000000000000000000000000 00 00000000000000000000000000000000 00 "
    "20010db8000000000000000000000001 00000400 00000001 00000000 00450003     eth1\n"
)


def lay(root: Path, files: dict[str, str]) -> Path:
    for name, text in files.items():
        file = root / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)
    return root


def test_the_way_out_with_the_least_metric(tmp_path: Path) -> None:
    assert default_route(lay(tmp_path, {"proc/net/route": ROUTES})) == ("192.0.2.1", "eth0")


def test_an_ipv6_way_out_where_there_is_no_other(tmp_path: Path) -> None:
    assert default_route(lay(tmp_path, {"proc/net/ipv6_route": ROUTES6})) == ("2001:db8::1", "eth1")
    assert default_route(tmp_path / "empty") is None


def test_a_wire(tmp_path: Path) -> None:
    files = {"speed": "1000\n", "duplex": "half\n", "mtu": "1492\n", "type": "1\n"}
    lay(tmp_path, {f"sys/class/net/eth0/{name}": text for name, text in files.items()})
    found = medium(tmp_path, "eth0")
    assert found == Medium("Ethernet", 1000, "half", 1492, None)


def test_a_radio(tmp_path: Path) -> None:
    table = "Inter-| sta-\n face | tus\n wlan0: 0000   52.  -58.  -256        0      0\n"
    lay(tmp_path, {"sys/class/net/wlan0/phy80211/name": "phy0", "proc/net/wireless": table,
                   "sys/class/net/wlan0/speed": "-1\n"})  # fmt: skip
    assert medium(tmp_path, "wlan0") == Medium("Wi-Fi", wifi_signal_dbm=-58)


def test_global_ipv6_addresses_only(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(around, "_ipv4_addresses", lambda: ["eth0 192.0.2.9/24"])
    table = (
        "20010db8000000000000000000000009 02 40 00 80     eth0\nfe800000000000000000000000000009 02 40 20 80     eth0\n"
    )
    found = addresses(lay(tmp_path, {"proc/net/if_inet6": table}))
    assert found == ["eth0 192.0.2.9/24", "eth0 2001:db8::9/64"]


def test_a_whole_system(tmp_path: Path) -> None:
    lay(
        tmp_path,
        {
            "proc/net/route": ROUTES,
            "proc/812/comm": "chronyd\n",
            "etc/os-release": 'NAME="Debian"\nPRETTY_NAME="Debian GNU/Linux 12"\n',
            "etc/resolv.conf": "nameserver 127.0.0.53\n",
            "run/systemd/resolve/resolv.conf": "# real ones\nnameserver 192.0.2.53\nnameserver 2001:db8::53\n",
            "sys/class/net/eth0/type": "1",
            "sys/class/net/eth0/ifindex": "2",
            "run/systemd/netif/leases/2": "ADDRESS=192.0.2.9",
        },
    )
    found = surroundings(tmp_path)
    assert found.name_servers == ("192.0.2.53", "2001:db8::53")
    assert (found.gateway, found.dhcp, found.time_source) == ("192.0.2.1", "yes", "chrony")
    assert (found.system or "").startswith("Debian GNU/Linux 12")
    assert found.cannot == ("read the speed of the link",)


def test_a_system_that_tells_nothing(tmp_path: Path) -> None:
    found = surroundings(tmp_path)
    assert found.gateway is None
    assert "find a default route: there is none" in found.cannot


def test_this_system_is_read_without_failing() -> None:
    found = surroundings()
    assert found.python
    assert isinstance(found.addresses, tuple)
