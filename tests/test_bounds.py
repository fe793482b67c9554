"""The bounds that docs/operations.md tells an operator are the bounds that are kept."""

from __future__ import annotations

from pathlib import Path

import pytest

from tarnfell.clerk import looks
from tarnfell.core import trace
from tarnfell.exchange import echolog, records
from tarnfell.farend import daemon
from tarnfell.probe import spool
from tarnfell.server.alerts import rules
from tarnfell.server.brief import site_list
from tarnfell.server.http import app, serve, throttle
from tarnfell.server.load import imports as server_imports
from tarnfell.server.load import run_capture
from tarnfell.store import imports, tasks
from tarnfell.websocket import serve as sockets
from tarnfell.wire import browser
from tarnfell.wire.kinds import fill, selfcheck, signalling, watch
from tarnfell.work import answers
from tarnfell.work.alerts import trial
from tarnfell.work.closeup import call, video
from tarnfell.work.evidence import computed
from tarnfell.work.ingest import browsers, deliveries, uploads
from tarnfell.work.placing import browser_plan
from tarnfell.work.watch import packing, reading, retention, samples

TOLD = (Path(__file__).parents[1] / "docs" / "operations.md").read_text()
KIB, MIB = 1 << 10, 1 << 20
DAY_US = 86_400_000_000


@pytest.mark.parametrize(
    ("kept", "bound", "words"),
    [
        (app.MAX_BODY_BYTES, 64 * KIB, "| a request | 64 KiB; records and imported files 256 MiB"),
        (serve.MAX_UPLOAD_BYTES, 256 * MIB, "records and imported files 256 MiB"),
        (serve.CONNECTIONS, 800, "| connections | 800 at once"),
        (serve.IDLE_S, 60, "one that says nothing for a minute is closed"),
        (
            throttle.MAX_FAILURES,
            10,
            "| wrong passwords | 10 in five minutes from one peer for one address, 50 from one",
        ),
        (throttle.MAX_FAILURES_OF_PEER, 50, "50 from one peer"),
        (throttle.WINDOW_S, 300, "in five minutes"),
        (daemon.MAX_SESSIONS, 16, "| a far end | 16 sessions of calls, 24 with browsers, 64 of time stamps"),
        (daemon.MAX_BROWSERS, 24, "24 with browsers"),
        (browser.MOST_CALLS, 20, "| a test from a browser | 20 calls of two minutes"),
        (browser.MAX_SECONDS, 120, "20 calls of two minutes"),
        (sockets.MOST_AT_ONCE, 8, "over WebSocket 8 tests at once on a server"),
        (sockets.MOST_MESSAGE, 4 * KIB, "messages of 4 KiB"),
        (browsers.MAX_BYTES, 16 * MIB, "16 MiB of packets delivered"),
        (browser_plan.FILL_STREAMS, 4, "in four streams"),
        (browser.PIECE_BYTES, 4 * MIB, "pieces of 4 MiB"),
        (rules.MOST_RULES, 50, "| rules for alerts | 50 to an engagement"),
        (looks.AT_ONCE, 4, "| looks from the server | 4 at once"),
        (computed.CALLS_AT_ONCE, 400, "| an evaluation | up to 400 calls in the request"),
        (trial.SITES_AT_ONCE, 3, "tried on the past week of up to 3 sites"),
        (call.CallLook.at_once, 32_000, "| up to 32,000 packets of a call and"),
        (video.VideoLook.at_once, 60_000, "and 60,000 of a stream"),
        (answers.MOST_KEPT, 12, "the last 12 calls and 12 streams"),
        (run_capture.MAX_EXPORTED, 2_000_000, "| a run as a capture | up to 2,000,000 packets"),
        (tasks.MAX_TRIES, 3, "one that ends the clerk is tried three times"),
        (imports.MAX_TRIES, 5, "| an imported file | above 128 KiB it is read by the clerk after it was taken; one"),
        (server_imports.READ_AT_ONCE_BYTES, 128 * KIB, "above 128 KiB it is read by the clerk"),
        (records.MAX_PACKETS, 5_000_000, "| an imported capture | 5 million packets"),
        (echolog.MAX_LINES, 8_000_000, "| an imported log of ping | 8 million lines"),
        (echolog.MAX_LINE, 1000, "a line above 1 000 characters is not looked at"),
        (deliveries.MAX_TRIES, 5, "| a record that ends the clerk | tried five times"),
        (samples.MAX_BYTES, MIB, "| a batch of samples | 1 MiB, 4 096 rows, a day"),
        (watch.MAX_BATCH, 4096, "4 096 rows"),
        (watch.MOST_TOGETHER, 100, "100 of them, 65 536 rows, together"),
        (samples.MOST_VALUES, 65_536 * 9, "100 of them, 65 536 rows, together"),
        (samples.LONGEST_US, DAY_US, "a day from its first to its last"),
        (watch.MAX_TARGETS, 8, "| places of a watch | 8 far ends and 8 addresses at a time, 64 in all its time"),
        (watch.MAX_ECHOES, 8, "8 addresses at a time"),
        (packing.MOST_PLACES, 64, "64 in all its time"),
        (reading.LONGEST_US, 14 * DAY_US, "the newest 14 days are read at a time"),
        (retention.FEWEST_DAYS, 15, "| samples of a watch | for ever, or `--keep-samples DAYS` (15 at least)"),
        (spool.MOST_SAMPLE_BYTES, 64 * MIB, "| a probe's disk | samples 64 MiB"),
        (echolog.MAX_SAMPLES, 1_000_000, "1 million samples"),
        (site_list.MAX_SITES, 1000, "| a list of sites | 1 000 sites, 20 000 lines"),
        (site_list.LINES_A_SITE * site_list.MAX_SITES, 20_000, "20 000 lines"),
        (uploads.MOST_OF_PLAN, 4, "four times the packets its run planned"),
        (uploads.LEAST_VALUES, 20_000, "at least 20 000 values"),
        # Of what is not told there, only that it is not changed by chance.
        (trace.MAX_SPAN_US, 8 * DAY_US, ""),
        (signalling.MAX_MESSAGES, 80, ""),
        (fill.MAX_STREAMS, 16, ""),
        (selfcheck._WORDS, 500, ""),
    ],
)
def test_a_bound_is_kept_as_it_is_told(kept: int, bound: int, words: str) -> None:
    assert kept == bound
    assert words in TOLD
