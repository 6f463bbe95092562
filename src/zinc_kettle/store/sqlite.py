"""What is peculiar to SQLite: the file and who may read it, write-ahead mode, one connection a thread, one writer.

The only module of the store that another dialect would not share.
"""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from zinc_kettle.errors import StoreError

BUSY_LIMIT_MS = 10_000
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
            f"the store {path.name} cannot be opened", why=str(error.strerror),
            remedy="choose another place with --store PATH",
        ) from error  # fmt: skip
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


def _on_connect(connection: Any, _record: Any) -> None:
    # Transactions are begun by us: left to itself the driver begins one at the first write, after the first read.
    connection.isolation_level = None
    # FULL: each commit reaches the disk, so that power loss takes at most what had not been committed.
    for pragma in (f"busy_timeout={BUSY_LIMIT_MS}", "journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
        connection.execute(f"PRAGMA {pragma}")


def _on_begin(connection: sa.Connection) -> None:
    writes = connection.get_execution_options().get(WRITES)
    connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")
