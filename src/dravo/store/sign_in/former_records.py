"""Records of the sign-in protocol that a source used before.

Their users are known, but no subject of the present provider is one of theirs: each user is matched again, by
the user name that the source reports, and the new record then replaces the former one.
"""

from __future__ import annotations

from sqlalchemy import Connection, String, cast, func, literal, select, update

from dravo.core.identity.records import SIGN_IN
from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.imports.conflicts import OVER

# Before what is stored of a former record as its ID and its user name. No provider's ID and no user name
# contains it.
FORMER = "\x1e"


def set_aside(connection: Connection, source_id: str) -> int:
    """Set all sign-in records of a source aside; return their number.

    Open conflicts and links ahead name subjects of the former provider, so that they end.
    """
    r, c = t.record.c, t.conflict.c
    where = (r.source_id == source_id, r.connection_type == SIGN_IN, ~r.native_id.startswith(FORMER))
    mark = literal(FORMER) + cast(r.id, String)
    statement = update(t.record).where(*where)
    number = connection.execute(
        statement.values(native_id=mark, user_name_key=mark + literal(FORMER) + r.user_name_key)
    ).rowcount
    ended = (c.source_id == source_id, c.connection_type == SIGN_IN, c.status != OVER)
    connection.execute(update(t.conflict).where(*ended).values(status=OVER))
    return number


def number_of_users(connection: Connection, source_id: str) -> int:
    """Return the number of users who have a present sign-in record, set aside or not."""
    r = t.record.c
    where = (r.source_id == source_id, r.connection_type == SIGN_IN, r.deleted_at.is_(None))
    return int(connection.execute(select(func.count(r.user_id.distinct())).where(*where)).scalar_one())


def number_of_links_ahead(connection: Connection, source_id: str) -> int:
    """Return the number of decisions about subjects that have not signed in yet."""
    c = t.conflict.c
    where = (c.source_id == source_id, c.connection_type == SIGN_IN, c.status != OVER)
    return int(connection.execute(select(func.count()).where(*where)).scalar_one())


def is_former(native_id: str | None) -> bool:
    """Return whether a record with this ID was set aside."""
    return native_id is not None and native_id.startswith(FORMER)


def user_name_key_of(stored: str) -> str:
    """Return the compared user name of a record, set aside or not."""
    return stored.rpartition(FORMER)[2]


def of_user(connection: Connection, source_id: str, user_id: str) -> str | None:
    """Return the ID of the record of a user that was set aside, or None."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.user_id == user_id,
        r.connection_type == SIGN_IN,
        r.deleted_at.is_(None),
        r.native_id.startswith(FORMER),
    )
    return connection.execute(select(r.id).where(*where)).scalar()


def user_named(connection: Connection, source_id: str, user_name_key: str) -> str | None:
    """Return the ID of the user whose record under a user name was set aside, or None."""
    r = t.record.c
    where = (
        r.source_id == source_id,
        r.connection_type == SIGN_IN,
        r.deleted_at.is_(None),
        r.native_id.startswith(FORMER),
        r.user_name_key.endswith(FORMER + user_name_key, autoescape=True),
    )
    return connection.execute(select(r.user_id).where(*where)).scalar()


def replace(connection: Connection, former_id: str, record_id: str, now: Instant) -> None:
    """Let a new record take the place of a former one, with its memberships."""
    m, r = t.membership.c, t.record.c
    open_ones = (m.record_id == former_id, m.until_at.is_(None))
    connection.execute(update(t.membership).where(*open_ones).values(record_id=record_id))
    connection.execute(update(t.record).where(r.id == former_id).values(deleted_at=now))
