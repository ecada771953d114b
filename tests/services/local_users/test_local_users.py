"""Invitations, passwords and second factors of local users."""

from __future__ import annotations

import re
import time

import orjson
import pytest
from sqlalchemy import select

from dravo.core.errors import InvalidInput, NotFound, NotPermitted, NotSignedIn, StalePreview, TooManyTries
from dravo.core.identity.invitations import InvitationDefaults
from dravo.services import settings
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.ingest import conflicts, erasure
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local import removal
from dravo.services.ingest.local import users as local_user_records
from dravo.services.local_users import (
    acceptance,
    invitation_plan,
    invitations,
    one_time_passwords,
    own_security,
    password_checks,
    password_sign_in,
    passwords,
    resets,
)
from dravo.services.local_users.invitation_plan import InvitationRequest
from dravo.services.local_users.password_checks import CheckRequest, PasswordCheck
from dravo.services.local_users.password_sign_in import PasswordSignIn
from dravo.services.local_users.passwords import ChosenPassword, WeakPassword
from dravo.services.notifications import mail_server
from dravo.services.security import factors
from dravo.services.security.factors import Proof
from dravo.services.security.permissions import OWNER, Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import sessions as user_sessions
from dravo.services.sign_in.sessions import SignedInUser
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.queries.users import user_status
from tests.service_fixture import ServiceFixture
from tests.services.security.test_second_factor import shown
from tests.services.sign_in.test_email_codes import GALE, Post

GOOD, BETTER = "tulip-Marrow-9-lantern", "seven-Otters-drum-inland"
CSV = (
    "email,given_name,family_name,groups,application,role\n"
    "ines@fernhollow.example,Inês,Moreau,Seed Bank,,\n"
    "no-address,Nobody,,,,\n"
    "dunja@fernhollow.example,Dunja,Reyes,,records,viewer\n"
    "INES@fernhollow.example,Ines,Again,,,\n"
    "una@fernhollow.example,Una,Kerrigan,,records,gardener\n"
)


@pytest.fixture
def trust(services: ServiceFixture) -> ServiceFixture:
    """An organization with an email server, a local group and an application."""
    services.ctx.public_url = "https://dravo.fernhollow.example"
    server = {"host": "127.0.0.1", "port": 25, "security": "none", "sender": "dravo@fernhollow.example"}
    mail_server.change(services.ctx, services.caller, server)
    settings.change(services.ctx, services.caller, "organization_name", "Fernhollow Botanic Trust")
    local_groups.add(services.ctx, services.caller, "Seed Bank")
    services.application("records", "viewer", "curator")
    return services


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


def test_a_file_invites_its_good_lines_and_says_why_it_rejects_the_others(trust: ServiceFixture) -> None:
    request = InvitationRequest(csv=CSV, defaults=InvitationDefaults(until="2099-06-30"))
    seen = invitation_plan.preview(trust.ctx, trust.caller, request)
    assert [(each.line, each.email, each.groups, each.roles) for each in seen.items] == [
        (2, "ines@fernhollow.example", ["Seed Bank"], []),
        (4, "dunja@fernhollow.example", [], ["Records: Viewer"]),
    ]
    assert [(each.line, each.message) for each in seen.rejected] == [
        (3, "'no-address' is not an email address."),
        (5, "Line 2 invites the same user."),
        (6, "There is no role 'gardener' in 'records'."),
    ]
    assert trust.rows(t.user) == [] and emails(trust) == []
    made = invitations.invite(trust.ctx, trust.caller, request)
    assert [each.email for each in made.items] == ["ines@fernhollow.example", "dunja@fernhollow.example"]
    assert made.rejected == seen.rejected
    ines, dunja = (each.id for each in made.items)
    assert status_of(trust, ines) == "pending"
    assert [each.user_id for each in trust.rows(t.membership)] == [ines]
    (assignment,) = trust.rows(t.assignment)
    assert assignment.user_id == dunja and trust.rows(t.access) == []
    (row,) = trust.rows(t.user, id=ines)
    assert (row.mark, row.mark_from_at[:10], row.display_name) == ("inactive", "2099-07-01", "Inês Moreau")
    assert [to for to, _, _ in emails(trust)] == ["ines@fernhollow.example", "dunja@fernhollow.example"]
    _, subject, text = emails(trust)[0]
    assert subject == "Invitation to your applications"
    assert "Fernhollow Botanic Trust" in text and "https://dravo.fernhollow.example/invitation#" in text
    again = invitation_plan.preview(trust.ctx, trust.caller, request)
    assert not again.items and again.rejected[0].message == (
        "The user Inês Moreau has the same email address or user name."
    )


