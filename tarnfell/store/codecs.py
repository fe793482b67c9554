"""A codec as one engagement judges it: the table's values, or those the consultant put in place of planning values."""

from __future__ import annotations

import sqlite3

from tarnfell.core.codecs import Codec, codec_table, find_codec, with_values
from tarnfell.store.db import now_us


def codecs_of(db: sqlite3.Connection, engagement_id: int) -> list[Codec]:
    """Every codec as this engagement judges it, in the table's order."""
    rows = db.execute("SELECT codec, ie, bpl, why FROM codec_value WHERE engagement_id = ?", (engagement_id,))
    own = {row["codec"]: row for row in rows}
    return [
        with_values(codec, own[name]["ie"], own[name]["bpl"], own[name]["why"]) if name in own else codec
        for name, codec in codec_table().items()
    ]


def codec_of_site(db: sqlite3.Connection, site_id: int, name: str) -> Codec:
    """One codec as the site's engagement judges it. Raises CodecError."""
    codec = find_codec(name)
    row = db.execute(
        "SELECT v.ie, v.bpl, v.why FROM codec_value v JOIN site s ON s.engagement_id = v.engagement_id "
        "WHERE s.id = ? AND v.codec = ?",
        (site_id, name),
    ).fetchone()
    return with_values(codec, row["ie"], row["bpl"], row["why"]) if row else codec


def keep_values(db: sqlite3.Connection, engagement_id: int, codec: Codec, why: str, user_id: int | None) -> None:
    """Judge by this codec's values from here on, and all again that was judged by others."""
    db.execute(
        "INSERT INTO codec_value (engagement_id, codec, ie, bpl, why, set_by, set_us) VALUES (?, ?, ?, ?, ?, ?, ?) "
        "ON CONFLICT (engagement_id, codec) DO UPDATE SET ie = excluded.ie, bpl = excluded.bpl, why = excluded.why, "
        "set_by = excluded.set_by, set_us = excluded.set_us",
        (engagement_id, codec.name, codec.ie, codec.bpl, why, user_id, now_us()),
    )
    _judge_again(db, engagement_id, codec.name)


def drop_values(db: sqlite3.Connection, engagement_id: int, name: str) -> None:
    """Back to the table's values."""
    db.execute("DELETE FROM codec_value WHERE engagement_id = ? AND codec = ?", (engagement_id, name))
    _judge_again(db, engagement_id, name)


def _judge_again(db: sqlite3.Connection, engagement_id: int, name: str) -> None:
    """Not told to each run here: of months there are too many for somebody to wait."""
    db.execute("INSERT OR IGNORE INTO codec_change (engagement_id, codec) VALUES (?, ?)", (engagement_id, name))


def next_change(db: sqlite3.Connection) -> tuple[int, str] | None:
    """An engagement, and a codec whose values changed there, of which what it judged does not know yet."""
    row = db.execute("SELECT engagement_id, codec FROM codec_change LIMIT 1").fetchone()
    return (row["engagement_id"], row["codec"]) if row else None


def pass_on(db: sqlite3.Connection, changed: tuple[int, str]) -> None:
    """Have all that this codec judged judged again."""
    db.execute(
        "UPDATE run SET stale = 1 WHERE codec = ?2 AND id IN (SELECT job.id FROM job "
        "JOIN site ON site.id = job.site_id WHERE site.engagement_id = ?1 AND job.state = 'done')",
        changed,
    )
    db.execute(
        "UPDATE imported SET stale = 1 WHERE site_id IN (SELECT id FROM site WHERE engagement_id = ?1) "
        "AND EXISTS (SELECT 1 FROM json_each(result, '$.streams') WHERE json_extract(value, '$.codec') = ?2)",
        changed,
    )
    db.execute("DELETE FROM codec_change WHERE engagement_id = ?1 AND codec = ?2", changed)


def run_counts(db: sqlite3.Connection, engagement_id: int) -> dict[str, tuple[int, int]]:
    """By codec: runs of this engagement that are done, and those of them still to be judged again."""
    rows = db.execute(
        "SELECT t.codec, sum(done), sum(iif(x.codec IS NULL, stale, done)) FROM codec_tally t "
        "JOIN site s ON s.id = t.site_id "
        "LEFT JOIN codec_change x ON x.engagement_id = s.engagement_id AND x.codec = t.codec "
        "WHERE s.engagement_id = ? GROUP BY t.codec",
        (engagement_id,),
    )
    return {row[0]: (int(row[1]), int(row[2])) for row in rows}


def stale_runs(db: sqlite3.Connection, limit: int) -> list[int]:
    return [row[0] for row in db.execute("SELECT id FROM run WHERE stale = 1 ORDER BY id DESC LIMIT ?", (limit,))]
