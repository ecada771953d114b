"""Invitations: lists and files, acceptance, withdrawal and deletion."""

from __future__ import annotations

from typing import Any

import pytest
from sqlalchemy import select

from dravo.core.errors import InvalidInput, NotFound, NotPermitted, StalePreview
from dravo.core.identity.invitations import InvitationDefaults
from dravo.services import jobs, settings
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.ingest import erasure
from dravo.services.ingest.local import removal
from dravo.services.ingest.local import users as local_user_records
from dravo.services.local_users import (
    acceptance,
    invitation_plan,
    invitations,
)
from dravo.services.local_users.invitation_plan import InvitationRequest
from dravo.services.local_users.passwords import ChosenPassword, WeakPassword
from dravo.services.notifications import mail_server
from dravo.services.security.permissions import OWNER, Caller
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture
from tests.services.local_users.visitors import (
    BETTER,
    GOOD,
    emails,
    invite,
    secret_of,
    status_of,
    visitor,
)
from tests.services.sign_in.test_email_codes import GALE, Post

CSV = (
    "email,given_name,family_name,groups,application,role\n"
    "ines@fernhollow.example,Inês,Moreau,Seed Bank,,\n"
    "no-address,Nobody,,,,\n"
    "dunja@fernhollow.example,Dunja,Reyes,,records,viewer\n"
    "INES@fernhollow.example,Ines,Again,,,\n"
    "una@fernhollow.example,Una,Kerrigan,,records,gardener\n"
)


def test_a_file_invites_its_good_lines_and_says_why_it_rejects_the_others(trust: ServiceFixture) -> None:
    request = InvitationRequest(
        csv=CSV.encode("windows-1252"), defaults=InvitationDefaults(until="2099-06-30")
    )
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
        in refused(InvitationRequest(csv=b"email,givenname\na@b.example,A\n")).hint
    )
    assert "a quote is never closed" in refused(InvitationRequest(csv=b'email\n"una\n')).message
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


def test_a_withdrawal_and_an_acceptance_at_the_same_moment_have_one_winner(
    trust: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    user_id, secret = invite(trust)
    (line,) = invitations.list_invitations(trust.ctx, PageRequest(), "open", None).items
    remove = local_user_records.remove

    def accepted_meanwhile(*given: Any, **more: Any) -> None:
        acceptance.accept_with_password(trust.ctx, secret, ChosenPassword(GOOD))
        remove(*given, **more)

    monkeypatch.setattr(local_user_records, "remove", accepted_meanwhile)
    with pytest.raises(InvalidInput, match="accepted already"):
        invitations.withdraw(trust.ctx, trust.caller, line.id)
    assert status_of(trust, user_id) == "active"
    (line,) = invitations.list_invitations(trust.ctx, PageRequest(), None, None).items
    assert line.status == "accepted"


def test_a_stopped_invitation_says_what_it_did(
    trust: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    def stopped(done: int, _: int) -> None:
        if done == 2:
            raise jobs.JobStopped("The job was stopped.")

    monkeypatch.setattr(jobs, "report_progress", stopped)
    people = [{"user_name": f"guest{number}"} for number in range(4)]
    made = invitations.invite(trust.ctx, trust.caller, InvitationRequest(people, with_passwords=True))
    assert [bool(each.password) for each in made.items] == [True, True]
    assert [(each.line, each.message) for each in made.rejected] == [
        (3, "The job was stopped before this line."),
        (4, "The job was stopped before this line."),
    ]
    ids = [each.id for each in made.items]
    monkeypatch.setattr(jobs, "report_progress", lambda done, _: stopped(done + 1, 2))
    assert removal.remove(trust.ctx, trust.caller, ids).users == 1
    assert [status_of(trust, each) for each in ids] == ["left", "active"]


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
