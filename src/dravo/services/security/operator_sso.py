"""Sign-in of operators through a source.

An operator links the provider account while signed in; a name or an email address is never enough. Nobody is
locked out: an operator who signs in through a source alone has recovery codes, and the last source stays.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, delete, exists, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import InvalidInput, NotFound, StillInUse
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.context import AppContext
from dravo.services.security import second_factor
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id

# Whom a source lets in (P5).
USERS, OPERATORS, BOTH = "users", "operators", "both"
SERVES = (USERS, OPERATORS, BOTH)


# One's own


def word_for(csrf: str, key: str) -> str:
    """Return the value that starts a link to a source; only pages that can read responses of the session know
    it.

    Another page could otherwise send the operator's browser to the provider, after somebody else signed in
    there.
    """
    return digest(f"link {key} {csrf}")[:32]


def mine(ctx: AppContext, caller: Caller, csrf: str = "") -> dict[str, Any]:
    """Return the sources through which the caller signs in, those to link, and whether passwords are off.

    Args:
        csrf: the CSRF token of the session; the addresses that start a link contain a value made of it.
    """
    n, s, i = t.operator_link.c, t.source.c, t.source_sign_in.c
    with ctx.database.reading() as connection:
        own = connection.execute(
            select(t.operator.c.only_by_source).where(t.operator.c.id == caller.operator_id)
        ).scalar_one()
        linked = connection.execute(
            select(n.id, n.subject, n.created_at, n.last_used_at, s.key, s.label, i.status)
            .join(t.source, s.id == n.source_id)
            .join(t.source_sign_in, i.source_id == n.source_id)
            .where(n.operator_id == caller.operator_id)
            .order_by(s.label)
        ).all()
        could = connection.execute(
            select(s.key, s.label)
            .join(t.source_sign_in, i.source_id == s.id)
            .where(i.serves != USERS)
            .order_by(s.label)
        ).all()
    return {
        "items": [
            {
                "id": row.id,
                "source": {"key": row.key, "label": row.label},
                "subject": row.subject,
                "created_at": row.created_at,
                "last_used_at": row.last_used_at,
                "status": row.status,
            }
            for row in linked
        ],
        "offered": [
            {
                "key": row.key,
                "label": row.label,
                "start": f"/sso/{row.key}/start?operator={word_for(csrf, row.key)}" if csrf else "",
            }
            for row in could
            if row.key not in {each.key for each in linked}
        ],
        "only_by_source": own,
    }


def unlink(ctx: AppContext, caller: Caller, link_id: str) -> dict[str, Any]:
    """Unlink the caller from a source.

    Raises:
        NotFound.
        StillInUse: if the caller has no other way to sign in.
    """
    n = t.operator_link.c
    with ctx.database.writing() as connection:
        row = connection.execute(
            select(t.operator_link).where(n.id == link_id, n.operator_id == caller.operator_id)
        ).first()
        if row is None:
            raise NotFound(f"You have no link with the ID '{link_id}'.")
        own = connection.execute(select(t.operator).where(t.operator.c.id == caller.operator_id)).one()
        others = (
            select(func.count())
            .select_from(t.operator_link)
            .where(n.operator_id == caller.operator_id, n.id != link_id)
        )
        if own.only_by_source and not connection.execute(others).scalar_one():
            raise StillInUse("You sign in through this source only.", "Enable password sign-in first.")
        connection.execute(delete(t.operator_link).where(n.id == link_id))
        s = t.operator_session.c
        connection.execute(
            delete(t.operator_session).where(
                s.operator_id == caller.operator_id, s.source_id == row.source_id
            )
        )
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent(
                "unlinked from source", "operator", caller.operator_id, details={"subject": row.subject}
            ),
        )
    return mine(ctx, caller)


def set_only_by_source(ctx: AppContext, caller: Caller, *, only: bool) -> dict[str, Any]:
    """Enable or disable password sign-in for the caller.

    Raises:
        InvalidInput: without a session, without a link that was used before, or without recovery codes for
            the day on which the source does not answer.
    """
    if caller.session is None:
        raise InvalidInput(
            "Your sign-in options can be changed only in the console.", "Sign in to the console."
        )
    with ctx.database.writing() as connection:
        if only:
            _check_ways(connection, caller)
        connection.execute(
            update(t.operator).where(t.operator.c.id == caller.operator_id).values(only_by_source=only)
        )
        action = "disabled password sign-in" if only else "enabled password sign-in"
        record_change(
            connection,
            ctx.keys,
            caller,
            clock.now(),
            AuditEvent(action, "operator", caller.operator_id, details={}),
        )
    return mine(ctx, caller)


def _check_ways(connection: Connection, caller: Caller) -> None:
    n, i = t.operator_link.c, t.source_sign_in.c
    used = (
        select(n.id)
        .join(t.source_sign_in, i.source_id == n.source_id)
        .where(
            n.operator_id == caller.operator_id,
            n.last_used_at > n.created_at,
            i.status != "disabled",
            i.serves != USERS,
        )
    )
    if connection.execute(used).first() is None:
        raise InvalidInput(
            "You have not signed in through an enabled source yet.",
            "Link to a source, sign out, and sign in through it once.",
        )
    if not second_factor.codes_left(connection, caller.operator_id):
        raise InvalidInput(
            "You have no recovery codes.",
            "Create recovery codes first. You need them when the source is not available.",
        )


# At the door


def link(ctx: AppContext, operator_id: str, source: Any, proved: VerifiedIdentity) -> None:
    """Link an operator, who asked for it while signed in, to the identity that the provider verified.

    Raises:
        SignInRefused: if the identity is linked to another operator, the operator does not exist any more, or
            the source no longer serves operators.
    """
    now = clock.now()
    row = {
        "id": new_id(),
        "operator_id": operator_id,
        "source_id": source.id,
        "native_id": proved.native_id,
        "subject": proved.subject,
        "created_at": now,
        "last_used_at": now,
    }
    n = t.operator_link.c
    try:
        with ctx.database.writing() as connection:
            own = connection.execute(
                select(t.operator).where(t.operator.c.id == operator_id, t.operator.c.disabled_at.is_(None))
            ).first()
            if own is None:
                raise SignInRefused(
                    "operator", "The operator who started this is disabled.", "Ask a super administrator."
                )
            i = t.source_sign_in.c
            if (
                connection.execute(
                    select(i.source_id).where(i.source_id == source.id, i.serves != USERS)
                ).first()
                is None
            ):
                raise SignInRefused(
                    "operator",
                    "This source no longer signs in operators.",
                    "Ask a super administrator to enable it.",
                )
            # Anyone who links again means the other identity.
            connection.execute(
                delete(t.operator_link).where(n.operator_id == operator_id, n.source_id == source.id)
            )
            connection.execute(insert(t.operator_link).values(**row))
            who = Caller(own.id, own.name, own.kind)
            details = {"source": source.key, "subject": proved.subject}
            record_change(
                connection,
                ctx.keys,
                who,
                now,
                AuditEvent("linked to source", "operator", operator_id, details=details),
            )
    except IntegrityError:
        hint = "Sign in at the provider with your own account, or ask the other operator to unlink."
        raise SignInRefused(
            "operator", "Another operator is linked to this account of the provider.", hint
        ) from None


def linked_to(ctx: AppContext, source_id: str, proved: VerifiedIdentity) -> Any:
    """Return the row of the operator who is linked to an identity; None if no operator can sign in with
    it.
    """
    n, o = t.operator_link.c, t.operator.c
    with ctx.database.reading() as connection:
        bound = select(n.operator_id).where(n.source_id == source_id, n.native_id == proved.native_id)
        return connection.execute(select(t.operator).where(o.id.in_(bound), o.disabled_at.is_(None))).first()


def enter(ctx: AppContext, source: Any, row: Any, proved: VerifiedIdentity) -> str:
    """Start the session of an operator who signed in through a source, and return its secret."""
    n = t.operator_link.c
    with ctx.database.writing() as connection:
        secret, _ = operator_sessions.begin_session(ctx, connection, row, source, proved)
        used = update(t.operator_link).where(n.operator_id == row.id, n.source_id == source.id)
        connection.execute(used.values(last_used_at=clock.now()))
    return secret


# That nobody is locked out


def check_own_way(connection: Connection, caller: Caller, source_id: str) -> None:
    """Check that an operator who enables a source for operators can still sign in (J7).

    Raises:
        InvalidInput: if the operator neither signed in through the source nor has recovery codes.
    """
    n = t.operator_link.c
    proved = select(n.id).where(n.operator_id == caller.operator_id, n.source_id == source_id)
    if connection.execute(proved).first() is None and not second_factor.codes_left(
        connection, caller.operator_id
    ):
        raise InvalidInput(
            "You could lock yourself out: you are not linked to this source and have no recovery codes.",
            "Create recovery codes under Settings, or link to this source before you enable it.",
            "status",
        )


def check_nobody_is_locked_out(connection: Connection, source_id: str) -> None:
    """Check that every operator can still sign in when a source no longer serves operators.

    Raises:
        StillInUse: with the names of operators without a password, recovery codes or another source.
    """
    o, n, i = t.operator.c, t.operator_link.c, t.source_sign_in.c
    other = (
        select(n.id)
        .join(t.source_sign_in, i.source_id == n.source_id)
        .where(n.operator_id == o.id, n.source_id != source_id, i.status != "disabled", i.serves != USERS)
    )
    r = t.operator_recovery.c
    codes = select(r.hash).where(r.operator_id == o.id, r.used_at.is_(None))
    without = (o.only_by_source.is_(True), o.disabled_at.is_(None), ~exists(other), ~exists(codes))
    names = connection.execute(select(o.name).where(*without).order_by(o.name)).scalars().all()
    if names:
        hint = "Enable password sign-in for them, or ask them to create recovery codes."
        raise StillInUse(f"These operators could not sign in any more: {', '.join(names)}.", hint)


def end_sessions(connection: Connection, source_id: str) -> None:
    """End all sessions of operators who signed in through a source."""
    connection.execute(delete(t.operator_session).where(t.operator_session.c.source_id == source_id))


def end_all(connection: Connection, source_id: str) -> None:
    """End sign-in of operators through a source: their sessions and their links.

    Otherwise an administrator could change the provider later, and sign in as an operator once the source
    serves operators again.
    """
    end_sessions(connection, source_id)
    connection.execute(delete(t.operator_link).where(t.operator_link.c.source_id == source_id))
