"""By what address others reach this server: as the operator says, or in a consultant's own name."""

from __future__ import annotations

from flask import current_app, g, request

from tarnfell.store import brands as brand_store


def address_here() -> str:
    """For probes, and for whoever is signed in: what the operator says, else what the request went to."""
    return address_told() or request.host_url.rstrip("/")


def address_for(engagement_id: int) -> str:
    """For people outside, of what is sent to them."""
    return origin_for(engagement_id) or request.host_url.rstrip("/")


def origin_for(engagement_id: int) -> str:
    """As ``address_for``; empty where only the browser of whoever asks knows by what address it got here."""
    return brand_store.brand_of(g.db, engagement_id).address or address_told()


def address_told() -> str:
    """What the operator says; empty where nothing is."""
    return str(current_app.config["PUBLIC_ADDRESS"] or "").rstrip("/")
