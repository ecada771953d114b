"""Operators' own passwords: changed by anyone who knows the present one, and by nobody at a desk that was
left open.
"""

from __future__ import annotations

import pytest

from dravo.core.errors import InvalidInput, NotSignedIn, TooManyTries
from dravo.services.security import passwords
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.permissions import Caller
from dravo.store import tables as t
from tests.cheap import SHIPPED_BITS, SHIPPED_PASSWORDS
from tests.service_fixture import ServiceFixture
from tests.services.security.test_second_factor import PASSWORD, Desk

WANTED = "herbarium-cupboard-nine"


@pytest.fixture
def desk(services: ServiceFixture) -> Desk:
    return Desk(services)


def change(desk: Desk, caller: Caller, present: str = PASSWORD, wanted: str = WANTED) -> None:
    passwords.change_own(desk.ctx, caller, desk.limiter, present, wanted)


def test_a_password_change_ends_other_sessions(desk: Desk, services: ServiceFixture) -> None:
    una, elsewhere = desk.enter(), desk.enter()
    change(desk, una)
    with pytest.raises(NotSignedIn):
        desk.enter()
    assert desk.enter(password=WANTED).name == "una.kerrigan"
    assert operator_sessions.by_session(desk.ctx, str(una.session)) is not None
    assert operator_sessions.by_session(desk.ctx, str(elsewhere.session)) is None
    kept = services.rows(t.audit)
    assert "changed own password" in [row.action for row in kept]
    assert not any(WANTED in str(tuple(row)) for row in kept)


def test_a_password_change_needs_the_password_and_limits_guesses(desk: Desk) -> None:
    una = desk.enter()
    for _ in range(desk.limiter.most):
        with pytest.raises(InvalidInput, match="The current password is wrong") as wrong:
            change(desk, una, "a-guess-of-somebody")
        assert wrong.value.hint
    with pytest.raises(TooManyTries):
        change(desk, una)
    assert desk.enter().name == "una.kerrigan"


def test_invalid_changes_are_explained_and_change_nothing(desk: Desk) -> None:
    una = desk.enter()
    with pytest.raises(InvalidInput, match="has 5 characters"):
        change(desk, una, wanted="short")
    with pytest.raises(InvalidInput, match="The new password is the same as the current one"):
        change(desk, una, wanted=PASSWORD)
    with pytest.raises(InvalidInput, match="Your password can be changed only in the console"):
        change(desk, Caller(una.operator_id, una.name, una.kind))
    assert desk.enter().name == "una.kerrigan"


def test_without_a_password_there_is_nothing_to_change(desk: Desk, services: ServiceFixture) -> None:
    una = desk.enter()
    with services.ctx.database.writing() as connection:
        connection.execute(t.operator.update().values(only_by_source=True))
    with pytest.raises(InvalidInput, match="Your password sign-in is disabled"):
        change(desk, una)


def test_of_two_concurrent_changes_one_is_refused(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    una, hashed = desk.enter(), passwords.hash_password

    def meanwhile(password: str, *own_words: str) -> str:
        monkeypatch.setattr(passwords, "hash_password", hashed)
        change(desk, una, wanted="the-other-was-quicker")
        return hashed(password)

    monkeypatch.setattr(passwords, "hash_password", meanwhile)
    with pytest.raises(InvalidInput, match="Your password was changed in the meantime"):
        change(desk, una)
    assert desk.enter(password="the-other-was-quicker").name == "una.kerrigan"


def test_password_hashes_and_keys_have_the_documented_strength() -> None:
    # Other tests take cheaper ones.
    assert (SHIPPED_PASSWORDS.time_cost, SHIPPED_PASSWORDS.memory_cost) >= (3, 64 * 1024)
    assert str(SHIPPED_PASSWORDS.type) == "Type.ID"
    assert SHIPPED_BITS >= 3072
