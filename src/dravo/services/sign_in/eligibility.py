"""Previews of sign-ins: through which sources a user can sign in now, and a stored sign-in with other
settings.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.identity.acceptance import membership_missing
from dravo.core.identity.matching import Conflict, match
from dravo.core.identity.records import SIGN_IN, primary_email
from dravo.core.identity.source_policy import EVERY, SourcePolicy
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services import settings
from dravo.services.context import AppContext
from dravo.services.lookups import find_user
from dravo.services.security.operator_sso import OPERATORS
from dravo.services.sign_in import messages as sign_in_messages
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.jit_provisioning import JitOptions, JitProvisioner
from dravo.services.sign_in.messages import FOR_USERS, STEP_OF
from dravo.services.sign_in.sessions import OwnApplication
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.settings.protocols import MAIL, PROTOCOLS, SAML
from dravo.services.sign_in.settings.settings import DISABLED, PILOT
from dravo.services.sign_in.verification import JitResult, StepLog
from dravo.services.sources import policy as source_policies
from dravo.store.imports import matching as record_matching
from dravo.store.queries.references import KeyAndLabel
from dravo.store.queries.users import User
from dravo.store.received import members
from dravo.store.sign_in import settings as sign_in_rows
from dravo.store.sign_in import users as sign_in_users
from dravo.store.sign_in.settings import NamedSignIn
from dravo.store.sign_in.users import SignInRecord

# Why a source is not available for sign-in.
NOT_THERE_YET = ("disabled", "settings")


@dataclass
class SignInOption:
    """A source, and whether it allows the user to sign in."""

    source: KeyAndLabel
    protocol: str
    opens: bool
    message_to_user: str
    support_contact: str
    reason: str
    hint: str
    enabled_from: str | None
    bound_at: str | None


@dataclass
class SignInOptions:
    """The sign-in options and applications of a user."""

    ways: list[SignInOption]
    applications: list[OwnApplication]


def of_user(ctx: AppContext, name: str) -> SignInOptions:
    """Return for each source whether a user could sign in now and what the user would be told, and the user's
    applications.

    Raises:
        NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        user = find_user(connection, name)
        rows = [each for each in sign_in_rows.list_sign_ins(connection) if each.serves != OPERATORS]
        records = sign_in_users.records_of_user(connection, user.id)
        return SignInOptions(
            ways=sorted(
                (_way(connection, user, row, records.get(row.source_id)) for row in rows),
                key=lambda each: not each.opens,
            ),
            applications=user_sessions.applications_of(connection, user.id) if _is_active(user) else [],
        )


def _way(connection: Connection, user: User, row: NamedSignIn, record: SignInRecord | None) -> SignInOption:
    try:
        _check(connection, user, row, record)
        told, reason, hint = "", "", ""
    except SignInRefused as wrong:
        told, reason, hint = FOR_USERS.get(wrong.reason, wrong.message), wrong.message, wrong.hint
        if row.protocol == MAIL and wrong.reason in NOT_THERE_YET:
            # The user requests a code with an address for which no source sends codes.
            told = FOR_USERS["no_code"]
    return SignInOption(
        source=KeyAndLabel(row.key, row.label),
        protocol=PROTOCOLS[row.protocol],
        opens=not reason,
        message_to_user=told,
        support_contact=settings.support_contact(connection, row.settings),
        reason=reason,
        hint=hint,
        enabled_from=row.enabled_from,
        bound_at=record.created_at if record is not None else None,
    )


def _check(connection: Connection, user: User, row: NamedSignIn, record: SignInRecord | None) -> None:
    """Check what a sign-in checks, in the same order, as far as the provider is not needed.

    Raises:
        SignInRefused: with the reason of the first check that fails.
    """
    policy, pilot = source_policies.sign_in_policy(row), row.settings["pilot"]
    if record is not None and not policy.lets_in(record.data, row.key):
        raise sign_in_messages.outside(policy)
    if record is not None and policy.member_of.which != EVERY:
        listed = members.groups_by_record(connection, [record.id], {})[record.id]
        if missing := membership_missing(policy, listed):
            raise sign_in_messages.not_a_member(missing)
    if row.status == DISABLED:
        raise sign_in_messages.off()
    if lacking := sign_in_settings.missing(connection, row):
        raise sign_in_messages.unfinished(lacking)
    if row.status == PILOT and not sign_in_users.is_in_group(connection, row.source_id, pilot, user.id):
        raise sign_in_messages.not_in_pilot(pilot)
    if row.protocol == MAIL and not policy.owns(
        primary_email(record.data) if record is not None else user.email
    ):
        raise sign_in_messages.no_code()
    if record is None:
        _check_binding(connection, user, row.source_id, policy)
    if not _is_active(user) and not (record is not None and record.idle):
        raise sign_in_messages.inactive()


def _check_binding(connection: Connection, user: User, source_id: str, policy: SourcePolicy) -> None:
    """Check whether the source may link its next sign-in to this user, if it reports the known values."""
    named, mailed = f"name:{user.user_name_key}", f"email:{user.email_key}"
    found = record_matching.candidates(
        connection, source_id, {user.user_name_key}, {user.email_key} if user.email_key else (), SIGN_IN
    )
    candidates = {each.user_id: each for key in (named, mailed) for each in found.get(key, ())}
    said = {"userName": user.user_name, "emails": [{"value": user.email}] if user.email else []}
    binding = match(said, list(candidates.values()), policy, "")
    if isinstance(binding, Conflict):
        raise sign_in_messages.conflict(binding.message, ahead=True)


def _is_active(user: User) -> bool:
    return user.active and user.left_at is None


# Re-running a trace


@dataclass(frozen=True)
class PlannedSignIn:
    """The result that a sign-in would have; nothing was changed."""

    outcome: str
    message: str
    hint: str
    steps: list[dict[str, str]]
    kind: str
    made: dict[str, Any]
    groups: list[dict[str, Any]]
    access: list[dict[str, Any]]


def plan_again(
    ctx: AppContext, key: str, trace_id: str, policy: dict[str, Any] | None = None
) -> PlannedSignIn:
    """Evaluate a stored sign-in with the current policy, or with another one; nothing is changed.

    Raises:
        NotFound.
        SignInRefused: if the trace has no verified identity, or the sign-in would be refused.
    """
    with ctx.database.reading() as connection:
        source, row = source_policies.sign_in_of(connection, key)
        kept = sign_in_traces.one_row(connection, key, trace_id)
    steps = StepLog()
    arrived = kept.received
    if not arrived:
        raise SignInRefused(
            "nobody", "This trace contains no verified identity.", "Choose a trace with received claims."
        )
    proved = VerifiedIdentity(arrived["issuer"], arrived["subject"], arrived["attributes"])
    answers = sign_in_settings.policy_with(row, policy or {})
    one = JitProvisioner(
        ctx,
        source,
        answers,
        proved,
        steps,
        JitOptions(
            says_verified=row.protocol != SAML, preview=True, import_groups=row.settings["import_groups"]
        ),
    )
    try:
        arrival = one.take(one.user())
    except SignInRefused as wrong:
        steps.failed(STEP_OF.get(wrong.reason, "Checked"), wrong)
        return PlannedSignIn(
            outcome=sign_in_traces.REFUSED,
            message=wrong.message,
            hint=wrong.hint,
            steps=steps.lines,
            **JitResult(None, "", {}, [], []).document(),
        )
    return PlannedSignIn(
        outcome=sign_in_traces.OBSERVED,
        message="Sign-in would succeed.",
        hint="",
        steps=steps.lines,
        **arrival.document(),
    )
