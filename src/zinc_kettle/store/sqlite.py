"""What is peculiar to SQLite: the file and who may read it, write-ahead mode, one connection a thread, one writer.

The only module of the store that another dialect would not share.
"""

from __future__ import annotations

import os
import re
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from zinc_kettle.errors import StoreError
from zinc_kettle.store.schema import metadata

BUSY_LIMIT_MS = 10_000
KNOWN_TABLES = frozenset({*metadata.tables, "sqlite_sequence", "sqlite_stat1"})
"""Of this version and of those before it, which had some of the same names."""
MOST_COLUMNS = 40
MOST_STEPS = 100_000
"""Of the database's machine, for a question that takes a few dozen."""
STORE_ID = "id"
_ID = re.compile(r"[0-9a-f-]{36}")
_STRANGE_SQL = re.compile(r"\b(VIRTUAL|GENERATED|CHECK|COLLATE|WHERE|SELECT)\b|\bAS\s*\(", re.IGNORECASE)
"""What no statement that makes a table or an index of ours contains."""
WRITES = "kettle_writes"
"""Execution option of a connection that is to write: it waits for other writers before it reads, not after."""


def open_engine(path: Path) -> sa.Engine:
    """An engine on a file, made where it is not there, for nobody but this person.

    Each thread that asks for a connection has one of its own, so that no transaction can end another's.

    Raises:
        StoreError: The file cannot be opened.
    """
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
    except OSError as error:
        raise StoreError(
            f"the store {path.name} cannot be opened",
            why=str(error.strerror),
            remedy="choose another place with --store PATH",
        ) from error
    engine = sa.create_engine(f"sqlite:///{path}", poolclass=sa.pool.QueuePool, pool_size=4, max_overflow=-1)
    sa.event.listen(engine, "connect", _on_connect)
    sa.event.listen(engine, "begin", _on_begin)
    return engine


def copy_database(source: Path, to: Path) -> None:
    """Copy a store into a new file, with what its write-ahead log holds; the source is only read.

    Raises:
        StoreError: The source cannot be read, or is no store.
    """
    to.touch(mode=0o600)
    try:
        only_read = sqlite3.connect(f"{source.as_uri()}?mode=ro", uri=True, timeout=BUSY_LIMIT_MS / 1e3)
        with closing(only_read) as old, closing(sqlite3.connect(to)) as new:
            old.backup(new)
    except sqlite3.Error as error:
        raise StoreError(f"{source.name} cannot be read as a store", why=str(error)) from error


def read_store_id(file: Path) -> str:
    """The id a store was given when it was made; empty where it has none, or is no store. Nothing it holds is run."""
    try:
        with closing(sqlite3.connect(f"{file.resolve().as_uri()}?mode=ro", uri=True)) as db:
            db.set_progress_handler(lambda: 1, MOST_STEPS)
            kinds = db.execute("SELECT type FROM sqlite_master WHERE name = 'meta'").fetchall()
            if kinds != [("table",)]:
                return ""
            found = db.execute("SELECT value FROM meta WHERE key = ?", (STORE_ID,)).fetchone()
            return found[0] if found is not None and _ID.fullmatch(str(found[0])) else ""
    except (sqlite3.Error, ValueError):
        return ""


def check_schema(file: Path, name: str) -> None:
    """Refuse a store that is not one's own and holds anything but the plain tables and indexes that a store has.

    A view can recurse without end, a trigger or a generated column runs what its maker wrote.

    Args:
        file: The store, or a copy of it.
        name: How to call it.

    Raises:
        StoreError: It holds something else, or cannot be read.
    """
    try:
        with closing(sqlite3.connect(f"{file.as_uri()}?mode=ro", uri=True)) as db:
            for kind, entry, table, sql in db.execute("SELECT type, name, tbl_name, sql FROM sqlite_master"):
                known = kind in {"table", "index"} and isinstance(table, str) and table in KNOWN_TABLES
                if not known or _STRANGE_SQL.search(sql or ""):
                    raise StoreError(
                        f"{name} is not a store of Zinc Kettle",
                        why=f"it holds the {kind} {entry!r:.60}",
                        remedy="ask for a bundle of it: zinc-kettle pack",
                    )
            tables = {row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
            for table in tables & KNOWN_TABLES:
                columns = list(db.execute(f"PRAGMA table_xinfo({table})"))
                if len(columns) > MOST_COLUMNS or any(hidden for *_, hidden in columns):
                    raise StoreError(f"{name} is not a store of Zinc Kettle", why=f"its table {table} is not ours")
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise StoreError(f"{name} cannot be read as a store", why=str(error)) from error


def _on_connect(connection: Any, _record: Any) -> None:
    # Transactions are begun by us: left to itself the driver begins one at the first write, after the first read.
    connection.isolation_level = None
    # FULL: each commit reaches the disk, so that power loss takes at most what had not been committed.
    for pragma in (
        f"busy_timeout={BUSY_LIMIT_MS}",
        "trusted_schema=OFF",
        "journal_mode=WAL",
        "synchronous=FULL",
        "foreign_keys=ON",
    ):
        connection.execute(f"PRAGMA {pragma}")


def _on_begin(connection: sa.Connection) -> None:
    writes = connection.get_execution_options().get(WRITES)
    connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")
