"""One-time passwords of local users, to hand out where there is no email; each is shown once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.instants import later
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.ingest.local.users import check_allowed, local_record
from dravo.services.lookups import find_users
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest_password, made_password
from dravo.store import clock
from dravo.store.local import invitations
from dravo.store.local import passwords as stored
from dravo.store.local.passwords import StoredPassword
from dravo.store.pagination import ItemList
from dravo.store.queries.references import UserRef
from dravo.store.second_factors import steps
from dravo.store.sign_in import sessions as session_rows

MOST_USERS = 500


@dataclass(frozen=True)
class MadePassword:
    """A generated password and its hash, computed before the writer's lock is taken."""

    text: str = field(repr=False)
    hash: str = field(repr=False)


@dataclass(frozen=True)
class OneTimePassword:
    """The one-time password of a user, shown once."""

    user: UserRef
    password: str = field(repr=False)
    until_at: str


def made() -> MadePassword:
    """Return a generated password."""
    text = made_password()
    return MadePassword(text, digest_password(text))


def store(connection: Connection, user_id: str, password: MadePassword) -> str:
    """Set a one-time password of a user; return until when it can be used."""
    values, now = settings.read(connection), clock.now()
    until = later(now, values["invitation_days"] * 86_400)
    must_change = bool(values["change_one_time_passwords"])
    stored.set_password(connection, StoredPassword(user_id, password.hash, must_change, until, now))
    return until


def create(ctx: AppContext, caller: Caller, names: Sequence[str]) -> ItemList[OneTimePassword]:
    """Create one-time passwords of active local users; their passwords stop working, and their sessions end.

    Raises:
        NotFound; InvalidInput: for a user who is not local or not active; NotPermitted.
    """
    if not names or len(names) > MOST_USERS:
        raise InvalidInput(
            f"The request names {len(names)} users.", f"Name 1 to {MOST_USERS} users.", "users"
        )
    with ctx.database.reading() as connection:
        check_allowed(connection)
        users = list({each.id: each for each in find_users(connection, names)}.values())
        for user in users:
            local_record(connection, user)
            if not user.active:
                raise InvalidInput(
                    f"{user.display_name} is not active.",
                    "Activate the user first, or send the invitation again.",
                    "users",
                )
    passwords = {user.id: made() for user in users}
    items = []
    with ctx.database.writing() as connection:
        for user in users:
            until = store(connection, user.id, passwords[user.id])
            steps.delete_of_owner(connection, user.id)
            session_rows.delete_of_user(connection, user.id)
            invitations.close_of_user(connection, user.id, clock.now())
            personal = {"user_name": user.user_name}
            event = AuditEvent("created one-time password", "user", user.id, details={}, personal=personal)
            record_change(connection, ctx.keys, caller, clock.now(), event)
            named = UserRef(user.id, user.display_name, user.user_name)
            items.append(OneTimePassword(named, passwords[user.id].text, until))
    return ItemList(items)
