"""Invitations of local users."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import ColumnElement, Connection, and_, delete, insert, select, update

from dravo.core.instants import Instant
from dravo.store import tables as t
from dravo.store.pagination import Item, Page, PageRequest, page, shown_as
from dravo.store.queries.search import user_has

OPEN, EXPIRED, ACCEPTED, WITHDRAWN = "open", "expired", "accepted", "withdrawn"
STATUSES = (OPEN, EXPIRED, ACCEPTED, WITHDRAWN)


@dataclass(frozen=True)
class StoredInvitation:
    """An invitation with the name of its user, in the order of the select.

    Attributes:
        hash: the digest of the secret in the link.
        accepted_with: "password" or the key of a source.
    """

    id: str
    user_id: str
    email: str
    hash: str = field(repr=False)
    invited_by: str
    invited_at: Instant
    sent_at: Instant
    until_at: Instant
    accepted_at: Instant | None
    accepted_with: str | None
    withdrawn_at: Instant | None
    user_name: str
    display_name: str

    def status(self, now: Instant) -> str:
        """Return the status at an instant."""
        if self.accepted_at is not None:
            return ACCEPTED
        if self.withdrawn_at is not None:
            return WITHDRAWN
        return OPEN if now < self.until_at else EXPIRED


def _select() -> Any:
    return select(t.invitation, t.user.c.user_name, t.user.c.display_name).join(
        t.user, t.user.c.id == t.invitation.c.user_id
    )


def insert_invitation(connection: Connection, row: dict[str, Any]) -> None:
    """Insert an invitation, and mark its user as pending; an earlier invitation of the user is replaced."""
    connection.execute(delete(t.invitation).where(t.invitation.c.user_id == row["user_id"]))
    connection.execute(insert(t.invitation).values(**row))
    _set_pending(connection, row["user_id"], row["invited_at"])


def get(connection: Connection, invitation_id: str) -> StoredInvitation | None:
    """Return an invitation, or None."""
    return _first(connection, t.invitation.c.id == invitation_id)


def by_hash(connection: Connection, secret_hash: str) -> StoredInvitation | None:
    """Return the invitation of a link, or None."""
    return _first(connection, t.invitation.c.hash == secret_hash)


def of_user(connection: Connection, user_id: str) -> StoredInvitation | None:
    """Return the invitation of a user, or None."""
    return _first(connection, t.invitation.c.user_id == user_id)


def _first(connection: Connection, where: ColumnElement[bool]) -> StoredInvitation | None:
    row = connection.execute(_select().where(where)).first()
    return None if row is None else StoredInvitation(*row)


def list_invitations(
    connection: Connection,
    page_request: PageRequest,
    show: Callable[[StoredInvitation], Item],
    status: tuple[str, Instant] | None,
    words: str | None = None,
) -> Page[Item]:
    """Return a page of invitations, newest first.

    Args:
        status: a status and the instant at which it holds; None for all.
        words: searched in the name, the user name and the email of the user.
    """
    statement = _select()
    if status is not None:
        statement = statement.where(_has_status(*status))
    if words:
        statement = statement.where(user_has(words, emails=True))
    return page(
        connection, statement, [t.invitation.c.id.desc()], page_request, shown_as(StoredInvitation, show)
    )


def _has_status(status: str, now: Instant) -> ColumnElement[bool]:
    i = t.invitation.c
    undecided = and_(i.accepted_at.is_(None), i.withdrawn_at.is_(None))
    return {
        OPEN: and_(undecided, i.until_at > now),
        EXPIRED: and_(undecided, i.until_at <= now),
        ACCEPTED: i.accepted_at.is_not(None),
        WITHDRAWN: and_(i.accepted_at.is_(None), i.withdrawn_at.is_not(None)),
    }[status]


def renew(
    connection: Connection, invitation_id: str, email: str, secret_hash: str, times: tuple[Instant, Instant]
) -> bool:
    """Give an invitation that is neither accepted nor withdrawn a new link; return whether it was.

    Args:
        times: when it is sent, and until when it is valid.
    """
    values = {"email": email, "hash": secret_hash, "sent_at": times[0], "until_at": times[1]}
    return _change_undecided(connection, invitation_id, values)


def accept(connection: Connection, invitation: StoredInvitation, with_: str, now: Instant) -> bool:
    """Note that an invitation was accepted; return False if it was decided or sent again meanwhile."""
    values = {"accepted_at": now, "accepted_with": with_}
    if not _change_undecided(connection, invitation.id, values, t.invitation.c.hash == invitation.hash):
        return False
    _set_pending(connection, invitation.user_id, None)
    return True


def withdraw(connection: Connection, invitation: StoredInvitation, now: Instant) -> bool:
    """Note that an invitation was withdrawn; return False if it was decided meanwhile."""
    if not _change_undecided(connection, invitation.id, {"withdrawn_at": now}):
        return False
    _set_pending(connection, invitation.user_id, None)
    return True


def close_of_user(connection: Connection, user_id: str, now: Instant) -> None:
    """Withdraw the open invitation of a user, if there is one."""
    found = of_user(connection, user_id)
    if found is not None:
        withdraw(connection, found, now)


def _change_undecided(
    connection: Connection, invitation_id: str, values: dict[str, Any], *more: ColumnElement[bool]
) -> bool:
    i = t.invitation.c
    where = (i.id == invitation_id, i.accepted_at.is_(None), i.withdrawn_at.is_(None), *more)
    return connection.execute(update(t.invitation).where(*where).values(**values)).rowcount == 1


def _set_pending(connection: Connection, user_id: str, since: Instant | None) -> None:
    connection.execute(update(t.user).where(t.user.c.id == user_id).values(invited_at=since))


def names_in_use(
    connection: Connection, name_keys: set[str], email_keys: set[str]
) -> tuple[dict[str, str], dict[str, str]]:
    """Return which user names and email addresses users have who have not left.

    Args:
        name_keys, email_keys: in the form in which they are compared.

    Returns:
        By user name and by email address, the displayed name of the user.
    """
    u = t.user.c
    found: tuple[dict[str, str], dict[str, str]] = ({}, {})
    for column, wanted, into in ((u.user_name_key, name_keys, found[0]), (u.email_key, email_keys, found[1])):
        keys = sorted(each for each in wanted if each)
        for start in range(0, len(keys), 200):
            statement = select(column, u.display_name).where(
                column.in_(keys[start : start + 200]), u.left_at.is_(None)
            )
            into.update((key, name) for key, name in connection.execute(statement))
    return found
