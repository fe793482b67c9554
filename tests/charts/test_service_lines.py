"""Services as lines of text: what a line says, and what is no service."""

from __future__ import annotations

from typing import Any

import pytest

from tests.charts.test_geometry import js

FILE = "../site/check/service-lines"
DIGEST = "ab" * 32


def service(name: str, host: str, port: int, protocol: str, sha256: str = "", path: str = "/") -> dict[str, Any]:
    return {"name": name, "host": host, "port": port, "protocol": protocol, "sha256": sha256, "path": path}


def test_lines_say_services_and_are_said_by_them() -> None:
    told = {
        "Meetings meet.example 443 https /health " + DIGEST: service(
            "Meetings", "meet.example", 443, "https", DIGEST, "/health"
        ),
        "Signalling, TLS sip.example 5061 tls": service("Signalling, TLS", "sip.example", 5061, "tls"),
        "tcp of old host.example 80 HTTP /": service("tcp of old", "host.example", 80, "http"),
    }
    found = js(FILE, "servicesOf", "\n\n".join(told))
    assert found == list(told.values())
    again = js(FILE, "servicesOf", js(FILE, "textOf", found))
    assert again == found


@pytest.mark.parametrize(
    "line",
    [
        "Meetings meet.example 443", "Meetings 443 tls", "meet.example 443 tls", "Meetings meet.example 0 tls",
        "Meetings meet.example 65536 tcp", "Meetings meet.example 443 tcp " + DIGEST,
        "Meetings meet.example 443 tls ab:cd", "Meetings meet.example 443 tls /health",
        "Meetings meet.example 1 tcp more",
    ],
)  # fmt: skip
def test_what_is_no_service_is_said_with_its_line(line: str) -> None:
    assert js(FILE, "servicesOf", line).startswith(f"“{line}” is no service: write name, host, port")
