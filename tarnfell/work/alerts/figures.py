"""What a monitoring program may read of an engagement: figures as they stand, in the text form of OpenMetrics."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

import numpy as np
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector, CollectorRegistry

from tarnfell.core.alerts.rules import sentence
from tarnfell.core.alerts.spells import MINUTE_US
from tarnfell.store import alerts as alert_store
from tarnfell.store import calls as call_store
from tarnfell.store import cells as cell_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.probes import Probe
from tarnfell.store.sites import Site
from tarnfell.store.watches import Watch
from tarnfell.work.placing.presence import is_online
from tarnfell.work.watch import cells
from tarnfell.work.watch.reading import named

CONTENT_TYPE = CONTENT_TYPE_LATEST
RECENT_US = 10 * MINUTE_US


def openmetrics(db: sqlite3.Connection, engagement_id: int, at_us: int) -> str:
    registry = CollectorRegistry(auto_describe=False)
    registry.register(_Figures(db, engagement_id, at_us))
    text: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return text.decode()


class _Figures(Collector):
    def __init__(self, db: sqlite3.Connection, engagement_id: int, at_us: int) -> None:
        self._db, self._engagement_id, self._at_us = db, engagement_id, at_us

    def collect(self) -> Iterator[Metric]:
        sites = site_store.sites_of(self._db, self._engagement_id)
        probes = [(site, probe) for site in sites for probe in probe_store.probes_of(self._db, site.id)]
        yield self._online(probes)
        watched = [(site, probe, w) for site, probe in probes if (w := watch_store.watch_of(self._db, probe.id))]
        yield self._newest(watched)
        yield from self._places(watched)
        yield self._calls(sites)
        yield self._alerts(sites)

    def _online(self, probes: list[tuple[Site, Probe]]) -> Metric:
        told = GaugeMetricFamily("tarnfell_probe_online", "1 while a probe is in contact.", labels=["site", "probe"])
        for site, probe in probes:
            told.add_metric([site.slug, probe.name], float(is_online(probe)))
        return told

    def _newest(self, watched: list[tuple[Site, Probe, Watch]]) -> Metric:
        told = GaugeMetricFamily(
            "tarnfell_watch_last_sample_timestamp", "When the newest sample of a watch was taken.",
            labels=["site", "probe"], unit="seconds",
        )  # fmt: skip
        for site, probe, watch in watched:
            newest = watch_store.newest_us(self._db, watch.id)
            if newest is not None:
                told.add_metric([site.slug, probe.name], newest / 1e6)
        return told

    def _places(self, watched: list[tuple[Site, Probe, Watch]]) -> Iterator[Metric]:
        """Of the newest ten whole minutes there are samples of in the last twenty."""
        labels = ["site", "probe", "role", "place"]
        sent = GaugeMetricFamily("tarnfell_watch_sent", "Packets sent in the newest ten minutes.", labels=labels)
        lost = GaugeMetricFamily("tarnfell_watch_loss", "Share of them lost.", labels=labels, unit="ratio")
        trip = GaugeMetricFamily(
            "tarnfell_watch_round_trip", "Median round trip of them, of minutes.", labels=labels, unit="seconds"
        )
        for site, probe, watch in watched:
            places = cell_store.places_of(self._db, watch.id)
            names = named(self._db, places)
            found = cell_store.minutes_between(self._db, watch.id, self._at_us - 2 * RECENT_US, self._at_us)
            table = cells.minutes_table(found, len(places))
            for place in places:
                rows = table[:, place.number].reshape(-1, len(cells.FIGURES))
                rows = rows[rows[:, 0] > 0][-cells.MINUTES :]
                if not len(rows):
                    continue
                own = [site.slug, probe.name, place.role, names[place.number].name]
                sent.add_metric(own, float(rows[:, 0].sum()))
                lost.add_metric(own, float(rows[:, 1].sum() / rows[:, 0].sum()))
                delays = cells.rtt_ms(rows[:, 3])
                if not np.isnan(delays).all():
                    trip.add_metric(own, round(float(np.nanmedian(delays)) / 1000, 6))
        yield from (sent, lost, trip)

    def _calls(self, sites: list[Site]) -> Metric:
        told = GaugeMetricFamily(
            "tarnfell_calls_mos", "Median MOS of the newest test's calls, of the direction that had the lower.",
            labels=["site"],
        )  # fmt: skip
        for site in sites:
            newest = call_store.tests_since(self._db, site.id, self._at_us, least=1)
            if newest:
                told.add_metric([site.slug], newest[-1].mos)
        return told

    def _alerts(self, sites: list[Site]) -> Metric:
        told = GaugeMetricFamily("tarnfell_alerts_open", "Alerts that are open.", labels=["site", "rule"])
        for rule in alert_store.rules_at_work(self._db, self._engagement_id):
            for site in sites:
                if rule.spec.site_id in (None, site.id):
                    found = alert_store.alerts_since(self._db, rule.id, site.id, self._at_us)
                    told.add_metric(
                        [site.slug, f"{rule.id}: {sentence(rule.spec.rule)}"],
                        float(sum(one.ended_us is None for one in found)),
                    )
        return told