def test_what_cannot_be_invited_says_what_to_do(trust: ServiceFixture) -> None:
    def refused(request: InvitationRequest) -> InvalidInput:
        with pytest.raises(InvalidInput) as wrong:
            invitations.invite(trust.ctx, trust.caller, request)
        return wrong.value

    assert (
        "Did you mean 'given_name'?"
        in refused(InvitationRequest(csv="email,givenname\na@b.example,A\n")).hint
    )
    assert "a quote is never closed" in refused(InvitationRequest(csv='email\n"una\n')).message
    assert refused(InvitationRequest()).message == "The list of users is empty."
    many = [{"email": f"u{number}@fernhollow.example"} for number in range(1_001)]
    assert "1,001 users" in refused(InvitationRequest(many)).message
    one = [{"email": "una@fernhollow.example"}]
    with pytest.raises(StalePreview):
        invitations.invite(trust.ctx, trust.caller, InvitationRequest(one, expect=2))
    settings.change(trust.ctx, trust.caller, "highest_role_confirmation", 1)
    curator = InvitationDefaults(application="records", role="curator")
    with pytest.raises(NeedsConfirmation, match="1 user would get a highest role"):
        invitations.invite(trust.ctx, trust.caller, InvitationRequest(one, defaults=curator))
    sure = InvitationRequest(one, defaults=curator, confirm="una@fernhollow.example")
    assert len(invitations.invite(trust.ctx, trust.caller, sure).items) == 1
    owner = Caller("x", "gareth", OWNER)
    with pytest.raises(NotPermitted):
        invitation_plan.preview(
            trust.ctx,
            owner,
            InvitationRequest(
                [{"email": "b@fernhollow.example"}], defaults=InvitationDefaults(groups=("Seed Bank",))
            ),
        )
    mail_server.change(trust.ctx, trust.caller, {"host": ""})
    assert "need an email server" in refused(InvitationRequest([{"email": "c@fernhollow.example"}])).message


def test_an_invited_user_becomes_active_with_a_password_and_once(trust: ServiceFixture) -> None:
    request = InvitationRequest(
        [{"email": "ines@fernhollow.example"}],
        defaults=InvitationDefaults(groups=("Seed Bank",), application="records", role="viewer"),
    )
    (made,) = invitations.invite(trust.ctx, trust.caller, request).items
    secret = secret_of(emails(trust)[0][2])
    found = acceptance.read(trust.ctx, secret)
    assert (found.user_name, found.sources, found.least) == ("ines@fernhollow.example", [], 12)
    with pytest.raises(InvalidInput, match="The password has 5 characters"):
        acceptance.accept_with_password(trust.ctx, secret, ChosenPassword("short"))
    with pytest.raises(WeakPassword, match="contains your name"):
        acceptance.accept_with_password(trust.ctx, secret, ChosenPassword("fernhollow2026"))
    with pytest.raises(WeakPassword, match="common password"):
        acceptance.accept_with_password(trust.ctx, secret, ChosenPassword("qwertyuiop12", confirmed=True))
    session = acceptance.accept_with_password(trust.ctx, secret, ChosenPassword(GOOD))
    assert status_of(trust, made.id) == "active"
    assert [each.role_id for each in trust.rows(t.access, user_id=made.id)]
    assert visitor(trust, session).user_id == made.id
    with pytest.raises(NotFound, match="used, expired or withdrawn"):
        acceptance.accept_with_password(trust.ctx, secret, ChosenPassword(BETTER))
    (line,) = invitations.list_invitations(trust.ctx, PageRequest(), "accepted", None).items
    assert line.accepted_with == "password"
    with pytest.raises(InvalidInput, match="accepted already"):
        invitations.withdraw(trust.ctx, trust.caller, line.id)


