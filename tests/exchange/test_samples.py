"""Samples of a watch as a file: what is read, and what is refused with its line."""

from __future__ import annotations

import io
from datetime import UTC, datetime

import pytest

from tarnfell.core.days.rounds import Place, Rounds
from tarnfell.exchange.samples import NotSamples, has_samples_header, read_samples

HEAD = "at,target,role,rtt_ms\n"
LINE = "2026-03-02T09:00:00Z,192.0.2.1,gateway,1.5\n"


def read(text: str) -> Rounds:
    return read_samples(io.StringIO(text))


def test_lines_become_rounds_from_the_inside_out() -> None:
    rounds = read(
        HEAD + "2026-03-02T09:00:01.010+00:00,203.0.113.10,far-end,\n" + LINE
        + "2026-03-02T10:00:00.004+01:00,203.0.113.10,far-end,31.25\n\n2026-03-02T09:00:01Z,192.0.2.1,gateway,0\n"
    )  # fmt: skip
    assert rounds.places == (Place("gateway", "192.0.2.1"), Place("far-end", "203.0.113.10"))
    nine = int(datetime(2026, 3, 2, 9, tzinfo=UTC).timestamp() * 1e6)
    assert rounds.at_us.tolist() == [nine, nine + 1_000_000]
    assert rounds.rtt_ms[0].tolist() == [1.5, 0]
    assert rounds.rtt_ms[1, 0] == 31.25
    assert rounds.lost.tolist() == [[False, False], [False, True]]


def test_columns_may_stand_in_any_order_beside_others() -> None:
    rounds = read("note,rtt_ms,ROLE,at,target\nx, 2.5 ,edge,2026-03-02T09:00:00Z, 198.51.100.1 \n")
    assert (rounds.places, rounds.rtt_ms.tolist()) == ((Place("edge", "198.51.100.1"),), [[2.5]])


def test_one_role_may_have_several_targets_and_one_target_several_roles() -> None:
    lines = [
        f"2026-03-02T09:00:00Z,{target},{role},1\n"
        for target, role in (("a", "outside"), ("b", "outside"), ("a", "edge"))
    ]
    assert [place.name for place in read(HEAD + "".join(lines)).places] == ["a", "a", "b"]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "A first line with at,target,role,rtt_ms was expected."),
        ("at,target,role\n", "A first line with"),
        (HEAD, "There are no samples in the file."),
        (
            HEAD + LINE + "2026-03-02T09:00:00,192.0.2.1,gateway,1\n",
            "Line 3: “2026-03-02T09:00:00” is no time with a zone",
        ),
        (HEAD + "yesterday,192.0.2.1,gateway,1\n", "Line 2: “yesterday” is no time"),
        (HEAD + LINE + "\n2026-03-02T09:00:01Z,192.0.2.1,gateway,-1\n", "Line 4: “-1” is no round trip"),
        (HEAD + "2026-03-02T09:00:01Z,192.0.2.1,gateway,nan\n", "is no round trip"),
        (HEAD + "2026-03-02T09:00:01Z,192.0.2.1,gateway,600001\n", "is no round trip"),
        (HEAD + "2026-03-02T09:00:01Z,192.0.2.1,router,1\n", "Line 2: “router” is no role; one of gateway, edge,"),
        (HEAD + "2026-03-02T09:00:01Z, ,gateway,1\n", "Line 2 does not name its target."),
        (HEAD + LINE + "2026-03-02T09:00:01Z,192.0.2.1\n", "Line 3 has not all columns."),
        (
            HEAD + "".join(f"2026-03-02T09:00:01Z,h{i},outside,1\n" for i in range(65)),
            "Line 66: there are more than 64",
        ),
    ],
)
def test_what_cannot_be_read_is_refused_with_its_line(text: str, words: str) -> None:
    with pytest.raises(NotSamples) as refused:
        read(text)
    assert words in str(refused.value)


def test_a_file_is_known_by_its_first_line() -> None:
    assert has_samples_header(HEAD)
    assert has_samples_header("role, AT ,target,rtt_ms,bytes\r\n")
    assert not has_samples_header("seq,sent_us,recv_us\n")


def test_the_first_instant_of_unix_time_is_one() -> None:
    rounds = read(HEAD + "1970-01-01T00:00:00Z,192.0.2.1,gateway,1.5\n1969-12-31T23:59:59Z,192.0.2.1,gateway,2\n")
    assert rounds.at_us.tolist() == [-1_000_000, 0]
