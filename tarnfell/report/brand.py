"""What a consultant's own name, colour and logo may be, so that no report is harmed by them.

A logo is never taken as it came. PNG and JPEG are drawn anew, without what else was in the file. An SVG may hold shapes
and nothing else: no script, text, style sheet, picture or address; one that holds more is refused with what it was.
"""

from __future__ import annotations

import base64
import io
import re
from dataclasses import dataclass
from urllib.parse import urlsplit
from xml.etree import ElementTree

from markupsafe import Markup

from tarnfell.report.locales import OWN

MOST_BYTES = 300_000
MOST_PIXELS = 16_000_000
LARGEST = (1200, 400)
"""Pixels: three times as many as the report shows."""
LEAST_CONTRAST = 4.5
"""Of text on the paper (WCAG 2.2, 1.4.3): the colour is used for words as well."""
PAPERS = ((0xFD, 0xFA, 0xF2), (0xFF, 0xFF, 0xFF))

_SVG = "http://www.w3.org/2000/svg"
_SHAPES = frozenset(
    {"svg", "g", "path", "rect", "circle", "ellipse", "line", "polyline", "polygon", "defs", "clipPath", "title",
     "desc", "linearGradient", "radialGradient", "stop"}
)  # fmt: skip
_ATTRIBUTES = frozenset(
    {"id", "d", "x", "y", "x1", "y1", "x2", "y2", "cx", "cy", "r", "rx", "ry", "fx", "fy", "width", "height", "points",
     "viewBox", "transform", "fill", "stroke", "stroke-width", "stroke-linecap", "stroke-linejoin", "stroke-miterlimit",
     "stroke-dasharray", "stroke-dashoffset", "fill-rule", "clip-rule", "clip-path", "opacity", "fill-opacity",
     "stroke-opacity", "offset", "stop-color", "stop-opacity", "gradientUnits", "gradientTransform", "clipPathUnits",
     "spreadMethod", "preserveAspectRatio", "version"}
)  # fmt: skip
_OWN = re.compile(r"url\(\s*[\"']?#[\w-]+[\"']?\s*\)")
"""A gradient or clip of the same drawing."""


@dataclass(frozen=True)
class Brand:
    """In whose name a report is made; all of it may be empty."""

    name: str = ""
    contact: str = ""
    colour: str = ""
    """As #1a2b3c, checked."""
    logo: str = ""
    """A ``data:`` address, checked."""
    locale: str = OWN
    """In which dates and numbers are written, one of ``LOCALES``."""


NO_BRAND = Brand()


def letterhead(brand: Brand) -> Markup:
    """Above the report's title; nothing without a name or a logo."""
    if not brand.name and not brand.logo:
        return Markup("")
    logo = Markup('<img src="{}" alt="">').format(brand.logo) if brand.logo else ""
    return Markup('<p class="letterhead">{}<span>{}</span></p>').format(logo, brand.name)


def brand_style(brand: Brand) -> Markup:
    return Markup(f":root {{ --accent: {brand.colour}; }}") if brand.colour else Markup("")


def byline(brand: Brand) -> str:
    """At the report's end."""
    said = " · ".join(part for part in (brand.name, brand.contact) if part)
    return f"{said}. " if said else ""


class BrandError(ValueError):
    """A colour or logo that cannot be used; the text says why and what can."""


def check_colour(colour: str) -> None:
    """Raises BrandError unless it is empty, or written as #1a2b3c and readable on paper."""
    if not colour:
        return
    if not re.fullmatch(r"#[0-9a-fA-F]{6}", colour):
        raise BrandError("Write the colour as #1a2b3c.")
    ratio = min(contrast(_parts(colour), paper) for paper in PAPERS)
    if ratio < LEAST_CONTRAST:
        raise BrandError(
            f"{colour} is too pale to be read on paper: its contrast is {ratio:.1f} to 1, {LEAST_CONTRAST} is needed. "
            "Choose a darker one."
        )