def test_an_invitation_is_sent_again_withdrawn_or_expires(
    trust: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    user_id, first = invite(trust)
    (line,) = invitations.list_invitations(trust.ctx, PageRequest(), "open", "moreau").items
    assert invitations.list_invitations(trust.ctx, PageRequest(), None, "nobody").items == []
    corrected = {"user_name": "ines@fernhollow.example", "email": "i.moreau@guests.example", "active": False}
    local_user_records.change(trust.ctx, trust.caller, user_id, corrected)
    assert invitations.resend(trust.ctx, trust.caller, line.id).email == "i.moreau@guests.example"
    assert emails(trust)[-1][0] == "i.moreau@guests.example"
    second = secret_of(emails(trust)[-1][2])
    with pytest.raises(NotFound):
        acceptance.read(trust.ctx, first)
    acceptance.read(trust.ctx, second)
    real = clock.now()
    monkeypatch.setattr(clock, "now", lambda: "2099-01-01T00:00:00.000000Z")
    with pytest.raises(NotFound):
        acceptance.accept_with_password(trust.ctx, second, ChosenPassword(GOOD))
    assert invitations.list_invitations(trust.ctx, PageRequest(), "expired", None).items
    monkeypatch.setattr(clock, "now", lambda: real)
    assert invitations.withdraw(trust.ctx, trust.caller, line.id).status == "withdrawn"
    assert status_of(trust, user_id) == "left"
    with pytest.raises(NotFound):
        acceptance.accept_with_password(trust.ctx, second, ChosenPassword(GOOD))
    # The user can be invited again.
    assert invite(trust)[0] != user_id


def test_a_password_signs_in_and_a_refusal_tells_nobody_who_is_known(trust: ServiceFixture) -> None:
    user_id, _ = accepted(trust)
    came = sign_in(trust)
    assert came.outcome == "signed_in" and visitor(trust, came.session).user_id == user_id
    assert sign_in(trust, name="INES@fernhollow.example ").outcome == "signed_in"
    told = set()
    for name, password in (("ines@fernhollow.example", BETTER), ("nobody@fernhollow.example", GOOD)):
        with pytest.raises(NotSignedIn) as wrong:
            sign_in(trust, password, name)
        told.add((wrong.value.message, wrong.value.hint))
    assert len(told) == 1
    limiter = RateLimiter(3, 300)
    for _ in range(3):
        with pytest.raises(NotSignedIn):
            password_sign_in.begin(trust.ctx, limiter, "ines@fernhollow.example", "x" * 12, "192.0.2.9")
    with pytest.raises(TooManyTries):
        password_sign_in.begin(trust.ctx, limiter, "ines@fernhollow.example", GOOD, "192.0.2.9")
    local_user_records.change(
        trust.ctx, trust.caller, user_id, {"user_name": "ines@fernhollow.example", "active": False}
    )
    with pytest.raises(NotSignedIn, match="not active"):
        sign_in(trust)
    settings.change(trust.ctx, trust.caller, "local_users", False)
    with pytest.raises(NotPermitted, match="disabled"):
        sign_in(trust)


def test_a_one_time_password_is_changed_at_the_first_sign_in(trust: ServiceFixture) -> None:
    request = InvitationRequest(
        [{"user_name": "ana", "given_name": "Ana"}],
        defaults=InvitationDefaults(groups=("Seed Bank",)),
        with_passwords=True,
    )
    (made,) = invitations.invite(trust.ctx, trust.caller, request).items
    assert made.password and status_of(trust, made.id) == "active" and emails(trust) == []
    came = sign_in(trust, made.password, "ana")
    assert came.outcome == "new_password" and not came.session
    with pytest.raises(InvalidInput, match="same as the one-time password"):
        password_sign_in.choose_password(trust.ctx, came.state, ChosenPassword(made.password))
    done = password_sign_in.choose_password(trust.ctx, came.state, ChosenPassword(GOOD))
    assert visitor(trust, done.session).user_id == made.id
    with pytest.raises(NotFound, match="took too long"):
        password_sign_in.choose_password(trust.ctx, came.state, ChosenPassword(BETTER))
    with pytest.raises(NotSignedIn):
        sign_in(trust, made.password, "ana")
    settings.change(trust.ctx, trust.caller, "change_one_time_passwords", False)
    (given,) = one_time_passwords.create(trust.ctx, trust.caller, ["ana"]).items
    assert user_sessions.by_secret(trust.ctx, done.session) is None
    assert sign_in(trust, given.password, "ana").outcome == "signed_in"
    source = trust.source("staff")
    trust.user(source, "of.staff")
    with pytest.raises(InvalidInput, match="is reported by Staff"):
        one_time_passwords.create(trust.ctx, trust.caller, ["of.staff"])


def test_an_unused_one_time_password_expires(trust: ServiceFixture, monkeypatch: pytest.MonkeyPatch) -> None:
    (made,) = invitations.invite(
        trust.ctx, trust.caller, InvitationRequest([{"user_name": "ana"}], with_passwords=True)
    ).items
    monkeypatch.setattr(clock, "now", lambda: "2099-01-01T00:00:00.000000Z")
    with pytest.raises(NotSignedIn, match="expired"):
        sign_in(trust, str(made.password), "ana")


def test_a_weak_password_is_confirmed_only_where_that_is_allowed(trust: ServiceFixture) -> None:
    _, secret = invite(trust)
    settings.change(trust.ctx, trust.caller, "weak_passwords", True)
    with pytest.raises(WeakPassword) as wrong:
        acceptance.accept_with_password(trust.ctx, secret, ChosenPassword("qwertyuiop12"))
    assert "confirm it" in wrong.value.hint
    assert acceptance.accept_with_password(trust.ctx, secret, ChosenPassword("qwertyuiop12", confirmed=True))


def test_a_reset_answers_alike_and_its_link_works_once(trust: ServiceFixture) -> None:
    _, user = accepted(trust)
    limiter = RateLimiter(20, 900)
    for address in ("nobody@fernhollow.example", "ines@fernhollow.example"):
        resets.request(trust.ctx, limiter, address, "192.0.2.1")
    ((to, _, text),) = emails(trust, "password_reset")
    assert to == "ines@fernhollow.example" and "/new-password#" in text
    resets.reset(trust.ctx, secret_of(text), ChosenPassword(BETTER))
    assert user_sessions.of_user(trust.ctx, user.user_id).items == []
    assert sign_in(trust, BETTER).outcome == "signed_in"
    with pytest.raises(NotFound, match="used or too old"):
        resets.reset(trust.ctx, secret_of(text), ChosenPassword(GOOD))
    for _ in range(5):
        resets.request(trust.ctx, limiter, "ines@fernhollow.example", "192.0.2.1")
    assert len(emails(trust, "password_reset")) == 1 + resets.MOST_OPEN
    few = RateLimiter(2, 900)
    for _ in range(2):
        resets.request(trust.ctx, few, "ines@fernhollow.example", "192.0.2.7")
    with pytest.raises(TooManyTries):
        resets.request(trust.ctx, few, "ines@fernhollow.example", "192.0.2.7")


def test_a_second_factor_is_asked_for_and_a_code_works_once(
    trust: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    monkeypatch.setattr(time, "time", lambda: now)
    _, user = accepted(trust)
    owner = own_security.owner_of(trust.ctx, user)
    text = factors.begin(trust.ctx, owner).secret
    codes = factors.confirm(trust.ctx, owner, shown(text)).recovery_codes
    assert own_security.shown(trust.ctx, user).second_factor.recovery_left == 10  # type: ignore[union-attr]
    limiter = RateLimiter(50, 60)
    came = sign_in(trust)
    assert (came.outcome, came.app, came.passkey) == ("second_factor", True, False)
    for code in (shown(text), "000000"):
        with pytest.raises(InvalidInput, match="The code is wrong"):
            password_sign_in.check_factor(trust.ctx, limiter, came.state, Proof(code))
    assert password_sign_in.check_factor(trust.ctx, limiter, came.state, Proof(shown(text, 1))).session
    with pytest.raises(NotFound):
        password_sign_in.check_factor(trust.ctx, limiter, came.state, Proof(codes[0]))
    assert password_sign_in.check_factor(trust.ctx, limiter, sign_in(trust).state, Proof(codes[0])).session
    with pytest.raises(InvalidInput):
        password_sign_in.check_factor(trust.ctx, limiter, sign_in(trust).state, Proof(codes[0]))
    # A reset changes the password only: the second factor is still needed.
    resets.request(trust.ctx, limiter, "ines@fernhollow.example", "192.0.2.1")
    resets.reset(trust.ctx, secret_of(emails(trust, "password_reset")[0][2]), ChosenPassword(BETTER))
    assert sign_in(trust, BETTER).outcome == "second_factor"
    few = RateLimiter(2, 300)
    for _ in range(2):
        with pytest.raises(InvalidInput):
            password_sign_in.check_factor(trust.ctx, few, sign_in(trust, BETTER).state, Proof("000000"))
    with pytest.raises(TooManyTries):
        password_sign_in.check_factor(trust.ctx, few, sign_in(trust, BETTER).state, Proof(codes[0]))


def test_a_user_changes_the_password_and_other_sessions_end(trust: ServiceFixture) -> None:
    _, user = accepted(trust)
    other = sign_in(trust).session
    limiter = RateLimiter(9, 60)
    with pytest.raises(InvalidInput, match="current password is wrong"):
        passwords.change_own(trust.ctx, limiter, user, "wrong", ChosenPassword(BETTER))
    with pytest.raises(InvalidInput, match="same as the current one"):
        passwords.change_own(trust.ctx, limiter, user, GOOD, ChosenPassword(GOOD))
    passwords.change_own(trust.ctx, limiter, user, GOOD, ChosenPassword(BETTER))
    assert user_sessions.by_secret(trust.ctx, other) is None
    assert sign_in(trust, BETTER).outcome == "signed_in"


def test_several_local_users_are_deleted_and_an_erased_one_leaves_nothing(trust: ServiceFixture) -> None:
    ids = [invite(trust, f"{name}@fernhollow.example")[0] for name in ("ines", "dunja", "una")]
    assert removal.preview(trust.ctx, ids[:2]).unchanged == 2
    assert removal.remove(trust.ctx, trust.caller, ids[:2]).users == 2
    assert [status_of(trust, each) for each in ids] == ["left", "left", "pending"]
    assert [
        each.status for each in invitations.list_invitations(trust.ctx, PageRequest(), None, None).items
    ] == [
        "open",
        "withdrawn",
        "withdrawn",
    ]
    (row,) = trust.rows(t.user, id=ids[0])
    erasure.erase(trust.ctx, trust.caller, ids[0], row.display_name)
    assert trust.rows(t.invitation, user_id=ids[0]) == []
    with trust.ctx.database.reading() as connection:
        kept = connection.execute(select(t.audit.c.personal)).scalars().all()
    assert not any("ines@" in str(each) for each in kept)


def test_a_source_cannot_have_the_link_of_a_reset_sent_elsewhere(trust: ServiceFixture) -> None:
    user_id, _ = accepted(trust)
    source = trust.source("staff", "fernhollow.example")
    mail = [{"value": "ines@fernhollow.example", "primary": True}]
    record = trust.user(source, "ines@fernhollow.example", emails=mail)
    (conflict,) = conflicts.list_conflicts(trust.ctx, trust.caller, "staff", PageRequest()).items
    conflicts.decide(trust.ctx, trust.caller, "staff", conflict.id, "link", user_id)
    trust.patch_user(
        source, record, {"op": "replace", "path": "emails", "value": [{"value": "x@evil.example"}]}
    )
    (user,) = trust.rows(t.user, id=user_id)
    assert user.email == "x@evil.example"
    for address in ("x@evil.example", "ines@fernhollow.example"):
        resets.request(trust.ctx, RateLimiter(9, 60), address, "192.0.2.1")
    assert emails(trust, "password_reset") == []


def test_a_user_whose_domain_has_a_source_accepts_with_it_and_signs_in_there(
    services: ServiceFixture,
) -> None:
    post = Post(services)
    services.ctx.public_url = "https://dravo.fernhollow.example"
    user_id, secret = invite(services, GALE)
    assert [each.key for each in acceptance.read(services.ctx, secret).sources] == ["volunteers"]
    with pytest.raises(InvalidInput, match="own sign-in"):
        acceptance.accept_with_password(services.ctx, secret, ChosenPassword(GOOD))
    with pytest.raises(InvalidInput, match="does not sign in this user"):
        acceptance.accept_with_source(services.ctx, secret, "another")
    assert acceptance.accept_with_source(services.ctx, secret, "volunteers") == "/sign-in?by=volunteers"
    assert status_of(services, user_id) == "active"
    came = post.give(post.ask(GALE))
    assert came.outcome == "signed_in", came.message
    assert visitor(services, came.user_session).user_id == user_id


def test_an_application_with_a_form_of_its_own_learns_the_roles_or_why_not(
    trust: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    monkeypatch.setattr(time, "time", lambda: now)
    limiter = RateLimiter(20, 60)

    def check(name: str, password: str, code: str = "") -> PasswordCheck:
        return password_checks.check(trust.ctx, limiter, "records", CheckRequest(name, password, code))

    user_id, user = accepted(trust)
    settings.change(trust.ctx, trust.caller, "support_contact", "Extension 120")
    refused = check("ines@fernhollow.example", GOOD)
    assert (refused.outcome, refused.roles) == ("no_access", [])
    assert refused.message == "You have no access to Records." and refused.support_contact == "Extension 120"
    assignments.add(trust.ctx, trust.caller, AssignmentRequest("records", "viewer", user=user_id))
    assignments.add(trust.ctx, trust.caller, AssignmentRequest("records", "curator", user=user_id))
    found = check("ines@fernhollow.example", GOOD)
    assert found.outcome == "signed_in" and found.user is not None and found.user.id == user_id
    assert [each.key for each in found.roles] == ["curator", "viewer"]
    # A wrong password and an unknown name are told alike, and no user is named.
    wrong, unknown = check("ines@fernhollow.example", BETTER), check("nobody@fernhollow.example", GOOD)
    assert wrong == unknown and (wrong.outcome, wrong.user) == ("wrong_password", None)
    owner = own_security.owner_of(trust.ctx, user)
    text = factors.begin(trust.ctx, owner).secret
    factors.confirm(trust.ctx, owner, shown(text))
    assert check("ines@fernhollow.example", GOOD).outcome == "second_factor"
    assert check("ines@fernhollow.example", GOOD, "000000").outcome == "wrong_code"
    assert check("ines@fernhollow.example", GOOD, shown(text, 1)).outcome == "signed_in"
    (given,) = one_time_passwords.create(trust.ctx, trust.caller, [user_id]).items
    factors_gone = own_security.reset_second_factor(trust.ctx, trust.caller, user_id)
    assert not factors_gone.second_factor
    assert check("ines@fernhollow.example", given.password).outcome == "new_password"
    limiter = RateLimiter(2, 60)
    for _ in range(2):
        check("ines@fernhollow.example", BETTER)
    with pytest.raises(TooManyTries):
        check("ines@fernhollow.example", given.password)
