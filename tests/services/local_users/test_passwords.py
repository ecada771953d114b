"""Passwords, second factors and resets of local users."""

from __future__ import annotations

import time

import pytest

from dravo.core.errors import InvalidInput, NotFound, NotPermitted, NotSignedIn, TooManyTries
from dravo.core.identity.invitations import InvitationDefaults
from dravo.services import settings
from dravo.services.ingest import conflicts
from dravo.services.ingest.local import users as local_user_records
from dravo.services.local_users import (
    acceptance,
    invitations,
    one_time_passwords,
    own_security,
    password_sign_in,
    passwords,
    resets,
)
from dravo.services.local_users.invitation_plan import InvitationRequest
from dravo.services.local_users.passwords import ChosenPassword, WeakPassword
from dravo.services.security import factors
from dravo.services.security.factors import Proof
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import sessions as user_sessions
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture
from tests.services.local_users.visitors import (
    BETTER,
    GOOD,
    accepted,
    emails,
    invite,
    secret_of,
    sign_in,
    status_of,
    visitor,
)
from tests.services.security.test_second_factor import shown


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
    # Both write a step, so that they take the same time; that of the unknown address is nobody's.
    assert [each.owner_id for each in trust.rows(t.sign_in_step)] == ["", user.user_id]
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
    assert (came.outcome, came.passkey) == ("second_factor", False)
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
