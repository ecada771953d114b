"""Passwords of local users."""

from __future__ import annotations

from dataclasses import dataclass, field

from sqlalchemy import ColumnElement, Connection, delete, func, insert, or_, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t


@dataclass(frozen=True)
class StoredPassword:
    """A row of the table of passwords, in the order of its columns.

    Attributes:
        must_change: whether the user has to choose another one at the next sign-in.
        until_at: the end of a one-time password that was not used; None for a chosen password.
    """

    user_id: str
    hash: str = field(repr=False)
    must_change: bool
    until_at: Instant | None
    changed_at: Instant


def get(connection: Connection, user_id: str) -> StoredPassword | None:
    """Return the password of a user, or None."""
    row = connection.execute(select(t.local_password).where(t.local_password.c.user_id == user_id)).first()
    return None if row is None else StoredPassword(*row)


def set_password(connection: Connection, password: StoredPassword) -> None:
    """Set the password of a user."""
    delete_password(connection, password.user_id)
    connection.execute(insert(t.local_password).values(**vars(password)))


def replace_hash(connection: Connection, user_id: str, before: str, after: str, now: Instant) -> bool:
    """Replace a password by one that the user chose; return False if it changed meanwhile."""
    p = t.local_password.c
    statement = update(t.local_password).where(p.user_id == user_id, p.hash == before)
    values = {"hash": after, "must_change": False, "until_at": None, "changed_at": now}
    return connection.execute(statement.values(**values)).rowcount == 1


def note_use(connection: Connection, user_id: str, before: str) -> bool:
    """Note that a one-time password was used and stays; return False if it changed meanwhile."""
    p = t.local_password.c
    statement = update(t.local_password).where(p.user_id == user_id, p.hash == before)
    return connection.execute(statement.values(until_at=None)).rowcount == 1


def delete_password(connection: Connection, user_id: str) -> None:
    """Delete the password of a user."""
    connection.execute(delete(t.local_password).where(t.local_password.c.user_id == user_id))


def exist(connection: Connection, domain: str | None = None) -> bool:
    """Return whether a user has a password: any user, or one whose email address has a domain."""
    statement = select(t.local_password.c.user_id).limit(1)
    if domain is not None:
        u = t.user.c
        ends = func.substr(u.email_key, -len(domain) - 1) == f"@{domain}"
        statement = statement.join(t.user, u.id == t.local_password.c.user_id).where(ends)
    return connection.execute(statement).first() is not None


@dataclass(frozen=True)
class PasswordUser:
    """A user with a password, to sign in."""

    id: str
    user_name: str
    display_name: str
    email: str | None
    active: bool
    hash: str = field(repr=False)
    must_change: bool
    until_at: Instant | None

    @property
    def names(self) -> tuple[str | None, ...]:
        """What the user is called: a password should not be made of it."""
        return (self.user_name, self.display_name, self.email)


def users_named(connection: Connection, name_key: str, email_key: str) -> list[PasswordUser]:
    """Return the users with a password who have not left and have a user name or an email address.

    Args:
        name_key, email_key: in the form in which they are compared.
    """
    u = t.user.c
    return _users(connection, or_(u.user_name_key == name_key, u.email_key == email_key))


def user_by_id(connection: Connection, user_id: str) -> PasswordUser | None:
    """Return a user with a password who has not left, or None."""
    return next(iter(_users(connection, t.user.c.id == user_id)), None)


def _users(connection: Connection, where: ColumnElement[bool]) -> list[PasswordUser]:
    u, p = t.user.c, t.local_password.c
    columns = (u.id, u.user_name, u.display_name, u.email, u.active, p.hash, p.must_change, p.until_at)
    statement = select(*columns).join(t.local_password, p.user_id == u.id).where(where, u.left_at.is_(None))
    return [PasswordUser(*row) for row in connection.execute(statement)]