def own_address(text: str) -> str:
    """An address that links may begin with, without a slash at its end. Raises BrandError."""
    if not text:
        return ""
    try:
        parts = urlsplit(text.rstrip("/"))
        is_whole = parts.scheme in ("http", "https") and parts.hostname and parts.port != 0
    except ValueError:
        is_whole = False
    if not is_whole or text.rstrip("/") != f"{parts.scheme}://{parts.netloc}" or "@" in parts.netloc:
        raise BrandError("Write the address of links as https://voice.example, with nothing after the name.")
    return text.rstrip("/")


def _parts(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


def contrast(one: tuple[int, int, int], other: tuple[int, int, int]) -> float:
    """Ratio, 1 to 21 (WCAG 2.2, “contrast ratio”)."""
    low, high = sorted((_luminance(one), _luminance(other)))
    return (high + 0.05) / (low + 0.05)


def _luminance(colour: tuple[int, int, int]) -> float:
    linear = [(c / 255) / 12.92 if c / 255 <= 0.04045 else ((c / 255 + 0.055) / 1.055) ** 2.4 for c in colour]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def logo_of(body: bytes) -> str:
    """A ``data:`` address of the picture. Raises BrandError."""
    if len(body) > MOST_BYTES:
        raise BrandError(f"The logo has {len(body) / 1000:.0f} kB; {MOST_BYTES / 1000:.0f} kB at most can be used.")
    if b"<svg" in body[:4096]:
        return _data("image/svg+xml", _shapes_only(body))
    return _data("image/png", _drawn_anew(body))


def _data(kind: str, body: bytes) -> str:
    return f"data:{kind};base64,{base64.b64encode(body).decode()}"


def _drawn_anew(body: bytes) -> bytes:
    # Pillow takes a moment to import, and nothing else has a use for it.
    from PIL import Image, ImageFile

    # What prints reports has pictures that are cut short drawn as far as they go; a logo is whole or none.
    lenient, ImageFile.LOAD_TRUNCATED_IMAGES = ImageFile.LOAD_TRUNCATED_IMAGES, False
    try:
        with Image.open(io.BytesIO(body), formats=("PNG", "JPEG")) as picture:
            if picture.width * picture.height > MOST_PIXELS:
                raise BrandError(f"The logo has {picture.width} × {picture.height} pixels; make it smaller.")
            plain = picture.convert("RGBA")
    except (OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
        if isinstance(error, BrandError):
            raise
        raise BrandError("The logo is no picture that can be read: use PNG, JPEG or SVG.") from None
    finally:
        ImageFile.LOAD_TRUNCATED_IMAGES = lenient
    plain.thumbnail(LARGEST)
    out = io.BytesIO()
    plain.save(out, "PNG", optimize=True)
    return out.getvalue()


def _shapes_only(body: bytes) -> bytes:
    if b"<!DOCTYPE" in body or b"<!ENTITY" in body:
        # What an entity may stand for, and how often, is not looked into.
        raise BrandError("The SVG begins with a document type. Export it as plain SVG, or use PNG.")
    try:
        root = ElementTree.fromstring(body)
    except (ElementTree.ParseError, ValueError, RecursionError):
        raise BrandError("The SVG is damaged. Export it again as plain SVG, or use PNG.") from None
    for element in root.iter():
        space, _, name = str(element.tag).rpartition("}")
        if space != "{" + _SVG or name not in _SHAPES:
            raise BrandError(
                f"The SVG holds <{name[:40]}>; only shapes can be used. Export it as plain SVG, or use PNG."
            )
        for attribute, value in element.attrib.items():
            if attribute not in _ATTRIBUTES or "url" in _OWN.sub("", value).lower():
                raise BrandError(
                    f"The SVG has {attribute.rpartition('}')[2][:40]}=“{value[:40]}” in <{name}>; only plain shapes "
                    "can be used. Export it as plain SVG, or use PNG."
                )
    ElementTree.register_namespace("", _SVG)
    return bytes(ElementTree.tostring(root))
