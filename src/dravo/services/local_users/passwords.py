"""Passwords of local users: the policy, and the user's own change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection

from dravo.core.errors import DravoError, InvalidInput, NotPermitted
from dravo.core.identity.passwords import WEAK, check_password
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.secrets import digest_password, password_fits
from dravo.services.sign_in.sessions import SignedInUser
from dravo.store import clock
from dravo.store.local import passwords as stored
from dravo.store.second_factors import steps
from dravo.store.sign_in import sessions as session_rows

# Who changes a password or accepts an invitation, in the audit log; the user's name is outside the chain.
USER = Caller("", "a user", "user")


class WeakPassword(DravoError):
    """The password is easy to guess; the user can confirm it, or has to choose another one."""

    code = "weak_password"
    status = 422


@dataclass(frozen=True)
class ChosenPassword:
    """A password that a user chose, and whether the user confirmed it although it is weak."""

    text: str
    confirmed: bool = False


def check_allowed(connection: Connection) -> None:
    """Check that the organization has local users.

    Raises:
        NotPermitted.
    """
    if not settings.read(connection)["local_users"]:
        raise NotPermitted(
            "Sign-in with a password of Dravo is disabled.",
            "Sign in through your identity provider, or contact your administrator.",
        )


def hashed(connection: Connection, names: Sequence[str | None], chosen: ChosenPassword) -> str:
    """Return the hash of a password, if it meets the policy.

    Args:
        names: the names and the address of the user; they make a password weak.

    Raises:
        InvalidInput: for a password that is too short or too long; WeakPassword.
    """
    values = settings.read(connection)
    words = [each for each in (*names, str(values["organization_name"])) if each]
    problem = check_password(chosen.text, values["password_length"], words)
    if problem is not None and problem.kind != WEAK:
        raise InvalidInput(problem.message, problem.hint, "password")
    if problem is not None and not (values["weak_passwords"] and chosen.confirmed):
        hint = problem.hint
        if values["weak_passwords"]:
            hint += " To use it nevertheless, confirm it."
        raise WeakPassword(problem.message, hint, "password")
    return digest_password(chosen.text)


def may_confirm_weak(connection: Connection) -> bool:
    """Return whether users can use weak passwords after a confirmation."""
    return bool(settings.read(connection)["weak_passwords"])


def change_own(
    ctx: AppContext, limiter: RateLimiter, visitor: SignedInUser, present: str, chosen: ChosenPassword
) -> None:
    """Change the password of a signed-in user, and end the user's other sessions.

    Args:
        limiter: limits wrong passwords, so that nobody can guess the password at an unlocked screen.
        present: the current password.

    Raises:
        InvalidInput: for a wrong current password, a user without a password, or a new password that does not
            meet the policy; WeakPassword, TooManyTries.
    """
    mark = f"password of {visitor.user_id}"
    limiter.check(mark)
    with ctx.database.reading() as connection:
        check_allowed(connection)
        user = stored.user_by_id(connection, visitor.user_id)
        if user is None:
            raise InvalidInput("You have no password.", "Sign in through your identity provider.")
        if not password_fits(user.hash, present):
            limiter.failed(mark)
            raise InvalidInput("The current password is wrong.", "Enter it again.", "present")
        limiter.worked(mark)
        if chosen.text == present:
            raise InvalidInput(
                "The new password is the same as the current one.", "Choose another password.", "password"
            )
        kept = hashed(connection, user.names, chosen)
    now = clock.now()
    with ctx.database.writing() as connection:
        if not stored.replace_hash(connection, user.id, user.hash, kept, now):
            raise InvalidInput("Your password was changed in the meantime.", "Sign in again.")
        session_rows.delete_of_user(connection, user.id, but=visitor.id)
        steps.delete_of_owner(connection, user.id)
        note(ctx, connection, (user.id, user.user_name), "changed own password")


def note(
    ctx: AppContext, connection: Connection, user: tuple[str, str], action: str, application: str = ""
) -> None:
    """Write into the audit log what a user did.

    Args:
        user: the ID and the user name.
        application: the key of the application that it concerns.
    """
    details = {"application": application} if application else {}
    event = AuditEvent(action, "user", user[0], details=details, personal={"user_name": user[1]})
    record_change(connection, ctx.keys, USER, clock.now(), event)
