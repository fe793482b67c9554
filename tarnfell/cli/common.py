"""What the verbs share: exit codes, how a report is printed, how addresses and ranges are read."""

from __future__ import annotations

import argparse
import gc
import json
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from tarnfell.wire.control import DEFAULT_PORT

DONE, FAILED, WRONG_USE = 0, 1, 2


@contextmanager
def loading() -> Iterator[None]:
    """What is loaded here stays until the process ends. To look through it for what can be let go of takes part of the
    loading, and 70 ms in the middle of some request ever after."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()


def host_port(text: str, usual: int = DEFAULT_PORT) -> tuple[str, int]:
    """HOST, HOST:PORT or [IPV6]:PORT."""
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        text_port = rest.lstrip(":")
    elif text.count(":") == 1:
        host, _, text_port = text.partition(":")
    else:
        host, text_port = text, ""
    if text_port and not (text_port.isdigit() and 0 < int(text_port) < 65536):
        raise ValueError(f"“{text_port}” is not a port: choose 1 to 65535.")
    if not host:
        raise ValueError("Name a host.")
    return host, int(text_port or usual)


def port_range(text: str) -> tuple[int, int]:
    low, dash, high = text.partition("-")
    if not (dash and low.isdigit() and high.isdigit() and 0 < int(low) < int(high) < 65536):
        raise ValueError(f"“{text}” is not a range of ports, such as 20000-20399.")
    return int(low), int(high)


def stream_text(row: Mapping[str, Any]) -> str:
    if row.get("mos") is None:
        return str(row.get("reason") or "Nothing arrived.")
    delay = "–" if row["delay_min_ms"] is None else f"{row['delay_min_ms']:.1f}"
    return (
        f"{row['mos']:.2f} MOS · {row['sent']} sent, {row['lost']} lost, {row['late']} late · "
        f"delay from {delay} ms, p95 +{row['pdv_p95_ms']:.1f} ms · jitter {row['jitter_ms']:.1f} ms"
    )


def print_report(
    options: argparse.Namespace, report: Mapping[str, Any], text: Callable[[Mapping[str, Any]], str]
) -> None:
    print(json.dumps(report, indent=1, ensure_ascii=False) if options.json else text(report))
