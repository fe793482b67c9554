"""The report's pictures as SVG text: the same ramp, the same day sheet, the same marks as on screen."""

from __future__ import annotations

from collections.abc import Sequence, Set
from datetime import date, timedelta
from html import escape

from tarnfell.core.days.depths import PathDepth
from tarnfell.core.days.findings import lasted
from tarnfell.core.daysheet import CELLS, Day
from tarnfell.core.path import Leg
from tarnfell.core.verdict.coverage import CoveredHour
from tarnfell.core.verdict.moments import CELL_MINUTES

# Pale sand (calm) through water green to deep indigo (bad); web/src/shared/depth.ts holds the same stops.
RAMP = (
    (0xF0, 0xE6, 0xCF),
    (0xC9, 0xDD, 0xC2),
    (0x7F, 0xBF, 0xB0),
    (0x3F, 0x8F, 0xA0),
    (0x33, 0x5F, 0x93),
    (0x2B, 0x2F, 0x6B),
)
CALM_MOS, BAD_MOS = 4.35, 2.6
FULL_HOUR = 6
"""Ten-minute moments from which on an hour is drawn in full: an hour of one day has so many."""
PAPER_LINE = "#cfc7b4"
INK = "#22241f"
SOFT = "#5b5c52"
# On paper a picture does not take its type from the page's style sheet; it brings it along.
_TYPE = 'font-family="Source Sans 3, DejaVu Sans, sans-serif" font-size="10.5" fill="#22241f"'


def depth(mos: float) -> float:
    """0 (calm) to 1 (bad) for a MOS."""
    return min(1.0, max(0.0, (CALM_MOS - mos) / (CALM_MOS - BAD_MOS)))


def paint(value: float) -> str:
    """The ramp's colour at a depth of 0…1."""
    at = value * (len(RAMP) - 1)
    low = min(int(at), len(RAMP) - 2)
    mix = at - low
    channels = (round(a + (b - a) * mix) for a, b in zip(RAMP[low], RAMP[low + 1], strict=True))
    return "#" + "".join(f"{c:02x}" for c in channels)


def day_sheet_svg(days: list[Day], open_minute: int, close_minute: int, open_days: str) -> str:
    """Days as rows, the local day left to right; up over down in each row; measured cells underlined, so that calm and
    not measured differ without colour; business hours bracketed."""
    left, top, cell, row = 74, 18, 4.2, 22
    width, height = left + cell * CELLS + 8, top + row * len(days) + 6
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width:.0f} {height}" role="img" '
        f'aria-label="Call quality in ten-minute cells over {len(days)} days">'
    ]
    for hour in range(0, 25, 3):
        x = left + hour * 60 / CELL_MINUTES * cell
        parts.append(f'<text x="{x:.1f}" y="11" {_TYPE} text-anchor="middle">{hour:02d}</text>')
    for i, day in enumerate(days):
        y = top + i * row
        when = date.fromisoformat(day.day)
        parts.append(f'<text x="0" y="{y + 13}" {_TYPE}>{when:%a %d %b}</text>')
        for side, offset in ((day.up, 0), (day.down, 9)):
            for n, mos in enumerate(side.mos):
                if mos is not None:
                    parts.append(
                        f'<rect x="{left + n * cell:.1f}" y="{y + offset}" width="{cell}" height="8" '
                        f'fill="{paint(depth(mos))}"/>'
                    )
        measured = [n for n in range(CELLS) if day.up.mos[n] is not None or day.down.mos[n] is not None]
        line = "".join(f"M{left + n * cell:.1f} {y + 18.2}h{cell}" for n in measured)
        parts.append(f'<path d="{line}" stroke="{SOFT}" stroke-width="0.7"/>' if line else "")
        closes = when - timedelta(days=1) if close_minute < open_minute else when
        edges = [
            m for day_of, m in ((when, open_minute), (closes, close_minute)) if str(day_of.isoweekday()) in open_days
        ]
        parts += [
            f'<path d="M{left + m / CELL_MINUTES * cell:.1f} {y - 1.5}v20" stroke="{INK}" stroke-width="0.8"/>'
            for m in edges
        ]
    parts.append("</svg>")
    return "".join(parts)


def coverage_svg(coverage: Sequence[CoveredHour], business: Set[tuple[int, int]]) -> str:
    """The week hour by hour: the darker, the more ten-minute moments with calls; in each the most concurrent calls.
    Framed where there is business, struck through where there is and no call was placed."""
    left, top, width, height = 34, 16, 24, 14
    seen = {(one.weekday, one.hour): one for one in coverage}
    label = f"{len(business & seen.keys())} of {len(business)} business hours of the week with calls"
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {left + 24 * width + 2} {top + 7 * height + 2}" '
        f'role="img" aria-label="{label}">'
    ]
    parts += [f'<text x="{left + h * width + 12}" y="11" {_TYPE} text-anchor="middle">{h}</text>' for h in range(24)]
    for weekday, name in enumerate(("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"), 1):
        y = top + (weekday - 1) * height
        parts.append(f'<text x="0" y="{y + 11}" {_TYPE}>{name}</text>')
        for hour in range(24):
            x, at, one = left + hour * width, (weekday, hour), seen.get((weekday, hour))
            frame = f'stroke="{INK}" stroke-width="0.7"' if at in business else ""
            ink = 0 if one is None else 0.06 + 0.26 * min(1.0, one.moments / FULL_HOUR)
            if one or frame:
                parts.append(
                    f'<rect x="{x}" y="{y}" width="{width}" height="{height}" fill="{INK}" fill-opacity="{ink:.2f}" '
                    f"{frame}/>"
                )
            if one:
                parts.append(f'<text x="{x + 12}" y="{y + 11}" {_TYPE} text-anchor="middle">{one.most}</text>')
            elif frame:
                parts.append(f'<path d="M{x} {y + height}l{width} -{height}" stroke="{SOFT}" stroke-width="0.7"/>')
    parts.append("</svg>")
    return "".join(parts)


