"""Sign-in of operators through a source.

An operator links the provider account while signed in; a name or an email address is never enough. Nobody is
locked out: an operator who signs in through a source alone has recovery codes, and the last source stays.
"""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.errors import InvalidInput, NotFound, StillInUse
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services.context import AppContext
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.operators import known
from dravo.services.security.permissions import Caller
from dravo.services.security.secrets import digest
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.operators import links
from dravo.store.operators import operators as operator_rows
from dravo.store.operators import sessions as session_rows
from dravo.store.operators.links import OperatorLink
from dravo.store.operators.operators import Operator
from dravo.store.queries.references import KeyAndLabel
from dravo.store.second_factors import recovery_codes
from dravo.store.sources import settings as source_settings
from dravo.store.sources.sources import Source

# Who can sign in through a source.
USERS, OPERATORS, BOTH = "users", "operators", "both"
SERVES = (USERS, OPERATORS, BOTH)


# Own links


@dataclass
class LinkOffer:
    """A source that you can link; `start` is the URL for your browser."""

    key: str
    label: str
    start: str


@dataclass
class OperatorLinkLine:
    """A linked source of an operator."""

    id: str
    source: KeyAndLabel
    subject: str
    created_at: str
    last_used_at: str
    status: str


@dataclass
class OperatorLinks:
    """Your linked sources and those that you can link."""

    items: list[OperatorLinkLine]
    offered: list[LinkOffer]
    only_by_source: bool


def word_for(csrf: str, key: str) -> str:
    """Return the value that starts a link to a source; only pages that can read responses of the session know
    it.

    Another page could otherwise send the operator's browser to the provider, after somebody else signed in
    there.
    """
    return digest(f"link {key} {csrf}")[:32]


def mine(ctx: AppContext, caller: Caller, csrf: str = "") -> OperatorLinks:
    """Return the sources through which the caller signs in, those to link, and whether passwords are off.

    Args:
        csrf: the CSRF token of the session; the addresses that start a link contain a value made of it.
    """
    with ctx.database.reading() as connection:
        own = known(connection, caller.operator_id)
        linked = links.list_links(connection, caller.operator_id)
        offered = links.sources_for_operators(connection)
    return OperatorLinks(
        items=[
            OperatorLinkLine(
                id=row.id,
                source=KeyAndLabel(row.source_key, row.source_label),
                subject=row.subject,
                created_at=row.created_at,
                last_used_at=row.last_used_at,
                status=row.status,
            )
            for row in linked
        ],
        offered=[
            LinkOffer(
                key=key,
                label=label,
                start=f"/sso/{key}/start?operator={word_for(csrf, key)}" if csrf else "",
            )
            for key, label in offered
            if key not in {each.source_key for each in linked}
        ],
        only_by_source=own.only_by_source,
    )


def unlink(ctx: AppContext, caller: Caller, link_id: str) -> OperatorLinks:
    """Unlink the caller from a source.

    Raises:
        NotFound.
        StillInUse: if the caller has no other way to sign in.
    """
    with ctx.database.writing() as connection:
        row = links.get(connection, link_id, caller.operator_id)
        if row is None:
            raise NotFound(f"You have no link with the ID '{link_id}'.")
        own = known(connection, caller.operator_id)
        if own.only_by_source and not links.number_of_others(connection, caller.operator_id, link_id):
            raise StillInUse("You sign in through this source only.", "Enable password sign-in first.")
        links.delete_link(connection, link_id)
        session_rows.delete_of_source(connection, row.source_id, caller.operator_id)
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


def set_only_by_source(ctx: AppContext, caller: Caller, *, only: bool) -> OperatorLinks:
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
        operator_rows.update_operator(connection, caller.operator_id, only_by_source=only)
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
    if not links.has_used_enabled(connection, caller.operator_id):
        raise InvalidInput(
            "You have not signed in through an enabled source yet.",
            "Link to a source, sign out, and sign in through it once.",
        )
    if not recovery_codes.number_left(connection, caller.operator_id):
        raise InvalidInput(
            "You have no recovery codes.",
            "Create recovery codes first. You need them when the source is not available.",
        )


# Linking and signing in


def link(ctx: AppContext, operator_id: str, source: Source, proved: VerifiedIdentity) -> None:
    """Link an operator, who asked for it while signed in, to the identity that the provider verified.

    Raises:
        SignInRefused: if the identity is linked to another operator, the operator does not exist any more, or
            the source no longer serves operators.
    """
    now = clock.now()
    new = OperatorLink(
        id=new_id(),
        operator_id=operator_id,
        source_id=source.id,
        native_id=proved.native_id,
        subject=proved.subject,
        created_at=now,
        last_used_at=now,
    )
    try:
        with ctx.database.writing() as connection:
            own = operator_rows.enabled(connection, operator_id)
            if own is None:
                raise SignInRefused(
                    "operator", "The operator who started this is disabled.", "Ask a super administrator."
                )
            if not source_settings.serves_operators(connection, source.id):
                raise SignInRefused(
                    "operator",
                    "This source no longer signs in operators.",
                    "Ask a super administrator to enable it.",
                )
            links.replace_link(connection, new)
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


def linked_to(ctx: AppContext, source_id: str, proved: VerifiedIdentity) -> Operator | None:
    """Return the row of the operator who is linked to an identity; None if no operator can sign in with
    it.
    """
    with ctx.database.reading() as connection:
        return links.operator_of(connection, source_id, proved.native_id)


def enter(ctx: AppContext, source: Source, row: Operator, proved: VerifiedIdentity) -> str:
    """Start the session of an operator who signed in through a source, and return its secret."""
    with ctx.database.writing() as connection:
        secret, _ = operator_sessions.begin_session(ctx, connection, row, source, proved)
        links.note_use(connection, row.id, source.id, clock.now())
    return secret


# Protection from locking operators out


def check_own_way(connection: Connection, caller: Caller, source_id: str) -> None:
    """Check that an operator who enables a source for operators can still sign in (J7).

    Raises:
        InvalidInput: if the operator neither signed in through the source nor has recovery codes.
    """
    linked = links.is_linked(connection, caller.operator_id, source_id)
    if not linked and not recovery_codes.number_left(connection, caller.operator_id):
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
    names = links.locked_out_without(connection, source_id)
    if names:
        hint = "Enable password sign-in for them, or ask them to create recovery codes."
        raise StillInUse(f"These operators could not sign in any more: {', '.join(names)}.", hint)


def end_sessions(connection: Connection, source_id: str) -> None:
    """End all sessions of operators who signed in through a source."""
    session_rows.delete_of_source(connection, source_id)


def end_all(connection: Connection, source_id: str) -> None:
    """End sign-in of operators through a source: their sessions and their links.

    Otherwise an administrator could change the provider later, and sign in as an operator once the source
    serves operators again.
    """
    end_sessions(connection, source_id)
    links.delete_of_source(connection, source_id)
