"""Opens the records and gives connections: any number for reading, one at a time for writing."""

from __future__ import annotations

import shutil
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from sqlalchemy import Connection, Engine, event, insert, inspect, text
from sqlalchemy.exc import DatabaseError, OperationalError

from dravo.core.errors import DravoError, StorageFailing
from dravo.store import tables
from dravo.store.operators import masked_views
from dravo.store.operators.masked_views import MASKS
from dravo.store.sqlite import (
    checkpoint,
    commits_seen,
    error_text,
    missing_references,
    open_engine,
    put_views_in_place,
    without_references,
)

if TYPE_CHECKING:
    from alembic.config import Config

FILE_NAME = "dravo.sqlite"
CATALOGUE = "catalogue"
# With less room than this, in bytes, the next change may fail.
LEAST_FREE = 4 * 1024 * 1024
_MIGRATIONS = Path(__file__).parent / "migrations"


class NotReadable(DravoError):
    """The database is damaged, or is another version's."""

    code = "not_readable"


class Database:
    """The records in one data folder.

    Args:
        durable: whether a commit survives a loss of power. Only tests do without.
    """

    def __init__(self, folder: Path, readers: int = 8, *, durable: bool = True) -> None:
        self.folder = folder
        self.path = folder / FILE_NAME
        url = f"sqlite:///{self.path}"
        self._readers = open_engine(url, "BEGIN", readers, durable=durable)
        # By what is masked, the connections of callers who see masked values; made when first needed.
        self._masked: dict[frozenset[str], Engine] = {}
        self._masking = threading.Lock()
        self._writers = open_engine(url, "BEGIN IMMEDIATE", 2, durable=durable)
        # Threads of one process take turns here, in order, instead of polling for the file's lock.
        self._turn = threading.Lock()
        # Held by a thread that repeats a change after a conflict, so that such threads do not delay each
        # other.
        self.overtaken = threading.Lock()
        self._writer: Connection | None = None
        self._own = threading.local()

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """Give a connection that sees one state of the records.

        Raises:
            Busy, StorageFailing: if they cannot be read.
        """
        connection = self._reader()
        if connection.in_transaction():
            yield connection
            return
        try:
            with connection.begin():
                yield connection
        except OperationalError as wrong:
            raise error_text(wrong, "read") from wrong

    @contextmanager
    def reading_unmasked(self) -> Iterator[Connection]:
        """Give a connection as `reading` does, never with masked values: for checks that show none."""
        token = MASKS.set(frozenset())
        try:
            with self.reading() as connection:
                yield connection
        finally:
            MASKS.reset(token)

    def apart(self) -> Connection:
        """Return a separate connection for long reading; the caller closes it."""
        return self._engine().connect()

    def _engine(self) -> Engine:
        """Return the engine for reading; with masked values where the present caller's view masks some."""
        masks = MASKS.get()
        if not masks:
            return self._readers
        with self._masking:
            if masks not in self._masked:
                engine = open_engine(f"sqlite:///{self.path}", "BEGIN", 2)
                views = masked_views.views(masks)
                event.listen(
                    engine,
                    "connect",
                    lambda connection, _: put_views_in_place(connection, views, masked_views.FUNCTIONS),
                )
                self._masked[masks] = engine
            return self._masked[masks]

    def glancing(self) -> Connection:
        """Return this thread's connection for reading, for a single prepared statement that needs no
        transaction.
        """
        return self._reader()

    def commits_seen(self) -> int:
        """Return a number that changes, in this thread, whenever anything is written."""
        return commits_seen(self._reader())

    def _reader(self) -> Connection:
        """Return this thread's connection for reading, which stays open: opening one costs as much as a
        query.
        """
        if MASKS.get():
            return self._masked_reader()
        held: Connection | None = getattr(self._own, "reader", None)
        if held is None or held.closed or held.invalidated:
            held = self._own.reader = self._readers.connect()
        return held

    def _masked_reader(self) -> Connection:
        held: dict[frozenset[str], Connection] = self._own.__dict__.setdefault("masked", {})
        masks = MASKS.get()
        if masks not in held or held[masks].closed or held[masks].invalidated:
            held[masks] = self._engine().connect()
        return held[masks]

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Give the connection for writing; commits at the end, rolls back on an error.

        Keep it short: statements only, no network and no computing.

        Raises:
            Busy: if another process holds the lock too long.
            StorageFailing: if the disk is full or the file read-only.
        """
        with self._turn:
            if self._writer is None or self._writer.closed or self._writer.invalidated:
                self._writer = self._writers.connect()
            connection = self._writer
            try:
                with connection.begin():
                    yield connection
            except OperationalError as wrong:
                raise error_text(wrong) from wrong

    def check_writable(self) -> None:
        """Write without a change, to check that writing works.

        Raises:
            Busy, StorageFailing: if writing fails, or will soon for want of space.
        """
        free = shutil.disk_usage(self.folder).free
        if free < LEAST_FREE:
            raise StorageFailing(
                f"The disk of '{self.folder}' has only {free:,} bytes left.", "Free some space on the disk."
            )
        with self.writing() as connection:
            connection.execute(tables.revision.update().values(value=tables.revision.c.value))

    def migrate(self) -> None:
        """Migrate the tables to the current schema, from nothing or from a released one."""
        self.folder.mkdir(parents=True, exist_ok=True)
        if self.is_current():
            return
        # Alembic takes longer to import than most processes need to start, and is needed only here.
        from alembic import command

        config = migration_config()
        with self._copying() as connection:
            config.attributes["connection"] = connection
            before = missing_references(connection)
            command.upgrade(config, "head")
            if lost := missing_references(connection) - before:
                table, _, other = min(lost)
                raise NotReadable(
                    f"The upgrade would lose rows of '{other}' that '{table}' needs; nothing was changed.",
                    "Keep this version, and restore the latest backup if the database is damaged.",
                )
            if connection.execute(tables.revision.select()).first() is None:
                connection.execute(insert(tables.revision).values(name=CATALOGUE, value=1))

    @contextmanager
    def _copying(self) -> Iterator[Connection]:
        """Give a connection that can copy tables in one transaction; the caller checks its references."""
        try:
            with self._writers.connect() as connection, without_references(connection), connection.begin():
                yield connection
        except OperationalError as wrong:
            raise error_text(wrong) from wrong

    def is_current(self) -> bool:
        """Return whether the schema is that of the newest migration, with its first rows."""
        try:
            with self.reading() as connection:
                if not inspect(connection).has_table("alembic_version"):
                    return False
                version = connection.execute(text("SELECT version_num FROM alembic_version")).scalar()
                if version is not None and str(version) > newest_migration():
                    raise NotReadable(
                        f"'{self.path}' was written by a newer version of Dravo.",
                        "Run that version or a newer one.",
                    )
                return (
                    version == newest_migration()
                    and connection.execute(tables.revision.select()).first() is not None
                )
        except OperationalError as wrong:
            raise error_text(wrong) from wrong
        except DatabaseError as wrong:
            # Errors of the file itself have this class.
            raise NotReadable(
                f"'{self.path}' is damaged or is not a database of Dravo.", "Restore the latest backup."
            ) from wrong

    def checkpoint(self) -> None:
        """Write the log into the database file, so that a copy of the file is complete.

        Raises:
            Busy, StorageFailing.
        """
        try:
            checkpoint(self._reader())
        except OperationalError as wrong:
            raise error_text(wrong) from wrong

    def close(self) -> None:
        """Close all connections that no thread is using."""
        masked: dict[frozenset[str], Connection] = getattr(self._own, "masked", {})
        for connection in (self._writer, getattr(self._own, "reader", None), *masked.values()):
            if connection is not None:
                connection.close()
        for engine in (self._readers, *self._masked.values()):
            engine.dispose()
        self._writers.dispose()


def newest_migration() -> str:
    """Return the newest migration: its four-digit number, with which the name of its file begins."""
    return max(file.name[:4] for file in (_MIGRATIONS / "versions").glob("[0-9][0-9][0-9][0-9]_*.py"))


def migration_config() -> Config:
    """Return Alembic's configuration for the migrations that ship with the package."""
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    return config
