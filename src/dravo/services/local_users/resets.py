"""New passwords by email: a link to a local user's address, with the same answer for unknown addresses."""

from __future__ import annotations

import secrets

from sqlalchemy import Connection

from dravo.core.errors import NotFound
from dravo.core.identity.names import fold
from dravo.core.identity.records import LOCAL, primary_email
from dravo.core.instants import later
from dravo.protocols.smtp import check_address
from dravo.services.context import AppContext
from dravo.services.local_users import passwords
from dravo.services.local_users.passwords import ChosenPassword
from dravo.services.notifications import messages
from dravo.services.notifications.mail_texts import PASSWORD_RESET
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.secrets import digest
from dravo.store import clock, records
from dravo.store.local import passwords as stored
from dravo.store.local.passwords import StoredPassword
from dravo.store.second_factors import steps
from dravo.store.second_factors.steps import SignInStep
from dravo.store.sign_in import sessions as session_rows

RESET = "password_reset"
MINUTES = 60
# Maximum number of links to one user that are valid at a time, wherever they are requested.
MOST_OPEN = 3
# The owner of links that are not sent.
NOBODY = ""


def request(ctx: AppContext, limiter: RateLimiter, address: str, network: str) -> None:
    """Email a link to choose a new password, if a local user with a password has this address.

    Args:
        limiter: limits the requests for one address from one network, so that others cannot use up the limit
            of an address.

    Raises:
        InvalidInput: for a value that is not an address.
        NotPermitted: if the organization has no local users; TooManyTries.
    """
    wanted = fold(check_address(address, "email"))
    limiter.hit(f"reset {wanted} from {network}")
    now, secret = clock.now(), secrets.token_urlsafe(32)
    with ctx.database.writing() as connection:
        passwords.check_allowed(connection)
        found = stored.users_named(connection, "", wanted)
        user = found[0] if len(found) == 1 and found[0].active else None
        sends = (
            user is not None
            and _is_local_address(connection, user.id, wanted)
            and steps.number_of_owner(connection, user.id, RESET, now) < MOST_OPEN
        )
        # Written in any case, so that the response time does not reveal whether the address is known.
        owner_id = user.id if user is not None and sends else NOBODY
        step = SignInStep(digest(secret), RESET, owner_id, None, later(now, MINUTES * 60))
        steps.insert_step(connection, step)
        if user is None or not sends:
            return
        content = ("Choose a new password", _letter(f"{ctx.public_url}/new-password#{secret}"))
        messages.write_email(ctx, connection, PASSWORD_RESET, wanted, content, MINUTES * 60)
        passwords.note(ctx, connection, (user.id, user.user_name), "requested a password reset")


def _is_local_address(connection: Connection, user_id: str, address: str) -> bool:
    """Whether an operator entered an address for a user: one that a source reports could be of anybody."""
    record = records.of_user(connection, user_id, LOCAL)
    return record is not None and fold(primary_email(record.data) or "") == address


def _letter(link: str) -> str:
    return (
        f"Choose a new password within {MINUTES} minutes:\n\n    {link}\n\n"
        "The link works once. Until then your present password stays valid.\n"
        "If you did not request this, ignore this email.\n"
    )


def reset(ctx: AppContext, secret: str, chosen: ChosenPassword) -> None:
    """Set a new password by the link of an email. The user then signs in with it, and with the second factor.

    The user's sessions end.

    Raises:
        NotFound: if the link is used or too old; InvalidInput, WeakPassword: for the password.
    """
    now = clock.now()
    with ctx.database.reading() as connection:
        passwords.check_allowed(connection)
        step = steps.get(connection, digest(secret), RESET, now)
        user = stored.user_by_id(connection, step.owner_id) if step is not None else None
        if step is None or user is None:
            raise _over()
        kept = passwords.hashed(connection, user.names, chosen)
    with ctx.database.writing() as connection:
        if steps.take(connection, step.hash, RESET, now) is None:
            raise _over()
        stored.set_password(connection, StoredPassword(user.id, kept, False, None, now))
        steps.delete_of_owner(connection, user.id)
        session_rows.delete_of_user(connection, user.id)
        passwords.note(ctx, connection, (user.id, user.user_name), "reset own password")


def _over() -> NotFound:
    return NotFound("The link is used or too old.", "Request a new link on the sign-in page.")
