"""Sign-ins in progress, assertions that were used, and test sign-ins."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as


@dataclass(frozen=True)
class SignInRequest:
    """A sign-in that was started, in the order of the table's columns.

    Attributes:
        state_hash, browser_hash: the hashes of its state and of the browser's cookie.
        request_id: the ID of the request to the provider, or None.
        secret: encrypted values that the response is checked against, or None.
        test_id: the test sign-in that it belongs to, or None.
        operator_id: the operator who links the source, or None.
        tries: the number of wrong codes.
        back: the page to return to.
    """

    state_hash: str
    source_id: str
    browser_hash: str
    request_id: str | None
    secret: str | None = field(repr=False)
    test_id: str | None
    operator_id: str | None
    tries: int
    back: str
    begun_at: Instant | None
    until_at: Instant


def insert_request(connection: Connection, row: Mapping[str, Any]) -> None:
    """Insert a started sign-in."""
    connection.execute(insert(t.sign_in_request).values(**row))


def get(connection: Connection, state_hash: str, source_id: str | None = None) -> SignInRequest | None:
    """Return the started sign-in of a state, of any source or of one; or None."""
    b = t.sign_in_request.c
    where = [b.state_hash == state_hash, *([] if source_id is None else [b.source_id == source_id])]
    row = connection.execute(select(t.sign_in_request).where(*where)).first()
    return None if row is None else SignInRequest(*row)


def is_pending(connection: Connection, state_hash: str, browser_hash: str, now: Instant) -> bool:
    """Return whether a browser started the sign-in of a state, and it is not over."""
    b = t.sign_in_request.c
    where = (b.state_hash == state_hash, b.browser_hash == browser_hash, b.until_at > now)
    return connection.execute(select(b.state_hash).where(*where)).first() is not None


def note_tries(connection: Connection, state_hash: str, tries: int) -> None:
    """Note how many wrong codes were entered."""
    b = t.sign_in_request.c
    connection.execute(update(t.sign_in_request).where(b.state_hash == state_hash).values(tries=tries))


def delete_request(connection: Connection, state_hash: str) -> bool:
    """Delete a started sign-in; return whether it existed."""
    b = t.sign_in_request.c
    return bool(connection.execute(delete(t.sign_in_request).where(b.state_hash == state_hash)).rowcount)


def insert_consumed(connection: Connection, source_id: str, once_hash: str, until: Instant) -> None:
    """Note that an assertion was used.

    Raises:
        IntegrityError: if it was used before.
    """
    row = {"source_id": source_id, "once_hash": once_hash, "until_at": until}
    connection.execute(insert(t.consumed_assertion).values(**row))


def delete_expired(connection: Connection, now: Instant) -> None:
    """Delete expired sign-ins in progress and their steps, used assertions that nobody would accept, and
    sessions.
    """
    for table in (t.sign_in_request, t.sign_in_step, t.consumed_assertion, t.user_session):
        connection.execute(delete(table).where(table.c.until_at < now))


@dataclass(frozen=True)
class StoredTest:
    """A row of the table of test sign-ins, in the order of its columns."""

    id: str
    source_id: str
    hash: str
    user: str
    user_key: str
    mode: str
    created_by: str
    created_at: Instant
    until_at: Instant


def insert_test(connection: Connection, test: StoredTest) -> None:
    """Insert a test sign-in."""
    connection.execute(insert(t.test_sign_in).values(**vars(test)))


def test_by_id(connection: Connection, test_id: str) -> StoredTest | None:
    """Return a test sign-in, or None."""
    row = connection.execute(select(t.test_sign_in).where(t.test_sign_in.c.id == test_id)).first()
    return None if row is None else StoredTest(*row)


def test_by_hash(connection: Connection, source_id: str, secret_hash: str, now: Instant) -> StoredTest | None:
    """Return the test sign-in of a link that is not over, or None."""
    c = t.test_sign_in.c
    where = (c.hash == secret_hash, c.source_id == source_id, c.until_at > now)
    row = connection.execute(select(t.test_sign_in).where(*where)).first()
    return None if row is None else StoredTest(*row)


def list_tests(
    connection: Connection, source_id: str, page_request: PageRequest, show: Callable[[StoredTest], Item]
) -> Page[Item]:
    """Return a page of a source's test sign-ins, newest first."""
    c = t.test_sign_in.c
    statement = select(t.test_sign_in).where(c.source_id == source_id)
    return page(connection, statement, [c.id.desc()], page_request, shown_as(StoredTest, show))


def begun_at(connection: Connection, test_id: str, now: Instant) -> Instant | None:
    """Return when a sign-in of a test that is not over was started last, or None."""
    b = t.sign_in_request.c
    statement = select(func.max(b.begun_at)).where(b.test_id == test_id, b.until_at > now)
    return connection.execute(statement).scalar()
