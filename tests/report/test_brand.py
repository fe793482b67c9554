"""A consultant's own name, colour and logo: what may stand in a report, and that nothing of it does harm."""

from __future__ import annotations

import base64
import io

import pytest
from PIL import Image, ImageFile, PngImagePlugin

from tarnfell.report.brand import (
    LARGEST,
    MOST_BYTES,
    NO_BRAND,
    Brand,
    BrandError,
    brand_style,
    byline,
    check_colour,
    contrast,
    letterhead,
    logo_of,
)

SVG = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9">{}</svg>'


def picture(kind: str = "PNG", size: tuple[int, int] = (90, 30), mode: str = "RGBA", **more: object) -> bytes:
    out = io.BytesIO()
    Image.new(mode, size, "navy").save(out, kind, **more)
    return out.getvalue()


def drawn(data: str) -> bytes:
    kind, _, text = data.partition(";base64,")
    assert kind in ("data:image/png", "data:image/svg+xml")
    return base64.b64decode(text)


@pytest.mark.parametrize("colour", ["", "#000000", "#1A2b3c", "#737368"])
def test_a_colour_that_can_be_read_is_taken(colour: str) -> None:
    check_colour(colour)


@pytest.mark.parametrize(
    ("colour", "words"),
    [
        ("#777777", "too pale"), ("#ffffff", "too pale"), ("navy", "Write the colour"), ("#12345", "Write the colour"),
        ("#1234567", "Write the colour"), ("#1a2b3c}", "Write the colour"), ("#12345g", "Write the colour"),
    ],
)  # fmt: skip
def test_one_that_cannot_is_refused(colour: str, words: str) -> None:
    with pytest.raises(BrandError, match=words):
        check_colour(colour)


def test_contrast_is_that_of_the_standard() -> None:
    assert contrast((0, 0, 0), (255, 255, 255)) == pytest.approx(21)
    assert contrast((255, 255, 255), (255, 255, 255)) == 1
    assert contrast((0x76, 0x76, 0x76), (255, 255, 255)) == pytest.approx(4.54, abs=0.01)
    assert contrast((255, 0, 0), (255, 255, 255)) == pytest.approx(4.0, abs=0.01)


@pytest.mark.parametrize(("kind", "mode"), [("PNG", "RGBA"), ("PNG", "P"), ("JPEG", "RGB"), ("JPEG", "CMYK")])
def test_a_picture_is_drawn_anew_without_what_else_was_in_its_file(kind: str, mode: str) -> None:
    told = PngImagePlugin.PngInfo()
    told.add_text("Comment", "<script>secret</script>")
    more = {"pnginfo": told} if kind == "PNG" else {"exif": b"Exif\0\0secret"}
    body = picture(kind, (3000, 300), mode, **more)
    assert b"secret" in body
    found = drawn(logo_of(body))
    assert b"secret" not in found
    with Image.open(io.BytesIO(found)) as image:
        assert (image.format, image.size) == ("PNG", (LARGEST[0], 120))


@pytest.mark.parametrize(
    ("body", "words"),
    [
        pytest.param(picture()[:60], "no picture", id="cut short"),
        (b"", "no picture"),
        (b"GIF89a" + b"\0" * 50, "no picture"),
        pytest.param(b"x" * (MOST_BYTES + 1), "at most can be used", id="too long"),
        pytest.param(picture(size=(8000, 4000), mode="1"), "make it smaller", id="too large"),
    ],
)
def test_what_is_no_picture_is_refused(body: bytes, words: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ImageFile, "LOAD_TRUNCATED_IMAGES", True)  # as it is once a report was printed
    with pytest.raises(BrandError, match=words):
        logo_of(body)


def test_an_svg_of_shapes_is_taken_as_it_is() -> None:
    shapes = (
        '<title>Harrow</title><defs><linearGradient id="a"><stop offset="0" stop-color="#123456"/></linearGradient>'
        "</defs>"
        '<g transform="scale(2)"><path d="M0 0H9" fill="url(#a)"/><circle cx="3" cy="3" r="2"/></g>'
    )
    found = drawn(logo_of(SVG.format(shapes).encode())).decode()
    assert found.startswith('<svg xmlns="http://www.w3.org/2000/svg"')
    assert 'fill="url(#a)"' in found


@pytest.mark.parametrize(
    ("inner", "words"),
    [
        ("<script>alert(1)</script>", "holds <script>"),
        ("<style>@import 'http://evil.example'</style>", "holds <style>"),
        ("<foreignObject/>", "holds <foreignObject>"),
        ('<image href="http://evil.example/a.png"/>', "holds <image>"),
        ('<use href="#a"/>', "holds <use>"),
        ("<a/>", "holds <a>"),
        ("<text>x</text>", "holds <text>"),
        ('<animate attributeName="d"/>', "holds <animate>"),
        ('<path onload="alert(1)"/>', "onload"),
        ('<path style="fill:url(http://evil.example)"/>', "style"),
        ('<path fill="url(http://evil.example/#a)"/>', "fill"),
        ('<path fill="URL (data:x)"/>', "fill"),
        ('<path xmlns:xlink="http://www.w3.org/1999/xlink" xlink:href="http://evil.example"/>', "href"),
        ('<x:path xmlns:x="http://evil.example"/>', "holds <path>"),
        ("<path>", "damaged"),
    ],
)
def test_an_svg_that_holds_more_is_refused_with_what_it_was(inner: str, words: str) -> None:
    with pytest.raises(BrandError, match=words):
        logo_of(SVG.format(inner).encode())


def test_entities_are_not_followed() -> None:
    bomb = '<!DOCTYPE svg [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]>' + SVG.format("<title>&b;</title>")
    with pytest.raises(BrandError, match="document type"):
        logo_of(bomb.encode())


def test_names_are_words_and_nothing_else() -> None:
    hostile = Brand("<script>alert(1)</script>", "</footer><img src=x>", "#123456", "")
    assert "<script>" not in letterhead(hostile)
    assert letterhead(NO_BRAND) == "" == byline(NO_BRAND) == brand_style(NO_BRAND)
    assert brand_style(hostile) == ":root { --accent: #123456; }"
    assert byline(Brand("Harrow", "ines@harrow.example")) == "Harrow · ines@harrow.example. "
    assert byline(Brand(contact="ines@harrow.example")) == "ines@harrow.example. "
