"""Receives the provider's response: verifies it, provisions the user, and starts the session."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import DravoError
from dravo.core.identity.records import IMPORT, searchable
from dravo.core.notifications.event_kinds import TEST_SIGN_IN_REFUSED
from dravo.core.notifications.reporting import Condition
from dravo.protocols.directory.reader import NOTED
from dravo.protocols.verified_identity import SignInRefused, VerifiedIdentity
from dravo.services import events, settings
from dravo.services.context import AppContext
from dravo.services.imports import refresh as import_refresh
from dravo.services.security import operator_sso, operators
from dravo.services.security.operator_sso import OPERATORS, USERS
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.jit_provisioning import JitOptions, JitProvisioner
from dravo.services.sign_in.messages import FOR_USERS, STEP_OF, write_trace
from dravo.services.sign_in.response_checks import (
    apply_subject_claim,
    check_lasting,
    check_sign_in_test,
    check_status,
    reject_replay,
)
from dravo.services.sign_in.settings.protocols import PROTOCOLS, SAML
from dravo.services.sign_in.settings.settings import DISABLED
from dravo.services.sign_in.start import HOME
from dravo.services.sign_in.verification import (
    JitResult,
    SignInAttempt,
    prove_oidc,
    prove_saml,
)
from dravo.services.sources import observations
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.notifications import events as notified_events
from dravo.store.sign_in import users as sign_in_users
from dravo.store.sources import settings as source_settings

LARGEST_RESPONSE = 1024 * 1024
LINKED = "linked"


@dataclass
class SignInResult:
    """The result of a sign-in, for the user at the browser.

    Attributes:
        outcome: "signed_in", "observed", "refused", or "linked" for an operator whose account is linked now.
        trace: the ID of the sign-in.
        user_session: the secret of the user's session, if the user is signed in.
        session: the secret of the operator's session, if the operator is signed in.
        back: the page to which the user goes.
        message: why the user is not signed in.
        support_contact: whom the user can ask.
    """

    outcome: str
    trace: str
    user_session: str = ""
    session: str = ""
    back: str = HOME
    message: str = ""
    support_contact: str = ""


# Receiving responses


def receive_saml(
    ctx: AppContext,
    key: str,
    base: str,
    posted: Sequence[str] | SignInRefused,
    relay: str | None,
    browser: str | None,
) -> SignInResult:
    """Process a SAML response that a browser posts (bindings, section 3.5).

    Args:
        posted: the values of the form field SAMLResponse, of which there should be one; or why the form could
            not be read.

    Raises:
        NotFound: if the source has no sign-in.
    """
    way = _way(ctx, key, base)

    def prove() -> VerifiedIdentity:
        _check_protocol(way, SAML)
        if isinstance(posted, SignInRefused):
            raise posted
        response = _decoded(posted)
        way.raw = sign_in_traces.without_proofs(response)
        return prove_saml(ctx, way, key, response, relay, browser)

    return complete_sign_in(ctx, way, prove)


def _decoded(posted: Sequence[str]) -> bytes:
    """Return a posted response; raises "malformed"."""
    if len(posted) != 1:
        raise SignInRefused(
            "malformed",
            f"The form contains {len(posted)} responses instead of one.",
            "Configure the provider to send one response (SAMLResponse).",
        )
    if len(posted[0]) > LARGEST_RESPONSE:
        raise SignInRefused(
            "malformed",
            f"The response is too large ({len(posted[0]):,} characters).",
            "Configure the provider to send fewer claims.",
        )
    try:
        return base64.b64decode("".join(posted[0].split()), validate=True)
    except (binascii.Error, ValueError):
        raise SignInRefused(
            "malformed", "The response is not base64.", "Check the ACS URL at the provider."
        ) from None


def receive_oidc(
    ctx: AppContext, key: str, base: str, query: Mapping[str, str], browser: str | None
) -> SignInResult:
    """Process what a browser brings back from an OpenID provider: a code or an error (OpenID Connect Core
    3.1.2.5, 3.1.2.6).

    Raises:
        NotFound: if the source has no sign-in.
    """
    way = _way(ctx, key, base)

    def prove() -> VerifiedIdentity:
        _check_protocol(way, "oidc")
        return prove_oidc(ctx, way, key, query, browser)

    return complete_sign_in(ctx, way, prove)


def _way(ctx: AppContext, key: str, base: str) -> SignInAttempt:
    with ctx.database.reading() as connection:
        source, row = source_policies.sign_in_of(connection, key)
    return SignInAttempt(source, row, base)


def _check_protocol(way: SignInAttempt, protocol: str) -> None:
    """Check that the source uses the protocol of the response; raises "protocol"."""
    if way.row.protocol != protocol:
        used = PROTOCOLS[way.row.protocol]
        raise SignInRefused(
            "protocol",
            f"'{way.source.label}' uses {used}.",
            "Enter the ACS URL of this source at the provider.",
        )


# Results


def complete_sign_in(
    ctx: AppContext, way: SignInAttempt, prove: Callable[[], VerifiedIdentity]
) -> SignInResult:
    """Verify an identity and sign the user, the operator or both in; write the trace in any case."""
    observations.note_apart(ctx, way.source.id, observations.ANSWERED)
    try:
        way.proved = way.named = prove()
        reject_replay(ctx, way)
        observations.note_apart(ctx, way.source.id, observations.PROVED)
        if way.begun is not None and way.begun.operator_id is not None:
            return _linked(ctx, way)
        operator = _operator(ctx, way)
        if operator is not None and way.row.serves == OPERATORS:
            return _entered(ctx, way, operator)
        try:
            apply_subject_claim(way)
            way.arrival = _provision(ctx, way)
        except SignInRefused as wrong:
            # An operator gets in as an operator, whatever the status of the user is.
            if operator is None:
                raise
            way.steps.failed(STEP_OF.get(wrong.reason, "Checked"), wrong)
            return _entered(ctx, way, operator)
    except SignInRefused as wrong:
        return refused(ctx, way, wrong)
    except DravoError as wrong:
        return refused(ctx, way, SignInRefused(wrong.code.replace("_", " ")[:40], wrong.message, wrong.hint))
    came = _in(ctx, way)
    if operator is not None:
        came = replace(came, session=_begin_session(ctx, way, operator), back=_home_of_operators(came.back))
    return came


# Operators


def _linked(ctx: AppContext, way: SignInAttempt) -> SignInResult:
    """Link the operator who asked for it to the verified identity."""
    assert way.proved is not None
    check_lasting(way)
    operator_sso.link(ctx, way.request.operator_id or "", way.source, way.proved)
    way.steps.note("Operator", "The operator can now sign in through this source.")
    with ctx.database.writing() as connection:
        trace = write_trace(connection, way, sign_in_traces.SIGNED_IN, "Linked to an operator.", "", None)
        _note_proved(connection, way)
    return SignInResult(LINKED, trace, back=way.request.back)


def _operator(ctx: AppContext, way: SignInAttempt) -> Any:
    """Return the operator who signs in, or None. A name, a test sign-in or an unrequested response never
    signs an operator in.
    """
    if way.row.serves == USERS or way.sign_in_test is not None:
        return None
    assert way.proved is not None
    found = (
        operator_sso.linked_to(ctx, way.source.id, way.proved)
        if way.begun is not None and way.row.status != DISABLED
        else None
    )
    if found is not None:
        way.steps.note("Operator", f"Matches the operator '{found.name}'.")
    elif way.row.serves == OPERATORS:
        raise SignInRefused(
            "operator",
            "No operator is linked to this identity.",
            "The operator signs in with a password and links the source under Settings.",
        )
    return found


def _entered(ctx: AppContext, way: SignInAttempt, operator: Any) -> SignInResult:
    check_lasting(way)
    with ctx.database.writing() as connection:
        trace = write_trace(
            connection,
            way,
            sign_in_traces.SIGNED_IN,
            f"The operator '{operator.name}' is signed in.",
            "",
            None,
        )
        _note_proved(connection, way)
    return SignInResult(
        sign_in_traces.SIGNED_IN,
        trace,
        session=_begin_session(ctx, way, operator),
        back=_home_of_operators(way.request.back),
    )


def _begin_session(ctx: AppContext, way: SignInAttempt, operator: Any) -> str:
    assert way.named is not None
    check_lasting(way)
    return operator_sso.enter(ctx, way.source, operator, way.named)


def _home_of_operators(back: str) -> str:
    return "/" if back == HOME else back


def _provision(ctx: AppContext, way: SignInAttempt) -> JitResult:
    assert way.proved is not None
    policy, settings_ = source_policies.sign_in_policy(way.row), way.row.settings
    one = JitProvisioner(
        ctx,
        way.source,
        policy,
        way.proved,
        way.steps,
        JitOptions(
            says_verified=way.row.protocol != SAML,
            preview=way.observes,
            import_groups=settings_["import_groups"],
        ),
    )
    way.user = one.user()
    check_sign_in_test(way)
    if way.row.serves == OPERATORS:
        return _tried_by_operator(ctx, way)
    check_status(ctx, way, one)
    if not way.observes and settings_["refresh"]:
        _refresh(ctx, way)
    return one.take(way.user)


def _tried_by_operator(ctx: AppContext, way: SignInAttempt) -> JitResult:
    """Report whether a test sign-in belongs to an operator, where only operators can sign in."""
    assert way.proved is not None
    found = operator_sso.linked_to(ctx, way.source.id, way.named or way.proved)
    if found is not None:
        way.steps.note("Operator", f"Matches the operator '{found.name}'.")
    else:
        hint = "The operator signs in with a password and links the source under Settings."
        way.steps.note("Operator", "No operator is linked to this identity yet.", NOTED, hint)
    return JitResult(None, "", way.user or {}, [], [])


def _refresh(ctx: AppContext, way: SignInAttempt) -> None:
    """Refresh the user from the directory of the same source: it is newer than the last scheduled import."""
    assert way.user is not None
    name = searchable(way.user).user_name_key
    with ctx.database.reading() as connection:
        user_id = sign_in_users.imported_user(connection, way.source.id, IMPORT, name)
    if user_id is None:
        way.steps.note("Directory", "The directory of this source does not contain the user.", NOTED)
        return
    try:
        import_refresh.refresh(ctx, operators.SYSTEM, way.source.key, user_id)
        way.steps.note("Directory", "The user was refreshed from the directory of this source.")
    except DravoError as wrong:
        # A verified user does not wait for a directory.
        way.steps.note(
            "Directory",
            f"The user could not be refreshed: {wrong.message} Dravo uses the stored attributes.",
            NOTED,
            wrong.hint,
        )


def _in(ctx: AppContext, way: SignInAttempt) -> SignInResult:
    assert way.arrival is not None and way.proved is not None
    outcome = sign_in_traces.OBSERVED if way.observes else sign_in_traces.SIGNED_IN
    words = "Sign-in would succeed. Nothing was changed." if way.observes else "The user is signed in."
    secret = ""
    with ctx.database.writing() as connection:
        hours = settings.read(connection)["user_session_hours"]
        trace = write_trace(connection, way, outcome, words, "", None)
        _note_proved(connection, way)
        if not way.observes and way.arrival.user_id is not None:
            secret = user_sessions.begin(
                connection, way.arrival.user_id, way.source.id, way.named or way.proved, hours
            )
            observations.note(connection, way.source.id, observations.SCIM_USER)
        if way.arrival.groups:
            observations.note(connection, way.source.id, observations.GROUPS)
    back = way.begun.back if way.begun is not None else HOME
    return SignInResult(outcome, trace, secret, back)


def _note_proved(connection: Connection, way: SignInAttempt) -> None:
    """Note that a user signed in with the current settings."""
    source_settings.update_sign_in(connection, way.source.id, verified_at=clock.now())


def refused(ctx: AppContext, way: SignInAttempt, wrong: SignInRefused) -> SignInResult:
    """Write the trace of a refused sign-in; return what the user sees, which is no more than helps the
    user.
    """
    way.steps.failed(STEP_OF.get(wrong.reason, "Checked"), wrong)
    with ctx.database.writing() as connection:
        trace = write_trace(connection, way, sign_in_traces.REFUSED, wrong.message, wrong.hint, wrong.reason)
        if way.sign_in_test is not None:
            _note_refused_test(connection, way, wrong, trace)
        whom = settings.support_contact(connection, way.row.settings)
    events.note(events.SIGN_IN, "user", source=way.source.key, reason=wrong.reason, trace=trace)
    return SignInResult(
        sign_in_traces.REFUSED,
        trace,
        message=FOR_USERS.get(wrong.reason, FOR_USERS[""]),
        support_contact=whom,
    )


def _note_refused_test(
    connection: Connection, way: SignInAttempt, wrong: SignInRefused, trace_id: str
) -> None:
    """Have notifications tell about a test sign-in that was refused."""
    told = Condition(
        kind=TEST_SIGN_IN_REFUSED,
        subject_id=trace_id,
        subject=way.source.label,
        title=f"{way.source.label}: a test sign-in was refused",
        text=f"{wrong.message} {wrong.hint}".strip(),
        path=f"/sources/{way.source.key}/sign-ins",
        source_id=way.source.id,
    )
    notified_events.happened(connection, told, clock.now())
