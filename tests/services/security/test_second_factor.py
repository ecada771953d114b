"""The second factor of operators: no way in without it, and each code once."""

from __future__ import annotations

import base64
import time
from dataclasses import asdict
from typing import Any

import pytest
import structlog
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.twofactor.totp import TOTP
from sqlalchemy import select

from dravo.core.errors import InvalidInput, NotSignedIn, TooManyTries
from dravo.services.security import operators, rate_limits, second_factor
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.factors import Proof
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.second_factor import SecondFactorNeeded
from dravo.store import tables as t
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture

PASSWORD = "fern-hollow-gate-seven"


def shown(secret: str, steps: int = 0) -> str:
    """Return the code that an app shows, some steps from now."""
    return (
        TOTP(base64.b32decode(secret), 6, hashes.SHA1(), 30).generate(int(time.time()) + 30 * steps).decode()
    )


class Desk:
    """Somebody at the sign-in page."""

    def __init__(self, services: ServiceFixture) -> None:
        self.ctx = services.ctx
        made = operators.add(
            self.ctx, services.caller, NewOperator("una.kerrigan", "super_administrator"), PASSWORD
        )
        self.id, self.limiter = made.id, RateLimiter(5, 300)

    def enter(self, code: str = "", password: str = PASSWORD) -> Caller:
        secret, _ = operator_sessions.sign_in(
            self.ctx, self.limiter, "una.kerrigan", password, "127.0.0.1", Proof(code)
        )
        known = operator_sessions.by_session(self.ctx, secret)
        assert known is not None
        return known[0]


@pytest.fixture
def desk(services: ServiceFixture, monkeypatch: pytest.MonkeyPatch) -> Desk:
    # The time stands still: on a busy machine, what an app shows would change between two lines of a test.
    now = time.time()
    monkeypatch.setattr(time, "time", lambda: now)
    return Desk(services)


def test_a_password_alone_is_refused_and_each_code_works_once(desk: Desk) -> None:
    una, elsewhere = desk.enter(), desk.enter()
    secret = second_factor.begin(desk.ctx, una).secret
    # Not confirmed yet: it does not count, and a wrong code does not make it.
    assert desk.enter().name == "una.kerrigan"
    with pytest.raises(InvalidInput, match="The code is wrong"):
        second_factor.confirm(desk.ctx, una, "000000" if shown(secret) != "000000" else "111111")
    codes = second_factor.confirm(desk.ctx, una, shown(secret)).recovery_codes
    assert asdict(second_factor.status(desk.ctx, una)) | {"since": None} == {
        "on": True,
        "app": True,
        "since": None,
        "passkeys": [],
        "passkeys_at": "",
        "recovery_left": 10,
        "required": False,
    }
    # Who was in by the password alone, elsewhere, is not any more.
    assert operator_sessions.by_session(desk.ctx, str(elsewhere.session)) is None
    assert operator_sessions.by_session(desk.ctx, str(una.session)) is not None
    with pytest.raises(SecondFactorNeeded):
        desk.enter()
    with pytest.raises(NotSignedIn, match="The name or the password is wrong"):
        desk.enter(shown(secret, 1), password="wrong-wrong-wrong")
    with pytest.raises(NotSignedIn, match="The code is wrong"):
        desk.enter(shown(secret))
    assert desk.enter(shown(secret, 1)).name == "una.kerrigan"
    with pytest.raises(NotSignedIn, match="The code is wrong"):
        desk.enter(shown(secret, 1))
    # A recovery code, written in whatever way, once.
    assert desk.enter(codes[0].upper().replace("-", " ")).name == "una.kerrigan"
    with pytest.raises(NotSignedIn):
        desk.enter(codes[0])
    assert second_factor.status(desk.ctx, una).recovery_left == 9
    (event,) = events_of(desk, "recovery_code_used")
    assert event.title == "Operator una.kerrigan used a recovery code" and "left: 9" in event.text


def events_of(desk: Desk, kind: str) -> list[Any]:
    """Return the events of a kind that notifications report."""
    with desk.ctx.database.reading() as connection:
        found = connection.execute(select(t.notification_event).where(t.notification_event.c.kind == kind))
        return list(found)


def test_guesses_are_limited(desk: Desk) -> None:
    una = desk.enter()
    secret = second_factor.begin(desk.ctx, una).secret
    second_factor.confirm(desk.ctx, una, shown(secret))
    for _ in range(5):
        with pytest.raises(NotSignedIn):
            desk.enter("12345x")
    with pytest.raises(TooManyTries):
        desk.enter(shown(secret, 1))
    (event,) = events_of(desk, "operator_locked_out")
    assert event.title == "Operator una.kerrigan is locked out" and "127.0.0.1" not in event.text


def test_guesses_of_a_password_from_many_addresses_are_one_event(desk: Desk) -> None:
    for address in ("192.0.2.1", "192.0.2.2"):
        for _ in range(5):
            with pytest.raises(NotSignedIn):
                operator_sessions.sign_in(desk.ctx, desk.limiter, "una.kerrigan", "a-guess", address)
    assert len(events_of(desk, "operator_locked_out")) == 1


