"""Steps of invited users, for tests: accept, sign in, and read emails."""

from __future__ import annotations

import re

import orjson

from dravo.services.local_users import (
    acceptance,
    invitations,
    password_sign_in,
)
from dravo.services.local_users.invitation_plan import InvitationRequest
from dravo.services.local_users.password_sign_in import PasswordSignIn
from dravo.services.local_users.passwords import ChosenPassword
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in.sessions import SignedInUser
from dravo.store import tables as t
from dravo.store.queries.users import user_status
from tests.service_fixture import ServiceFixture

GOOD, BETTER = "tulip-Marrow-9-lantern", "seven-Otters-drum-inland"


def emails(trust: ServiceFixture, kind: str = "invitation") -> list[tuple[str, str, str]]:
    """Return (recipient, subject, text) of the emails of a kind that wait, the oldest first."""
    return [
        tuple(orjson.loads(trust.ctx.keys.decrypt(row.content)))
        for row in sorted(trust.rows(t.message, kind=kind), key=lambda row: str(row.id))
    ]


def secret_of(text: str) -> str:
    """Return the secret in the link of an email."""
    return re.findall(r"#([\w-]{40,})", text)[0]


def status_of(trust: ServiceFixture, user_id: str) -> str:
    (row,) = trust.rows(t.user, id=user_id)
    return user_status(row)


def invite(trust: ServiceFixture, email: str = "ines@fernhollow.example") -> tuple[str, str]:
    """Invite one user; return the user's ID and the secret of the link."""
    request = InvitationRequest([{"email": email, "given_name": "Inês", "family_name": "Moreau"}])
    (made,) = invitations.invite(trust.ctx, trust.caller, request).items
    return made.id, secret_of(emails(trust)[-1][2])


def visitor(trust: ServiceFixture, session: str) -> SignedInUser:
    found = user_sessions.by_secret(trust.ctx, session)
    assert found is not None
    return found


def accepted(trust: ServiceFixture) -> tuple[str, SignedInUser]:
    """Return a user who accepted an invitation with a password."""
    user_id, secret = invite(trust)
    return user_id, visitor(trust, acceptance.accept_with_password(trust.ctx, secret, ChosenPassword(GOOD)))


def sign_in(
    trust: ServiceFixture, password: str = GOOD, name: str = "ines@fernhollow.example"
) -> PasswordSignIn:
    return password_sign_in.begin(trust.ctx, RateLimiter(50, 60), name, password, "192.0.2.1")
