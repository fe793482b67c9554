"""In whose name an engagement's reports are made."""

from __future__ import annotations

import base64
import binascii

from flask import Blueprint, g

from tarnfell.report.brand import MOST_BYTES, BrandError, check_colour, logo_of, own_address
from tarnfell.report.locales import LOCALES, localized, title_of
from tarnfell.server.access import require_engagement
from tarnfell.server.http.api import Problem, endpoint
from tarnfell.server.report.models.brands import BrandForm, BrandView, LocaleView
from tarnfell.store import brands as brand_store
from tarnfell.store import sites as site_store
from tarnfell.store.brands import Brand
from tarnfell.store.db import writing
from tarnfell.store.engagements import Engagement

blueprint = Blueprint("brands", __name__)

EXAMPLE = "3 November 2026, 14:05, 1,234.5"


@endpoint(blueprint, "GET", "/api/engagements/<slug>/brand", response=BrandView)
def show_brand(slug: str) -> BrandView:
    """Name, contact, colour and logo of an engagement's reports."""
    return _view(require_engagement(slug))


@endpoint(
    blueprint, "PUT", "/api/engagements/<slug>/brand", response=BrandView, needs="consultant", max_body=2 * MOST_BYTES
)
def change_brand(slug: str, body: BrandForm) -> BrandView:
    """Change in whose name reports are made. Those that were issued stay as they are."""
    engagement = require_engagement(slug)
    kept = brand_store.brand_of(g.db, engagement.id)
    colour = body.colour.strip().lower()
    try:
        check_colour(colour)
        address = own_address(body.address)
        logo = kept.logo if body.logo is None else logo_of(_bytes(body.logo)) if body.logo else ""
    except BrandError as error:
        raise Problem(422, str(error)) from None
    with writing(g.db):
        brand = Brand(body.name.strip(), body.contact.strip(), colour, logo, address, body.locale)
        brand_store.keep_brand(g.db, engagement.id, brand)
    return _view(engagement)


def _bytes(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        raise Problem(422, "The logo did not arrive whole. Choose it again.") from None


def _view(engagement: Engagement) -> BrandView:
    brand = brand_store.brand_of(g.db, engagement.id)
    sites = site_store.sites_of(g.db, engagement.id)
    return BrandView(
        engagement_name=engagement.name,
        name=brand.name,
        contact=brand.contact,
        colour=brand.colour,
        logo=brand.logo,
        address=brand.address,
        locale=brand.locale,  # type: ignore[arg-type]
        locales=[LocaleView(tag=tag, title=title_of(tag), example=localized(EXAMPLE, tag)) for tag in LOCALES],
        site=sites[0].slug if sites else None,
    )