def test_it_is_turned_off_by_a_code_or_by_a_super_administrator_and_never_by_a_token(
    services: ServiceFixture, desk: Desk
) -> None:
    una = desk.enter()
    with pytest.raises(InvalidInput, match="The second factor can be changed only in the console"):
        second_factor.begin(desk.ctx, Caller(desk.id, "una.kerrigan", "super_administrator"))
    codes = second_factor.confirm(
        desk.ctx, una, shown(second_factor.begin(desk.ctx, una).secret)
    ).recovery_codes
    with pytest.raises(InvalidInput, match="already"):
        second_factor.begin(desk.ctx, una)
    with pytest.raises(InvalidInput, match="The code is wrong"):
        second_factor.disable_app(desk.ctx, una, Proof("nothing"))
    assert not second_factor.disable_app(desk.ctx, una, Proof(codes[3])).on
    assert desk.enter().name == "una.kerrigan"
    second_factor.confirm(desk.ctx, una, shown(second_factor.begin(desk.ctx, una).secret))
    second_factor.reset(desk.ctx, services.caller, desk.id)
    assert operator_sessions.by_session(desk.ctx, str(una.session)) is None
    assert desk.enter().name == "una.kerrigan"


def test_codes_are_guessed_neither_within_a_session_nor_from_many_addresses(desk: Desk) -> None:
    una = desk.enter()
    codes = second_factor.confirm(
        desk.ctx, una, shown(second_factor.begin(desk.ctx, una).secret)
    ).recovery_codes
    limiter = RateLimiter(5, 300)
    for number in range(5):
        with pytest.raises(NotSignedIn, match="The code is wrong"):
            operator_sessions.sign_in(
                desk.ctx, limiter, "una.kerrigan", PASSWORD, f"192.0.2.{number}", Proof("000000")
            )
    with pytest.raises(TooManyTries):
        operator_sessions.sign_in(desk.ctx, limiter, "una.kerrigan", PASSWORD, "192.0.2.99", Proof(codes[0]))
    # Anyone who has not the password locks out nobody, whatever codes they send along.
    limiter = RateLimiter(5, 300)
    for number in range(20):
        with pytest.raises(NotSignedIn, match="The name or the password is wrong"):
            operator_sessions.sign_in(
                desk.ctx, limiter, "una.kerrigan", "wrong-wrong-wrong", f"192.0.2.{number}", Proof("000000")
            )
    assert operator_sessions.sign_in(
        desk.ctx, limiter, "una.kerrigan", PASSWORD, "192.0.2.99", Proof(codes[0])
    )


@pytest.mark.parametrize("path", ["/api/v1/second-factor/disable", "/api/v1/recovery-codes"])
def test_codes_within_a_session_are_counted_at_every_place_that_asks_for_one(desk: Desk, path: str) -> None:
    una = desk.enter()
    codes = second_factor.confirm(
        desk.ctx, una, shown(second_factor.begin(desk.ctx, una).secret)
    ).recovery_codes
    app = create_app(desk.ctx, "http://127.0.0.1:1")
    http = app.test_client()
    csrf = http.post(
        "/api/v1/session", json={"name": "una.kerrigan", "password": PASSWORD, "code": codes[0]}
    ).json["csrf"]

    def give(code: str) -> int:
        return int(http.post(path, json={"code": code}, headers={"X-Dravo-CSRF": csrf}).status_code)

    assert [give("000000") for _ in range(11)] == [422] * 10 + [429]
    assert give(codes[1]) == 429


def test_sign_in_failures_are_stored_now_and_then_and_shown(services: ServiceFixture, desk: Desk) -> None:
    limiter = RateLimiter(3, 300)
    with structlog.testing.capture_logs() as logged:
        for number in range(6):
            with pytest.raises(NotSignedIn):
                operator_sessions.sign_in(
                    desk.ctx, limiter, "una.kerrigan", "wrong-wrong-wrong", f"192.0.2.{number}"
                )
        with pytest.raises(NotSignedIn):
            operator_sessions.sign_in(
                desk.ctx, limiter, "nobody-of-that-name", "wrong-wrong-wrong", "192.0.2.99"
            )
    assert [each["operator"] for each in logged] == ["una.kerrigan"] * 6 + [None]
    assert "wrong-wrong-wrong" not in str(logged) and "nobody-of-that-name" not in str(logged)
    entries = [row for row in services.rows(t.audit) if row.action == "failed to sign in"]
    assert len(entries) == 3 and "192.0.2.0" in entries[0].operator_name


def test_a_limiter_forgets_the_oldest_first(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rate_limits, "REMEMBERED", 3)
    limiter = RateLimiter(1, 300)
    for name in ("a", "b", "c", "a", "d"):
        limiter.failed(name)
    limiter.check("b")
    for name in ("a", "c", "d"):
        with pytest.raises(TooManyTries):
            limiter.check(name)
