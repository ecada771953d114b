"""The password and the second factor of a local user."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.services.context import AppContext
from dravo.services.ingest.local.users import local_record
from dravo.services.local_users import invitations, passwords
from dravo.services.local_users.invitations import InvitationLine
from dravo.services.lookups import find_user
from dravo.services.security import factors
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.factors import FactorOwner, SecondFactor
from dravo.services.security.permissions import Caller
from dravo.services.sign_in.sessions import SignedInUser
from dravo.store import clock
from dravo.store.local import passwords as stored
from dravo.store.queries.users import User
from dravo.store.second_factors import steps
from dravo.store.sign_in import sessions as session_rows
from dravo.store.sign_in import users as sign_in_users


@dataclass
class OwnSecurity:
    """What a signed-in user can secure; `second_factor` is None for users of a source."""

    has_password: bool
    password_changed_at: str | None
    can_confirm_weak: bool
    second_factor: SecondFactor | None


def shown(ctx: AppContext, visitor: SignedInUser) -> OwnSecurity:
    """Return the password and the second factor of a signed-in user."""
    with ctx.database.reading() as connection:
        password = stored.get(connection, visitor.user_id)
        owner = _owner(ctx, connection, visitor) if password is not None else None
        return OwnSecurity(
            has_password=password is not None,
            password_changed_at=password.changed_at if password is not None else None,
            can_confirm_weak=passwords.may_confirm_weak(connection),
            second_factor=factors.status(ctx, connection, owner) if owner is not None else None,
        )


def owner_of(ctx: AppContext, visitor: SignedInUser) -> FactorOwner:
    """Return a signed-in user as the owner of a second factor.

    Raises:
        InvalidInput: for a user without a password, whose source decides about second factors.
    """
    with ctx.database.reading() as connection:
        if stored.get(connection, visitor.user_id) is None:
            raise InvalidInput(
                "You sign in through an identity provider.", "Set up your second factor there."
            )
        return _owner(ctx, connection, visitor)


@dataclass
class LocalSignIn:
    """How a local user signs in, for operators.

    Attributes:
        invitation: the user's invitation, or None.
        one_time_until: until when a one-time password that was not used can be used, or None.
    """

    has_password: bool
    password_changed_at: str | None
    must_change: bool
    one_time_until: str | None
    second_factor: bool
    invitation: InvitationLine | None


def of_user(ctx: AppContext, name: str) -> LocalSignIn:
    """Return how a local user signs in.

    Raises:
        NotFound; InvalidInput: for a user who is not local.
    """
    with ctx.database.reading() as connection:
        return _of_user(connection, _local_user(connection, name).id)


def _of_user(connection: Connection, user_id: str) -> LocalSignIn:
    password = stored.get(connection, user_id)
    return LocalSignIn(
        has_password=password is not None,
        password_changed_at=password.changed_at if password is not None else None,
        must_change=password is not None and password.must_change,
        one_time_until=password.until_at if password is not None else None,
        second_factor=factors.has_factor(connection, user_id),
        invitation=invitations.of_user(connection, user_id),
    )


def reset_second_factor(ctx: AppContext, caller: Caller, name: str) -> LocalSignIn:
    """Delete the second factor of a local user who lost it, and end the user's sessions.

    Raises:
        NotFound; InvalidInput: for a user who is not local.
    """
    with ctx.database.writing() as connection:
        user = _local_user(connection, name)
        factors.reset(connection, user.id)
        steps.delete_of_owner(connection, user.id)
        session_rows.delete_of_user(connection, user.id)
        personal = {"user_name": user.user_name}
        event = AuditEvent("reset second factor", "user", user.id, details={}, personal=personal)
        record_change(connection, ctx.keys, caller, clock.now(), event)
        return _of_user(connection, user.id)


def _local_user(connection: Connection, name: str) -> User:
    user = find_user(connection, name)
    local_record(connection, user)
    return user


def _owner(ctx: AppContext, connection: Connection, visitor: SignedInUser) -> FactorOwner:
    names = sign_in_users.names_of(connection, visitor.user_id)

    def record(writing: Connection, action: str) -> None:
        passwords.note(ctx, writing, (visitor.user_id, names.user_name), action)

    def end_other_sessions(writing: Connection) -> None:
        session_rows.delete_of_user(writing, visitor.user_id, but=visitor.id)

    return FactorOwner(
        id=visitor.user_id,
        name=names.user_name,
        required=False,
        keeps_codes=False,
        record=record,
        end_other_sessions=end_other_sessions,
    )
