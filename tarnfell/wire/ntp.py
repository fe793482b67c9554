"""The 64-bit NTP timestamp (RFC 5905 §6), which RTCP and STAMP carry."""

from __future__ import annotations

UNIX_EPOCH = 2_208_988_800
"""Seconds from 1900 to 1970."""
_NS = 1_000_000_000


def from_unix_ns(unix_ns: int) -> int:
    """Unix nanoseconds as an NTP timestamp, within a quarter nanosecond, era folded into 32 bits."""
    seconds, rest = divmod(unix_ns, _NS)
    return ((seconds + UNIX_EPOCH) & 0xFFFFFFFF) << 32 | ((rest << 32) + _NS // 2) // _NS


def to_unix_ns(timestamp: int) -> int:
    """Unix nanoseconds of an NTP timestamp, taking it to lie between 1970 and 2106."""
    seconds = timestamp >> 32
    if seconds < UNIX_EPOCH:
        seconds += 1 << 32
    return (seconds - UNIX_EPOCH) * _NS + (((timestamp & 0xFFFFFFFF) * _NS + (1 << 31)) >> 32)


def middle(timestamp: int) -> int:
    """The middle 32 bits, as RTCP's LSR carries them (RFC 3550 §6.4.1)."""
    return timestamp >> 16 & 0xFFFFFFFF
