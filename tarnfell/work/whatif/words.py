"""A change and its answer in words: what is asked, and what the answer cannot know."""

from __future__ import annotations

from dataclasses import replace
from datetime import date

from tarnfell.core.causes import DIRECTIONS, LegName
from tarnfell.core.codecs import find_codec
from tarnfell.core.figures import count
from tarnfell.core.rates import call_rate
from tarnfell.core.verdict.capacity import concurrent_words
from tarnfell.core.whatif.change import Change
from tarnfell.core.whatif.remedies import FULL_PACKET_BYTES
from tarnfell.store.sites import Site
from tarnfell.work.evidence.facts import Facts
from tarnfell.work.judging.site_words import business_hours
from tarnfell.work.whatif.carrier import Tally
from tarnfell.work.whatif.pictures import ReplayedVideo
from tarnfell.work.whatif.replay import Replayed

NAMES = {"up": "Upload", "down": "Download"}


def in_words(change: Change, site: Site) -> list[str]:
    """A line for each thing that is changed."""
    told = []
    if change.codec is not None:
        told.append(f"Codec {find_codec(change.codec).title}")
    if change.buffer_ms is not None:
        kind = "Adaptive buffer, at most" if change.adaptive else "Buffer"
        told.append(f"{kind} {change.buffer_ms:g} ms")
    first = [way for way in DIRECTIONS if change.first(way)]
    if first:
        told.append(f"Media first at the router, {' and '.join(NAMES[way].lower() for way in first)}")
    if change.first_inside:
        told.append("Media first in the site’s switches")
    for way in DIRECTIONS:
        if change.line(way) > 1:
            rate = site.up_kbps if way == "up" else site.down_kbps
            of = f" ({rate * change.line(way) / 1000:g} Mbit/s)" if rate else ""
            told.append(f"{NAMES[way]} {change.line(way):g} times as fast{of}")
    if change.target_mos is not None:
        told.append(f"Calls acceptable from {change.target_mos:.2f} MOS on")
    if change.required_share_pct is not None:
        told.append(f"{change.required_share_pct:g} % of calls acceptable")
    if change.needed_calls is not None:
        told.append(concurrent_words(change.needed_calls))
    hours = {
        name: value
        for name in ("open_minute", "close_minute", "open_days")
        if (value := getattr(change, name)) is not None
    }
    if hours:
        told.append(f"Business hours {business_hours(replace(site, **hours))}")
    if change.from_day or change.until_day:
        told.append(f"Calls {_period(change.from_day, change.until_day)} only")
    return told


def _period(first: str | None, last: str | None) -> str:
    begin, end = (f"{date.fromisoformat(day):%d %b %Y}" if day else "" for day in (first, last))
    return f"of {begin} to {end}" if begin and end else f"from {begin} on" if begin else f"up to {end}"


_LEGS: dict[LegName, str] = {"line": "on the line", "inside": "inside the site"}


def cautions(
    site: Site, other: Site, change: Change, found: Replayed, pictures: ReplayedVideo, facts: Facts
) -> list[str]:
    """``other`` is the site with the brief that is asked about."""
    told = []
    if change.replays:
        told += _counted(found.tally, len(facts.calls), "call")
    if change.touches_queues:
        told += _of_queues(found.tally, "call")
        if facts.video:
            told += [*_counted(pictures.tally, len(facts.video), "video"), *_of_queues(pictures.tally, "video")]
            told += _of_pictures(pictures)
        told.append(
            "Losses in a full queue: at least those beyond what is lost without one are counted as mended, at best "
            "all. A queue that stood for a whole call while no watch ran looks like distance and is left."
        )
    for way in DIRECTIONS:
        rate = (site.up_kbps if way == "up" else site.down_kbps) or 0
        name = NAMES[way]
        if change.first(way):
            full_ms = FULL_PACKET_BYTES * 8 / (rate * change.line(way))
            told.append(
                f"{name}: media waits for one full packet at most, {full_ms:.1f} ms at this rate. That takes a router "
                "at the narrowest point, shaped to 90–95 % of the line’s rate, that reads the marking or queues each "
                "flow separately."
            )
        elif change.line(way) > 1:
            of = f" of {rate * change.line(way) / 1000:g} Mbit/s" if rate else ""
            told.append(
                f"{name}: other traffic is assumed to offer what it offered then, give or take a tenth. Transfers that "
                f"fill any line will also fill one{of}; then nothing improves."
            )
        if change.mends_line(way) and any(fill.direction == way for fill in facts.fills):
            told.append(
                f"{name}: line fills from before the change say nothing about after it. Fill the line again once it "
                "is made."
            )
    if change.codec is not None:
        told.append(_of_codec(site, other))
    if change.from_day or change.until_day:
        told.append("Findings of watches and checks are not chosen by day: they count whichever days are chosen.")
    return told


def _directions(number: int, of: str) -> str:
    """Of calls or of video."""
    return f"{count(number)} {of} direction{'' if number == 1 else 's'}"


def _counted(tally: Tally, number: int, of: str) -> list[str]:
    told = [f"{count(tally.judged)} of {_directions(number, of)} were judged again from their packets."]
    if tally.left:
        what = "the call was cut" if of == "call" else "the stream was cut"
        told.append(f"{_directions(tally.left, of)} could not be, because {what} or nothing arrived.")
    return told


def _of_queues(tally: Tally, of: str) -> list[str]:
    told = [
        f"{_directions(number, of)} met a queue {_LEGS[leg]}, which this change removes."
        for leg, number in sorted(tally.mended.items())
    ]
    if tally.unknown:
        told.append(
            f"For {_directions(tally.unknown, of)} the queue’s leg is not known: at best it is one that the change "
            "mends, at least it is not. A watch would tell."
        )
    if tally.elsewhere:
        told.append(f"{_directions(tally.elsewhere, of)} met a queue on another leg, which stays as it is.")
    return told


def _of_pictures(pictures: ReplayedVideo) -> list[str]:
    told = []
    if pictures.crowded:
        told.append(
            f"{_directions(pictures.crowded, 'video')}: the streams alone fill the line, so putting them first does "
            "not help. They stay as they were."
        )
    if pictures.tally.judged:
        told.append(
            "What packets of one video frame wait for each other is left as it was, on a faster line too, and a "
            "refresh is taken to come as soon as it did."
        )
    return told


def _of_codec(site: Site, other: Site) -> str:
    codec = find_codec(other.codec)
    now, then = (call_rate(find_codec(one.codec), one.ptime_ms, one.link).line_kbps for one in (site, other))
    return (
        f"{codec.title}: Ie {codec.ie:g}, Bpl {codec.bpl:g}. The packets are those that were sent; the codec’s own "
        f"rate, {then:.0f} kbit/s a call instead of {now:.0f}, is not modelled."
    )
