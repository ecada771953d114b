"""What is written down of a sign-in for whoever looks after it, and what a person is told who waits at the browser."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from dravo.core.records import searchable
from dravo.services import sign_in_traces
from dravo.services.proving import Way

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
# And what a person is told, who can mend nothing of it: no more than that, and never what would help to guess.
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


def write_trace(connection: Connection, way: Way, outcome: str, message: str, mend: str, reason: str | None) -> str:
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
            "source_id": way.source.id, "trial_id": way.trial.id if way.trial is not None else None, "outcome": outcome, "reason": reason,
            "message": message, "mend": mend, "name": name[:300], "user_id": arrival.user_id if arrival is not None else None,
            "steps": way.steps.lines, "arrived": arrived, "came_to": came_to, "raw": way.raw or None,
        },
    )  # fmt: skip
