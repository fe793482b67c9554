"""What was judged by values or clocks that are known better now, judged again: one record a call, newest first.

Each is judged outside a transaction, so that others may write meanwhile, and kept in a short one.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path

from tarnfell.core.codecs import CodecError
from tarnfell.store import calls as call_store
from tarnfell.store import clocks as clock_store
from tarnfell.store import codecs as codec_store
from tarnfell.store import imports as import_store
from tarnfell.store import runs as run_store
from tarnfell.store import videos as video_store
from tarnfell.store.db import writing
from tarnfell.store.files import IMPORTS
from tarnfell.store.imports import MAX_TRIES
from tarnfell.work.ingest.files import FileError, read_file
from tarnfell.work.ingest.uploads import judge_again


def pass_on_codec_change(db: sqlite3.Connection) -> bool:
    """To what that codec judged; whether there was one."""
    changed = codec_store.next_change(db)
    if changed is None:
        return False
    with writing(db):
        codec_store.pass_on(db, changed)
    return True


def judge_stale_run(db: sqlite3.Connection) -> bool:
    """Whether there was one."""
    stale = codec_store.stale_runs(db, 1)
    if not stale:
        return False
    run = run_store.run_by_id(db, stale[0])
    codec = codec_store.codec_of_site(db, run.site_id, run.codec)
    calls, videos = call_store.calls_of_run(db, run.id), video_store.videos_of_run(db, run.id)
    fresh = judge_again(calls, videos, run, codec, clock_store.runs_of_pair(db, run))
    with writing(db):
        call_store.replace_figures(db, run, fresh)
    return True


def read_stale_import(db: sqlite3.Connection, data: Path) -> bool:
    """Whether there was one. A file that is gone, or cannot be read any more, keeps what was read in it.

    Raises what goes wrong with this machine and not with the file, which is tried again.
    """
    one = import_store.stale_import(db)
    if one is None:
        return False
    with writing(db):
        import_store.note_try(db, one)
    if one.tries >= MAX_TRIES:
        with writing(db):
            import_store.keep_failure(db, one, f"It could not be read in {MAX_TRIES} tries; the server's log says why.")
        return True
    try:
        body = IMPORTS.read(data, one.sha256)
        if body is None:
            raise FileError("The file is missing from the server's data folder. Upload it again.")
        _, result = read_file(
            body, one.name, one.choices, lambda name: codec_store.codec_of_site(db, one.site_id, name)
        )
    except (FileError, CodecError) as error:
        with writing(db):
            import_store.keep_failure(db, one, str(error))
        return True
    except (OSError, sqlite3.Error):
        with writing(db):
            import_store.put_off(db, one)
        raise
    with writing(db):
        import_store.replace_result(db, one, result)
    return True