def path_svg(test_point: str, far_end: str, up: Leg, down: Leg) -> str:
    """Test point to far end, up above and down below, each pointing its way and painted by what it adds."""
    near, far = 130, 510
    parts = ['<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 640 78" role="img" aria-label="Call path">']
    for leg, y, name, start, end in ((up, 24, "Up", near, far), (down, 42, "Down", far, near)):
        colour = paint(depth(leg.mos_p10)) if leg.mos_p10 is not None else PAPER_LINE
        tip = end - (8 if end > start else -8)
        parts.append(
            f'<path d="M{start} {y}H{tip}L{end} {y + 6}L{tip} {y + 12}H{start}Z" fill="{colour}" stroke="{INK}" '
            'stroke-width="0.7"/>'
        )
        loss = "–" if leg.loss_pct is None else f"{leg.loss_pct:.2f} % lost"
        added = "–" if leg.added_p95_ms is None else f"up to {leg.added_p95_ms:.0f} ms added"
        text_y = 16 if name == "Up" else 70
        parts.append(f'<text x="320" y="{text_y}" text-anchor="middle" {_TYPE}>{name}: {loss}, {added}</text>')
    parts.append(f'<path d="M{near} 18V60M{far} 18V60" stroke="{INK}" stroke-width="1.6"/>')
    parts.append(f'<text x="{near - 8}" y="43" text-anchor="end" {_TYPE}>{escape(test_point)}</text>')
    parts.append(f'<text x="{far + 8}" y="43" {_TYPE}>{escape(far_end)}</text>')
    parts.append("</svg>")
    return "".join(parts)


_LEGS = {
    "inside": ("inside", "gateway"),
    "line": ("line", "provider’s edge"),
    "beyond": ("beyond", ""),
    "inside or line": ("inside and line", "provider’s edge"),
    "unknown": ("whole path", ""),
}


def legs_svg(test_point: str, far_end: str, path: PathDepth) -> str:
    """The site's real legs, upload above and download below, painted by the worst tenth of moments of a watch."""
    near, far = 130, 510
    step = (far - near) / max(1, len(path.legs))
    parts = ['<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 640 104" role="img" aria-label="Call path">']
    for i, leg in enumerate(path.legs):
        name, ends = _LEGS[leg.leg]
        left, right = near + i * step, near + (i + 1) * step
        for mos, y, start, end in ((leg.up_mos, 36, left, right), (leg.down_mos, 54, right, left)):
            tip = end - (8 if end > start else -8)
            parts.append(
                f'<path d="M{start:g} {y}H{tip:g}L{end:g} {y + 6}L{tip:g} {y + 12}H{start:g}Z" '
                f'fill="{paint(depth(mos))}" stroke="{INK}" stroke-width="0.7"/>'
            )
        middle = (left + right) / 2
        trouble = f"{lasted(leg.spoiled_s)} of trouble" if leg.spoiled_s else "no trouble"
        parts.append(f'<text x="{middle:g}" y="14" text-anchor="middle" {_TYPE} font-weight="600">{name}</text>')
        parts.append(f'<text x="{middle:g}" y="27" text-anchor="middle" {_TYPE}>{trouble}</text>')
        if ends:
            parts.append(f'<text x="{right:g}" y="86" text-anchor="middle" {_TYPE}>{ends}</text>')
    posts = "".join(f"M{near + i * step:g} 31V72" for i in range(len(path.legs) + 1))
    parts.append(f'<path d="{posts}" stroke="{INK}" stroke-width="1.2"/>')
    parts.append(f'<text x="{near - 8}" y="55" text-anchor="end" {_TYPE}>{escape(test_point)}</text>')
    parts.append(f'<text x="{far + 8}" y="55" {_TYPE}>{escape(far_end)}</text>')
    hours = "business hours" if path.in_business_hours else "all hours"
    says = f"painted by the worst tenth of {path.moments} ten-minute moments of {hours}, upload above, download below"
    parts.append(f'<text x="320" y="101" text-anchor="middle" {_TYPE}>{says}</text></svg>')
    return "".join(parts)


def verdict_mark_svg(word: str, provisional: bool) -> str:
    """A pool drawn as a section: level water is ready, low water conditions, a cross not ready, dots not shown."""
    edge = ' stroke-dasharray="3 2.4"' if provisional else ""
    fills = {
        "ready": '<path d="M6 16C14 34 42 34 50 16Z" fill="#3f8fa0"/>',
        "ready with conditions": '<path d="M10 23C18 33 38 33 46 23Z" fill="#7fbfb0"/>',
        "not ready": '<path d="M20 8L36 24M36 8L20 24" stroke="#2b2f6b" stroke-width="2.4"/>',
        "not shown yet": '<path d="M16 12H40" stroke="#22241f" stroke-width="1.6" stroke-dasharray="1 4"/>',
    }
    return (
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 56 36" class="mark" aria-hidden="true">'
        f'{fills[word]}<path d="M3 12C12 38 44 38 53 12" fill="none" stroke="{INK}" stroke-width="1.6"{edge}/></svg>'
    )
