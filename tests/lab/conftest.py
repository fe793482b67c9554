"""Hosts with stacks of their own: network namespaces in a row, each of a test and gone after it."""

from __future__ import annotations

import itertools
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests import rig

CERTIFICATE = Path(__file__).parents[1] / "reference" / "certificate.pem"
"""With its private key; nobody vouches for it."""
NEEDS_ROOT = pytest.mark.skipif(os.geteuid() != 0 or not shutil.which("ip"), reason="needs root and iproute2")


def sh(command: str, **options: str) -> str:
    done = subprocess.run(command.split(), check=True, capture_output=True, text=True, timeout=rig.HANGS_S, **options)  # type: ignore[call-overload]
    return str(done.stdout)


@dataclass(frozen=True)
class Row:
    """Namespaces by their part, each linked to the next; nets are 192.0.2.0/24, 198.51.100.0/24, 203.0.113.0/24.

    Left of a link is .1, right of it .2. Interfaces are "l" (to the left) and "r" (to the right).
    """

    names: dict[str, str]
    address: dict[str, str]
    """Of each part, on the link to its left; of the first, on the link to its right."""

    def inside(self, part: str) -> tuple[str, ...]:
        return ("ip", "netns", "exec", self.names[part])

    def run(self, part: str, command: str) -> str:
        return sh(f"ip netns exec {self.names[part]} {command}")

    def nft(self, part: str, rules: str) -> None:
        subprocess.run([*self.inside(part), "nft", "-f", "-"], input=rules, text=True, check=True, timeout=rig.HANGS_S)

    def await_port(self, part: str, port: int) -> None:
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            if f":{port} " in self.run(part, "ss -ltnu"):
                return
            time.sleep(0.1)
        raise AssertionError(f"nothing listens on port {port} in {part}")


_rows = itertools.count()
NETS = ("192.0.2", "198.51.100", "203.0.113")


@contextmanager
def row_of(*parts: str) -> Iterator[Row]:
    """Forwarding hosts in between, with routes to all nets."""
    names = {part: f"tf{os.getpid() % 10000}-{next(_rows)}{part[:4]}" for part in parts}
    address = {parts[0]: f"{NETS[0]}.1"} | {part: f"{net}.2" for net, part in zip(NETS, parts[1:], strict=False)}
    try:
        for name in names.values():
            sh(f"ip netns add {name}")
            sh(f"ip -n {name} link set lo up")
            sh(f"ip netns exec {name} sysctl -qw net.ipv4.ip_forward=1")
        for net, left, right in zip(NETS, parts, parts[1:], strict=False):
            sh(f"ip link add r netns {names[left]} type veth peer name l netns {names[right]}")
            for part, link, host in ((left, "r", 1), (right, "l", 2)):
                sh(f"ip -n {names[part]} addr add {net}.{host}/24 dev {link}")
                sh(f"ip -n {names[part]} link set dev {link} up")
        for place, part in enumerate(parts):
            if place + 1 < len(parts):
                sh(f"ip -n {names[part]} route add default via {NETS[place]}.2")
            for net in NETS[: max(0, place - 1)]:
                sh(f"ip -n {names[part]} route add {net}.0/24 via {NETS[place - 1]}.1")
        yield Row(names, address)
    finally:
        for name in names.values():
            subprocess.run(["ip", "netns", "del", name], check=False, capture_output=True, timeout=rig.HANGS_S)


@contextmanager
def far_end_in(row: Row, part: str, folder: Path) -> Iterator[None]:
    with rig.far_end(folder, row.address[part], prefix=row.inside(part)):
        row.await_port(part, rig.CONTROL_PORT)
        yield


def running(row: Row, host: str, *command: str) -> AbstractContextManager[object]:
    """A server in the foreground, at that host."""
    return rig.running(*row.inside(host), *command, stdout=subprocess.DEVNULL)


_NGINX = """
daemon off; pid {folder}/nginx.pid; error_log {folder}/error.log;
events {{}}
http {{
  access_log off;
  client_body_temp_path {folder}/b; proxy_temp_path {folder}/p; fastcgi_temp_path {folder}/f;
  uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;
  {server}
}}
"""


def nginx(row: Row, host: str, folder: Path, server: str) -> AbstractContextManager[object]:
    """``server`` is one of its blocks of that name."""
    conf = folder / "nginx.conf"
    conf.write_text(_NGINX.format(folder=folder, server=server))
    return running(row, host, "nginx", "-c", str(conf), "-p", str(folder))
