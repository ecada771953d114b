"""Passwords of operators: reset by a super administrator, and changed by their owner."""

from __future__ import annotations

from dravo.core.errors import InvalidInput
from dravo.services.context import AppContext
from dravo.services.security import operators
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operators import OperatorWithPassword
from dravo.services.security.permissions import Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.secrets import (
    digest,
    digest_password,
    hash_password,
    made_password,
    password_fits,
)
from dravo.store import clock
from dravo.store.operators import api_tokens as token_rows
from dravo.store.operators import operators as operator_rows
from dravo.store.operators import sessions as session_rows


def give_new(ctx: AppContext, caller: Caller, operator_id: str) -> OperatorWithPassword:
    """Give an operator a new password, shown once; it also works for an operator without password sign-in.

    Sessions of the operator end, and API tokens are revoked.

    Raises:
        NotFound.
    """
    now, chosen = clock.now(), made_password()
    values = {"password_hash": digest_password(chosen), "only_by_source": False}
    with ctx.database.writing() as connection:
        row = operators.known(connection, operator_id)
        operator_rows.update_operator(connection, operator_id, **values)
        session_rows.delete_of_operator(connection, operator_id)
        revoked = token_rows.revoke_of_operator(connection, operator_id, now)
        details = {"name": row.name, **({"revoked_tokens": revoked} if revoked else {})}
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("reset password", "operator", operator_id, details=details),
        )
    return operators.OperatorWithPassword(**vars(operators.one(ctx, operator_id)), password=chosen)


def change_own(
    ctx: AppContext,
    caller: Caller,
    limiter: RateLimiter,
    present: str,
    wanted: str,
    *,
    revoke_tokens: bool = False,
) -> None:
    """Change the caller's password, and end the caller's other sessions.

    Args:
        limiter: limits wrong passwords, so that nobody can guess the password at an unlocked screen.
        present: the current password.
        wanted: the new password.
        revoke_tokens: whether the API tokens of the caller are revoked too.

    Raises:
        InvalidInput: without a session, for a wrong current password, or for a new password that is too
            short, easy to guess or the same.
        TooManyTries.
    """
    if caller.session is None:
        raise InvalidInput("Your password can be changed only in the console.", "Sign in to the console.")
    mark = f"password of {caller.operator_id}"
    limiter.check(mark)
    with ctx.database.reading() as connection:
        row = operators.known(connection, caller.operator_id)
    if row.only_by_source:
        raise InvalidInput("Your password sign-in is disabled.", "Enable password sign-in first.")
    if not password_fits(row.password_hash, present):
        limiter.failed(mark)
        raise InvalidInput(
            "The current password is wrong.",
            "Enter it again. A super administrator can reset your password.",
            "present",
        )
    limiter.worked(mark)
    if wanted == present:
        raise InvalidInput(
            "The new password is the same as the current one.", "Choose another password.", "password"
        )
    kept = hash_password(wanted, row.name)
    with ctx.database.writing() as connection:
        if not operator_rows.replace_password(connection, caller.operator_id, row.password_hash, kept):
            raise InvalidInput(
                "Your password was changed in the meantime.", "Sign in again with the new password."
            )
        session_rows.delete_of_operator(connection, caller.operator_id, but=digest(caller.session))
        now = clock.now()
        details = (
            {"revoked_tokens": token_rows.revoke_of_operator(connection, caller.operator_id, now)}
            if revoke_tokens
            else {}
        )
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("changed own password", "operator", caller.operator_id, details=details),
        )
