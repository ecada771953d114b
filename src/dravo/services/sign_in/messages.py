"""Messages of refused sign-ins: with a hint in the trace, and in short for the user at the browser."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection

from dravo.core.identity.records import searchable
from dravo.core.identity.source_policy import SourcePolicy
from dravo.protocols.verified_identity import SignInRefused
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.verification import SignInAttempt


def outside(policy: SourcePolicy) -> SignInRefused:
    """The user is outside the scope of the source."""
    return SignInRefused(
        "outside",
        f"The user is outside the scope of the source: {policy.users}.",
        "Change the scope in the source policy, or the user's attributes.",
    )


def not_a_member(message: str) -> SignInRefused:
    """The user is in none of the groups that the scope names."""
    return SignInRefused(
        "outside", message, "Add the user to the group, or change the scope in the source policy."
    )


def off() -> SignInRefused:
    """Sign-in through the source is disabled."""
    return SignInRefused(
        "disabled", "Sign-in through this source is disabled.", "Enable sign-in, or create a test sign-in."
    )


def unfinished(lacking: Sequence[str]) -> SignInRefused:
    """Settings that the sign-in needs are missing."""
    return SignInRefused(
        "settings", f"Missing: {', '.join(lacking)}.", "Enter the values on the Sign-in tab."
    )


def not_in_pilot(pilot: str) -> SignInRefused:
    """So far it is for a pilot group only."""
    return SignInRefused(
        "pilot",
        f"The user is not a member of the pilot group '{pilot}'.",
        "Add the user to the pilot group, or enable sign-in for everyone.",
    )


def conflict(message: str, *, ahead: bool) -> SignInRefused:
    """The identity could belong to an existing user, and an operator has to decide.

    Args:
        ahead: whether this is a preview, so that no conflict exists yet.
    """
    hint = "Resolve it under Conflicts of the source. Then the user signs in again."
    if ahead:
        hint = (
            "Set a matching rule and its domains in the source policy. After a real sign-in, you "
            "can resolve it under Conflicts."
        )
    return SignInRefused(
        "conflict", f"The sign-in matches an existing user, but not with certainty. {message}", hint
    )


def not_known() -> SignInRefused:
    """No user has this identity, and the policy creates none."""
    return SignInRefused(
        "unknown_user",
        "No user matches, and this source does not create users.",
        "Allow the source policy to create users, or link the user.",
    )


def erased() -> SignInRefused:
    """The identity belongs to a user who was erased."""
    return SignInRefused(
        "unknown_user",
        "The user was erased.",
        "Accept the user again under Users, Erased, if the user is to return.",
    )


def no_code() -> SignInRefused:
    """No code is emailed to the address."""
    message = "The user has no email address in a domain with code sign-in."
    return SignInRefused(
        "no_code", message, "Add the domain to the source, or correct the email address at its source."
    )


def inactive() -> SignInRefused:
    """The source reports the user as inactive or deleted."""
    return SignInRefused(
        "inactive",
        "The user is inactive or has left.",
        "Reactivate the user in the source that deactivated the user.",
    )


# The trace step by the reason of a refusal.
STEP_OF = {
    "certificate": "Signature",
    "signature": "Signature",
    "unsigned": "Signature",
    "algorithm": "Signature",
    "key": "Signature",
    "audience": "Audience and time",
    "recipient": "Audience and time",
    "destination": "Audience and time",
    "issuer": "Audience and time",
    "early": "Audience and time",
    "expired": "Audience and time",
    "in_response_to": "Expected",
    "state": "Expected",
    "browser": "Expected",
    "replay": "Not a replay",
    "status": "Arrived",
    "malformed": "Arrived",
    "encryption": "Arrived",
    "expressions": "Expressions",
    "outside": "Scope",
    "conflict": "Matching",
    "unknown_user": "Matching",
    "inactive": "Matching",
    "pilot": "Status",
    "disabled": "Status",
    "wrong_user": "Test sign-in",
    "operator": "Operator",
    "no_subject": "Attributes",
    "code": "Token",
    "context": "Authentication context",
    "userinfo": "UserInfo",
}
# The message for the user, who cannot fix it: it never contains details that would help an attacker.
FOR_USERS = {
    "": "Your sign-in could not be verified.",
    "conflict": "An administrator must confirm your account first.",
    "unknown_user": "We could not find your account.",
    "no_code": "Sign-in with a code is not available for your email address.",
    "outside": "You do not have access.",
    "inactive": "Your account is not active.",
    "pilot": "This sign-in is not enabled for you yet.",
    "disabled": "This sign-in is not enabled yet.",
    "operator": "No operator is linked to your account.",
    "context": "Your identity provider did not use the required way to sign in.",
    "wrong_user": "This link is for another user.",
    "browser": "Start the sign-in again and stay in one browser.",
    "in_response_to": "Start the sign-in again from the sign-in page of Dravo.",
    "state": "Start the sign-in again from the sign-in page of Dravo.",
    "replay": "This page was used already. Start the sign-in again.",
    "expired": "The sign-in took too long. Start it again.",
    "status": "Your identity provider refused the sign-in.",
}


def write_trace(
    connection: Connection, way: SignInAttempt, outcome: str, message: str, hint: str, reason: str | None
) -> str:
    """Write the trace of a sign-in; return its ID."""
    proved, arrival = way.proved, way.arrival
    tried_by = way.sign_in_test.user if way.sign_in_test is not None else "somebody"
    name = searchable(way.user).display_name if way.user else proved.subject if proved else tried_by
    arrived: dict[str, Any] = {}
    if proved is not None:
        plain = {name: list(values) for name, values in proved.attributes.items()}
        arrived = {"issuer": proved.issuer, "subject": proved.subject, "attributes": plain}
    result = arrival.document() if arrival is not None else {"made": way.user} if way.user else {}
    return sign_in_traces.write(
        connection,
        {
            "source_id": way.source.id,
            "test_id": way.sign_in_test.id if way.sign_in_test is not None else None,
            "outcome": outcome,
            "reason": reason,
            "message": message,
            "hint": hint,
            "name": name[:300],
            "user_id": arrival.user_id if arrival is not None else None,
            "steps": way.steps.lines,
            "received": arrived,
            "result": result,
            "raw": way.raw or None,
        },
    )
