"""Password checks for applications with their own sign-in form (O10): the user and the roles, or why not."""

from __future__ import annotations

from dataclasses import dataclass, field

from dravo.core.identity.names import fold
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.local_users import password_sign_in, passwords
from dravo.services.local_users.password_sign_in import PasswordRefused
from dravo.services.lookups import application_by_key
from dravo.services.security import factors
from dravo.services.security.factors import Proof
from dravo.services.security.rate_limits import RateLimiter
from dravo.store.access import assignments as access_rows
from dravo.store.local.passwords import PasswordUser
from dravo.store.queries.references import UserRef

SIGNED_IN, NO_ACCESS = "signed_in", "no_access"
SECOND_FACTOR, WRONG_CODE, NEW_PASSWORD = "second_factor", "wrong_code", "new_password"


@dataclass(frozen=True)
class CheckRequest:
    """What a user entered in the sign-in form of an application; `code` is of the second factor."""

    name: str
    password: str = field(repr=False)
    code: str = field(default="", repr=False)


@dataclass(frozen=True)
class CheckedRole:
    """A role of the user; `value` is what the application knows it by."""

    key: str
    label: str
    value: str


@dataclass(frozen=True)
class CheckedUser(UserRef):
    """A user whose password was right."""

    email: str | None


@dataclass(frozen=True)
class PasswordCheck:
    """The result of a check.

    Attributes:
        outcome: `SIGNED_IN`, or why the user has no access.
        message: what to tell the user; empty for `SIGNED_IN`.
        user: None unless the password is right.
        roles: the highest first; none unless the outcome is `SIGNED_IN`.
    """

    outcome: str
    message: str
    support_contact: str
    user: CheckedUser | None = None
    roles: list[CheckedRole] = field(default_factory=list)


def check(ctx: AppContext, limiter: RateLimiter, key: str, wanted: CheckRequest) -> PasswordCheck:
    """Check the password of a local user, and the access to an application.

    Nobody learns from the result whether a name is known, before the password is right.

    Args:
        limiter: limits failures by name, from all applications.
        key: the key of the application.

    Raises:
        NotFound: for an unknown application; NotPermitted: without local users; TooManyTries.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        contact = settings.support_contact(connection, {})
    mark = f"user {fold(wanted.name)} in applications"
    try:
        user = password_sign_in.by_password(ctx, limiter, (mark,), wanted.name, wanted.password)
    except PasswordRefused as wrong:
        return PasswordCheck(wrong.reason, wrong.message, contact)
    found = CheckedUser(user.id, user.display_name, user.user_name, user.email)
    refused = _refusal(ctx, limiter, user, wanted.code)
    if refused is not None:
        return PasswordCheck(*refused, contact, found)
    with ctx.database.writing() as connection:
        roles = access_rows.roles_of_user(connection, application.id, user.id)
        action = "signed in to application" if roles else "was refused by application"
        passwords.note(ctx, connection, (user.id, user.user_name), action, application.key)
    if not roles:
        return PasswordCheck(NO_ACCESS, f"You have no access to {application.label}.", contact, found)
    shown = [CheckedRole(each.key, each.label, each.sent_value or each.key) for each in roles]
    return PasswordCheck(SIGNED_IN, "", contact, found, shown)


def _refusal(ctx: AppContext, limiter: RateLimiter, user: PasswordUser, code: str) -> tuple[str, str] | None:
    """Return why a user whose password is right is refused nevertheless; None if nothing is missing."""
    with ctx.database.reading() as connection:
        needs_factor = factors.has_factor(connection, user.id)
    if needs_factor and not code.strip():
        return SECOND_FACTOR, "Enter the code of your second factor."
    if needs_factor:
        mark = password_sign_in.codes_mark(user.id)
        limiter.check(mark)
        checked = factors.check_proof(ctx, user.id, Proof(code))
        with ctx.database.writing() as connection:
            fits = password_sign_in.use_proof(ctx, connection, user, checked)
        if not fits:
            limiter.failed(mark)
            return WRONG_CODE, "The code is wrong. Each code works once."
        limiter.worked(mark)
    if user.must_change:
        return NEW_PASSWORD, f"Sign in at {ctx.public_url} first, and choose a password of your own."
    return None
