"""Users whom accounts found in an application may belong to."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, select

from dravo.store import tables as t

CHUNK = 500


@dataclass(frozen=True)
class FoundUser:
    """A user, with the text by which the user was found."""

    text: str
    id: str
    display_name: str
    active: bool


def by_user_names(connection: Connection, texts: Iterable[str]) -> list[FoundUser]:
    """Return the users with some folded user names."""
    return _by(connection, t.user.c.user_name_key, texts)


def by_emails(connection: Connection, texts: Iterable[str]) -> list[FoundUser]:
    """Return the users with some folded email addresses."""
    return _by(connection, t.user.c.email_key, texts)


def _by(connection: Connection, column: ColumnElement[Any], texts: Iterable[str]) -> list[FoundUser]:
    u, wanted = t.user.c, sorted(set(texts))
    found: list[FoundUser] = []
    for start in range(0, len(wanted), CHUNK):
        some = column.in_(wanted[start : start + CHUNK])
        rows = connection.execute(
            select(column, u.id, u.display_name, u.active).where(some, u.left_at.is_(None))
        )
        found += [FoundUser(*row) for row in rows]
    return found


def every_user(connection: Connection) -> Iterator[tuple[str, str, bool, dict[str, Any]]]:
    """Yield (ID, name, whether active, attributes) of the users who have not left."""
    u = t.user.c
    statement = select(u.id, u.display_name, u.active, u.attributes).where(u.left_at.is_(None))
    for row in connection.execute(statement.execution_options(yield_per=CHUNK)):
        yield row.id, row.display_name, row.active, row.attributes


@dataclass(frozen=True)
class UserAccount:
    """The account of a user in an application: the state to reach, and the ID there or None."""

    account_id: str
    desired: dict[str, Any]
    remote_id: str | None


def accounts_of(
    connection: Connection, application_id: str, user_ids: Sequence[str]
) -> dict[str, UserAccount]:
    """Return the accounts of some users in an application, by user ID."""
    a = t.account.c
    found: dict[str, UserAccount] = {}
    for start in range(0, len(user_ids), CHUNK):
        some = a.user_id.in_(user_ids[start : start + CHUNK])
        statement = select(a.user_id, a.id, a.desired, a.remote_id).where(
            a.application_id == application_id, some
        )
        found |= {row.user_id: UserAccount(*row[1:]) for row in connection.execute(statement)}
    return found
