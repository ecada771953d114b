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
    """They are not of those whom the source lets in."""
    return SignInRefused("outside", f"They are outside of whom you let in: {policy.people}.", "Change the condition, or their attributes.")


def off() -> SignInRefused:
    """Nobody signs in by the source yet."""
    return SignInRefused("off", "Signing in by this source is not in force.", "Put it in force, or make a trial.")


def unfinished(lacking: Sequence[str]) -> SignInRefused:
    """What is needed for it is not there yet, or not any more."""
    return SignInRefused("settings", f"Missing yet: {', '.join(lacking)}.", "Fill it in on the exchange sheet.")


def not_in_pilot(pilot: str) -> SignInRefused:
    """So far it is for a pilot group only."""
    return SignInRefused(
        "pilot", f"They are not in the pilot group '{pilot}'.", "Wait until it is in force for everybody, or be put into that group."
    )


def conflict(message: str, *, ahead: bool) -> SignInRefused:
    """A person has to decide whose it is.

    Args:
        ahead: whether this is only looked at, so that nothing waits under Conflicts yet.
    """
    hint = "Decide it under Conflicts of the source; then they sign in again."
    if ahead:
        hint = "It waits under Conflicts once they sign in for real; or say by what this source may link people, and for which domains."
    return SignInRefused("conflict", f"Whose this is has to be decided by a person. {message}", hint)


def not_known() -> SignInRefused:
    """Nobody here is this person, and nobody is made."""
    return SignInRefused("not known", "Nobody here is this person, and this source makes nobody new.", "Let it make new people, or link by hand.")


def no_code() -> SignInRefused:
    """No code is mailed to their address."""
    message = "They have no e-mail address of a domain whose people sign in by a code."
    return SignInRefused("no code", message, "Add the domain to the source's own, or have their address repaired where it comes from.")


def inactive() -> SignInRefused:
    """Whoever says so has them inactive, or gone."""
    return SignInRefused("inactive", "They are inactive here, or have left.", "If they are to come in, have whoever says so make them active again.")


# By the reason of a refusal, the step at which it stands in the trace.
STEP_OF = {
    "certificate": "Signature",
    "signature": "Signature", "unsigned": "Signature", "algorithm": "Signature", "key": "Signature", "audience": "Meant for us, now",
    "recipient": "Meant for us, now", "destination": "Meant for us, now", "issuer": "Meant for us, now", "early": "Meant for us, now",
    "expired": "Meant for us, now", "in response to": "Asked for", "state": "Asked for", "browser": "Asked for", "replay": "Seen once",
    "status": "Arrived", "malformed": "Arrived", "encryption": "Arrived", "expressions": "Expressions", "outside": "May come in",
    "conflict": "Whose it is", "not known": "Whose it is", "inactive": "Whose it is", "pilot": "In force", "off": "In force",
    "another person": "Trial", "operator": "Operator", "no subject": "Attributes", "code": "Token", "userinfo": "Userinfo",
}  # fmt: skip
# And what a person is told, who can repair nothing of it: no more than that, and never what would help to guess.
FOR_PEOPLE = {
    "": "Your sign-in could not be accepted.",
    "conflict": "Somebody has to confirm first who you are here.",
    "not known": "You are not known here.",
    "no code": "Nobody of this domain signs in by a code.",
    "outside": "You may not come in here.",
    "inactive": "You may not come in here any more.",
    "pilot": "Signing in this way is not open for you yet.",
    "off": "Signing in this way is not open yet.",
    "operator": "No operator here is linked to you.",
    "another person": "This link is for somebody else.",
    "browser": "Please begin again, and stay in one browser.",
    "in response to": "Please begin again from our own page.",
    "state": "Please begin again from our own page.",
    "replay": "This page was used before. Please begin again.",
    "expired": "It took too long. Please begin again.",
    "status": "Your own sign-in service did not let you through.",
}


def write_trace(connection: Connection, way: SignInAttempt, outcome: str, message: str, hint: str, reason: str | None) -> str:
    """Write down what a sign-in came to, and return the trace's number."""
    proved, arrival = way.proved, way.arrival
    tried_by = way.trial.person if way.trial is not None else "somebody"
    name = searchable(way.person).display_name if way.person else proved.subject if proved else tried_by
    arrived: dict[str, Any] = {}
    if proved is not None:
        plain = {name: list(values) for name, values in proved.attributes.items()}
        arrived = {"issuer": proved.issuer, "subject": proved.subject, "attributes": plain}
    came_to = arrival.document() if arrival is not None else {"made": way.person} if way.person else {}
    return sign_in_traces.write(
        connection,
        {
            "source_id": way.source.id, "test_id": way.trial.id if way.trial is not None else None, "outcome": outcome, "reason": reason,
            "message": message, "hint": hint, "name": name[:300], "user_id": arrival.user_id if arrival is not None else None,
            "steps": way.steps.lines, "arrived": arrived, "came_to": came_to, "raw": way.raw or None,
        },
    )  # fmt: skip
