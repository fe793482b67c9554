"""One outlet that sends first in, first out: the same arrivals at any rate, with and without media sent first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tarnfell.core.trace import NOT_ARRIVED, Trace
from tarnfell.core.video import VideoProfile

FULL_MS = 1.2
"""A full packet at 10 Mbit/s: what the outlet's times are in."""
MEDIA_MS = 0.17
RATE_KBPS = 10_000.0
BASE_MS = 12.0


@dataclass(frozen=True)
class Traffic:
    """Of half a minute: others' full packets, and a call's every 20 ms; times in ms."""

    others_ms: list[float]
    media_ms: list[float]
    scatter_ms: list[float]
    """What each packet of the call has besides the queue, wherever it goes."""
    packet_ms: float = MEDIA_MS
    """What one of them takes to be sent."""


def traffic(seed: int, burst: float, idle: float = 0.2, seconds: float = 30.0) -> Traffic:
    """Others offer ``burst`` times the outlet's rate for some seconds, then little for some."""
    chance = np.random.default_rng(seed)
    at, until, on = 0.0, 0.0, True
    others = []
    while at < 1000 * seconds:
        if at >= until:
            on = not on
            until = at + chance.exponential(2500.0 if on else 3500.0)
        at += chance.exponential(FULL_MS / (burst if on else idle))
        others.append(at)
    media = np.arange(0, 1000 * seconds, 20.0) + chance.uniform(0, 0.5, int(50 * seconds))
    return Traffic(others, media.tolist(), chance.exponential(0.4, len(media)).tolist())


def pictures(seed: int, burst: float, profile: VideoProfile, seconds: float = 30.0) -> Traffic:
    """The same beside a video stream, whose frames come as bursts of packets."""
    others = traffic(seed, burst, seconds=seconds).others_ms
    numbers = np.arange(profile.packets_in(int(seconds * profile.frames_per_s)))
    frame = profile.frame_of(numbers)
    within = numbers - np.searchsorted(frame, frame)
    scatter = np.random.default_rng(seed).exponential(0.4, len(numbers))
    media = frame * profile.frame_us / 1000 + 0.05 * within
    return Traffic(others, media.tolist(), scatter.tolist(), 1240 * 8 / RATE_KBPS)


def through(load: Traffic, rate: float = 1.0, holds_ms: float = 200.0, first: bool = False, loss: float = 0.0) -> Trace:
    """The call's packets behind an outlet ``rate`` times as fast whose queue holds so much at the rate of 1. ``loss``
    is that of another link, whatever the queue does."""
    chance = np.random.default_rng(99)
    gone = chance.random(len(load.media_ms)) < loss
    within = chance.random(len(load.media_ms))
    waits: list[float | None] = []
    wait = own = at = 0.0
    events = sorted([(ms, False) for ms in load.others_ms] + [(ms, True) for ms in load.media_ms])
    for ms, is_media in events:
        wait, own, at = max(0.0, wait - (ms - at)), max(0.0, own - (ms - at)), ms
        full = wait > holds_ms / rate
        if is_media and first:
            waits.append(min(wait, own + within[len(waits)] * FULL_MS / rate))
            wait, own = wait + load.packet_ms / rate, own + load.packet_ms / rate
        elif is_media:
            waits.append(None if full else wait)
            wait += 0.0 if full else load.packet_ms / rate
        elif not full:
            wait += FULL_MS / rate
    sent = np.rint(np.array(load.media_ms) * 1000).astype(np.int64)
    delay = np.array([np.nan if one is None else one for one in waits]) + BASE_MS + np.array(load.scatter_ms)
    lost = np.isnan(delay) | gone
    recv = np.where(lost, NOT_ARRIVED, sent + np.rint(np.nan_to_num(delay) * 1000).astype(np.int64))
    return Trace(np.arange(len(sent)), sent, recv)
