"""Lists of services: both forms read and written, and a sentence for what is none."""

from __future__ import annotations

import pytest

from tarnfell.exchange.services import NotAList, as_csv, as_toml, read_services
from tarnfell.wire.kinds.check import ServiceAsked

LIST = (
    ServiceAsked("Meetings “north”", "meet.example", 443, "https", "ab" * 32, "/health?x=1"),
    ServiceAsked("=Signalling, TLS", "sip.example", 5061, "tls"),
    ServiceAsked("Names", "2001:db8::53", 53, "dns"),
)


def test_both_forms_come_back_as_they_were() -> None:
    assert read_services(as_toml(LIST)) == LIST
    assert read_services(as_csv(LIST)) == LIST
    assert "\n'=Signalling" not in as_toml(LIST)
    assert "'=Signalling" in as_csv(LIST)  # a spreadsheet must not run it


def test_a_csv_may_have_its_columns_in_any_order_other_delimiters_and_empty_lines() -> None:
    text = "\ufeffPort;Name;Host\r\n443;Meetings;meet.example\r\n;;\r\n"
    assert read_services(text) == (ServiceAsked("Meetings", "meet.example", 443),)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "holds no service"),
        ("name,host,port\n", "holds no service"),
        ("service = 5", "a table of its own"),
        ("hello world", "neither TOML nor a CSV whose first line names name, host, port"),
        ("name,host,port\nMeetings,meet.example,70000", "too large: 70000"),
        ("name,host,port\nMeetings,meet.example,²", "Line 2: “²” is no port."),
        ("name,host,port\nMeetings,meet.example,443,tls", "Line 2 has more cells"),
        ("name,host,port,colour\nMeetings,meet.example,443,red", "“colour”, which is not known"),
        ('name,host,port\n"Meetings,meet.example,443', "cannot be read as CSV"),
        ('[[service]]\nname = "a"\nhost = "b"\nport = 80\npath = "x"', "begins with “/”"),
        ('[[service]]\nname = "a"\nhost = ""\nport = 80', "too small"),
        ("name,host,port\n" + "a,b,1\n" * 501, "at most 500"),
    ],
)
def test_what_is_no_list_gets_a_sentence(text: str, says: str) -> None:
    with pytest.raises(NotAList) as raised:
        read_services(text)
    assert says in str(raised.value)
