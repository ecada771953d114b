"""What only SQLite understands: pragmas, the start of transactions, and waiting for the writer's lock."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.dialects.sqlite import insert as insert_unless_there
from sqlalchemy.engine.interfaces import DBAPIConnection
from sqlalchemy.pool import ConnectionPoolEntry, QueuePool

from dravo.core.errors import Busy, DravoError, StorageFailing

__all__ = [
    "checkpoint",
    "commits_seen",
    "error_text",
    "insert_unless_there",
    "missing_references",
    "open_engine",
    "put_views_in_place",
    "without_references",
]

BUSY_SECONDS = 20
# A checkpoint every 32 MB instead of 4 MB: pages that change often are written once instead of ten times.
PRAGMAS = (
    "journal_mode=WAL",
    "synchronous=FULL",
    "foreign_keys=ON",
    "cache_size=-32000",
    "temp_store=MEMORY",
    "wal_autocheckpoint=8000",
    "journal_size_limit=67108864",
)


def error_text(wrong: Exception, doing: str = "written") -> DravoError:
    """Return an error of the database in words.

    Args:
        doing: what failed, "written" or "read".
    """
    if "locked" in str(wrong) or "busy" in str(wrong):
        return Busy("The database is locked by another process.", "Try again in a moment.")
    hint = (
        "Check whether the disk is full or the folder is read-only."
        if doing == "written"
        else "Check that the data folder can be read."
    )
    return StorageFailing(f"The database cannot be {doing}: {str(wrong).splitlines()[0]}.", hint)


def checkpoint(connection: Connection) -> None:
    """Write the log into the file, as far as no reader needs the former state; no reader waits."""
    connection.connection.cursor().execute("PRAGMA wal_checkpoint(PASSIVE)").fetchone()


@contextmanager
def without_references(connection: Connection) -> Iterator[None]:
    """Switch off foreign keys of a connection outside a transaction, so that a table can be copied."""
    cursor = connection.connection.cursor()
    cursor.execute("PRAGMA foreign_keys=OFF")
    try:
        yield
    finally:
        cursor.execute("PRAGMA foreign_keys=ON")


def missing_references(connection: Connection) -> set[tuple[str, int, str]]:
    """Return (table, row, other table) of each reference to a missing row."""
    found = connection.connection.cursor().execute("PRAGMA foreign_key_check").fetchall()
    return {(row[0], row[1], row[2]) for row in found}


def commits_seen(connection: Connection) -> int:
    """Return a number that is another one after every commit by another connection, of this process or any;
    it costs next to nothing.
    """
    return int(connection.connection.cursor().execute("PRAGMA data_version").fetchone()[0])


def put_views_in_place(
    connection: DBAPIConnection,
    views: Mapping[str, str],
    functions: Mapping[str, Callable[[str | None], str | None]],
) -> None:
    """Put temporary views in place of tables, for one connection, which then only reads.

    A temporary view comes before a table of the same name.

    Args:
        views: the select statement of each view, by the name of its table.
        functions: what the statements call, by name.
    """
    cursor = connection.cursor()
    for name, function in functions.items():
        connection.create_function(name, 1, function, deterministic=True)
    for table, statement in views.items():
        cursor.execute(f'CREATE TEMP VIEW "{table}" AS {statement}')
    # From now on, a write is an error.
    cursor.execute("PRAGMA query_only=ON")
    cursor.close()


def open_engine(url: str, begin: str, pool_size: int, *, durable: bool = True) -> Engine:
    """Return an engine on a SQLite file whose transactions begin as told.

    WAL lets readers and one writer go side by side; full synchronous makes an acknowledged commit survive.

    Args:
        url: `sqlite:///PATH`.
        begin: "BEGIN" for readers, "BEGIN IMMEDIATE" for writers, which never fail half-way for want of the
            lock.
        pool_size: the number of open connections.
        durable: whether a commit waits until it is on the disk.
    """
    engine = create_engine(
        url,
        poolclass=QueuePool,
        pool_size=pool_size,
        # Each reading thread keeps its own connection, so that no thread waits for another.
        max_overflow=-1,
        pool_reset_on_return=None,
        connect_args={
            "timeout": BUSY_SECONDS,
            "isolation_level": None,
            "cached_statements": 512,
            "check_same_thread": False,
        },
        query_cache_size=2000,
        # Parameters, such as password hashes or user attributes, must not be logged.
        hide_parameters=True,
    )

    @event.listens_for(engine, "connect")
    def prepare(connection: DBAPIConnection, _: ConnectionPoolEntry) -> None:
        cursor = connection.cursor()
        for pragma in PRAGMAS:
            cursor.execute(f"PRAGMA {pragma}")
        if not durable:
            cursor.execute("PRAGMA synchronous=OFF")
        cursor.close()

    @event.listens_for(engine, "begin")
    def start(connection: Any) -> None:
        # Directly to the driver: through SQLAlchemy this costs as much as a query.
        try:
            connection.connection.dbapi_connection.execute(begin)
        except sqlite3.OperationalError as wrong:
            raise error_text(wrong) from wrong

    return engine
