"""Who gets in: tokens, passwords, sessions, permissions, keys."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dravo.core.errors import (
    AlreadyExists,
    InvalidInput,
    NotFound,
    NotPermitted,
    NotSignedIn,
    StillInUse,
    TooManyTries,
)
from dravo.core.instants import Instant, later
from dravo.services.security import api_tokens, operators, secrets
from dravo.services.security import sessions as operator_sessions
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import CHANGE, OWN, PERMISSIONS, READ, RUN, Caller
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.security.secrets import KeyMissing, Keys
from dravo.services.sources import observations, scim_checklist, sources
from dravo.services.sources import tokens as scim_tokens
from dravo.services.sources.observations import TrafficObserver
from dravo.services.sources.scim_auth import ScimAuthenticator, ScimCaller
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture

PASSWORD = "a-long-enough-one"


def test_a_token_says_what_it_is_and_is_kept_as_a_digest() -> None:
    made = [secrets.new_token("push") for _ in range(50)]
    assert len({token.text for token in made}) == 50
    for token in made:
        assert token.text.startswith(f"dravo_push_{token.prefix}_")
        assert token.hash == secrets.digest(token.text)
        assert token.text[-20:] not in token.hash


def test_a_password_fits_only_itself() -> None:
    kept = secrets.hash_password(PASSWORD)
    assert kept.startswith("$argon2id$")
    assert secrets.password_fits(kept, PASSWORD)
    assert not secrets.password_fits(kept, PASSWORD + "x")
    assert not secrets.password_fits("not a hash", PASSWORD)
    with pytest.raises(InvalidInput, match="characters"):
        secrets.hash_password("short")


@given(st.text(max_size=50))
def test_a_secret_decrypts_only_with_its_key(text: str) -> None:
    keys = _keys("one")
    kept = keys.encrypt(text)
    assert keys.decrypt(kept) == text
    if len(text) > 3:
        assert text not in kept
    with pytest.raises(KeyMissing):
        _keys("other").decrypt(kept)


_FOLDERS: dict[str, Keys] = {}


def _keys(name: str) -> Keys:
    if name not in _FOLDERS:
        import tempfile

        _FOLDERS[name] = Keys(Path(tempfile.mkdtemp()), new=True)
    return _FOLDERS[name]


def test_the_key_is_made_once_and_read_from_file_or_environment(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    kept = Keys(tmp_path, new=True).encrypt("secret")
    assert Keys(tmp_path).decrypt(kept) == "secret"
    assert oct((tmp_path / "keys").stat().st_mode)[-3:] == "600"
    monkeypatch.setenv("DRAVO_KEY", (tmp_path / "keys").read_text().strip())
    (tmp_path / "keys").unlink()
    assert Keys(tmp_path).decrypt(kept) == "secret"
    assert not (tmp_path / "keys").exists()
    monkeypatch.setenv("DRAVO_KEY", "nonsense")
    with pytest.raises(KeyMissing, match="cannot be read"):
        Keys(tmp_path)


def test_a_push_token_opens_its_own_source_only(services: ServiceFixture) -> None:
    staff = services.source("staff")
    services.source("estates")
    token = scim_tokens.add_token(services.ctx, services.caller, "staff", "Provider").token
    door = ScimAuthenticator(services.ctx)
    for _ in range(2):
        admitted = door.admit("staff", token)
        assert isinstance(admitted, ScimCaller)
        assert admitted.source_id == staff
        assert (
            "The token does not belong to this source. Check the token and the base URL on the setup "
            "checklist of the source." in str(door.admit("estates", token))
        )
        assert (
            "The token does not belong to this source. Check the token and the base URL on the setup "
            "checklist of the source." in str(door.admit("none", token))
        )
        assert "Authorization" in str(door.admit("staff", None))


def test_a_revoked_token_leaves_the_cache(services: ServiceFixture) -> None:
    services.source("staff")
    made = scim_tokens.add_token(services.ctx, services.caller, "staff", "Provider")
    door = ScimAuthenticator(services.ctx)
    assert isinstance(door.admit("staff", made.token), ScimCaller)
    scim_tokens.revoke_token(services.ctx, services.caller, "staff", made.id)
    assert "revoked at" in str(door.admit("staff", made.token))
    with pytest.raises(NotFound):
        scim_tokens.revoke_token(services.ctx, services.caller, "staff", "none")


def test_an_expired_token_opens_nothing_even_if_it_is_remembered(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    services.source("staff")
    now = clock.now()
    made = scim_tokens.add_token(services.ctx, services.caller, "staff", "Short", later(now, 60))
    door = ScimAuthenticator(services.ctx)
    assert isinstance(door.admit("staff", made.token), ScimCaller)
    monkeypatch.setattr("dravo.store.clock.now", lambda: later(now, 61))
    assert "expired at" in str(door.admit("staff", made.token))
    with pytest.raises(InvalidInput, match="The expiry is in the past"):
        scim_tokens.add_token(services.ctx, services.caller, "staff", "Late", now)


def test_observations_are_written_once_in_a_while(services: ServiceFixture) -> None:
    staff = services.source("staff")
    seen = TrafficObserver(services.ctx)
    for _ in range(5):
        seen.note(staff, observations.USER)
    first = services.rows(t.source_observation)
    assert [(row.what, row.first_at == row.last_at) for row in first] == [("user", True)]
    seen.PAUSE = 0
    seen.note(staff, observations.USER)
    again = services.rows(t.source_observation)[0]
    assert again.first_at == first[0].first_at
    assert again.last_at > first[0].last_at
    seen.note_refusal("none", "nobody")
    assert len(services.rows(t.source_observation)) == 1


@pytest.mark.parametrize("key", ["", "-a", "a-", "A", "a b", "a/b", "é", "a" * 65, "a.b"])
def test_a_key_invalid_in_a_url_is_refused(services: ServiceFixture, key: str) -> None:
    with pytest.raises(InvalidInput, match="' is not a valid key"):
        sources.add(services.ctx, services.caller, key, "Staff")


def test_the_checklist_gives_the_address_whole_and_in_parts(services: ServiceFixture) -> None:
    services.source("staff")
    checklist = scim_checklist.checklist(services.ctx, "staff", "https://dravo.fernhollow.example:8443/base")
    values = {line.name: line.value for line in checklist.give}
    assert values["SCIM base URL"] == "https://dravo.fernhollow.example:8443/base/scim/v2/staff"
    assert (values["Scheme"], values["Host and port"], values["Path"]) == (
        "https",
        "dravo.fernhollow.example:8443",
        "/base/scim/v2/staff",
    )
    assert checklist.usable_tokens == 0


def super_admin(services: ServiceFixture, name: str = "ada", kind: str = "super_administrator") -> Caller:
    made = operators.add(services.ctx, services.caller, NewOperator(name, kind), PASSWORD)
    return Caller(made.id, made.name, kind)


def test_a_session_ends_by_itself_and_by_signing_out(
    services: ServiceFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    super_admin(services)
    limiter = RateLimiter(5, 60)
    now = clock.now()
    secret, told = operator_sessions.sign_in(services.ctx, limiter, "ADA", PASSWORD, "local")
    known = operator_sessions.by_session(services.ctx, secret)
    assert known is not None
    assert (known[0].name, known[1]) == ("ada", told.csrf)
    assert operator_sessions.by_session(services.ctx, "other") is None
    for hours, alive in ((1.9, True), (3.8, True), (6.0, False)):
        monkeypatch.setattr("dravo.store.clock.now", lambda hours=hours: later(now, hours * 3600))
        assert (operator_sessions.by_session(services.ctx, secret) is not None) == alive, (
            f"after {hours} hours"
        )
    monkeypatch.undo()
    secret, _ = operator_sessions.sign_in(services.ctx, limiter, "ada", PASSWORD, "local")
    again = operator_sessions.by_session(services.ctx, secret)
    assert again is not None
    operator_sessions.end_session(services.ctx, again[0])
    assert operator_sessions.by_session(services.ctx, secret) is None


def test_failures_are_counted_by_name_and_address_and_forgotten_by_success(services: ServiceFixture) -> None:
    super_admin(services)
    limiter = RateLimiter(3, 60)
    for _ in range(2):
        with pytest.raises(NotSignedIn):
            operator_sessions.sign_in(services.ctx, limiter, "ada", "wrong", "10.0.0.1")
    operator_sessions.sign_in(services.ctx, limiter, "ada", PASSWORD, "10.0.0.2")
    with pytest.raises(NotSignedIn):
        operator_sessions.sign_in(services.ctx, limiter, "ada", "wrong", "10.0.0.1")
    with pytest.raises(TooManyTries):
        operator_sessions.sign_in(services.ctx, limiter, "ada", PASSWORD, "10.0.0.1")
    assert operator_sessions.sign_in(services.ctx, limiter, "ada", PASSWORD, "10.0.0.2"), (
        "nobody is locked out from elsewhere"
    )


def test_a_disabled_operator_gets_the_answer_of_a_stranger(services: ServiceFixture) -> None:
    super_admin(services, "first")
    second = super_admin(services, "second")
    operators.disable(services.ctx, services.caller, second.operator_id)
    told = []
    for name in ("second", "nobody"):
        with pytest.raises(NotSignedIn) as wrong:
            operator_sessions.sign_in(services.ctx, RateLimiter(9, 60), name, PASSWORD, "local")
        told.append(str(wrong.value))
    assert told[0] == told[1]
    with pytest.raises(StillInUse, match="last super administrator"):
        operators.disable(services.ctx, services.caller, services.rows(t.operator, name="first")[0].id)
    with pytest.raises(AlreadyExists):
        operators.add(services.ctx, services.caller, NewOperator("FIRST", "super_administrator"), PASSWORD)
    with pytest.raises(InvalidInput, match="' is not a valid kind of operator"):
        operators.add(services.ctx, services.caller, NewOperator("third", "emperor"), PASSWORD)


def test_a_token_never_has_more_rights_than_its_maker(services: ServiceFixture) -> None:
    administrator = super_admin(services, "adam", "administrator")
    writing = api_tokens.by_text(
        services.ctx, api_tokens.create(services.ctx, administrator, "x", "write").token
    )
    reading = api_tokens.by_text(
        services.ctx, api_tokens.create(services.ctx, administrator, "y", "read").token
    )
    assert writing is not None
    assert reading is not None
    assert writing.permissions == READ | CHANGE | OWN
    assert reading.permissions == READ | {"own.read"}
    with pytest.raises(NotPermitted, match="A token with the scope 'read' cannot create tokens"):
        api_tokens.create(services.ctx, reading, "z", "read")
    with pytest.raises(InvalidInput):
        api_tokens.create(services.ctx, administrator, "z", "everything")
    listed = api_tokens.tokens(services.ctx, administrator, PageRequest()).items
    assert {each.scope for each in listed} == {"read", "write"}
    other = super_admin(services, "eve", "administrator")
    with pytest.raises(NotFound):
        api_tokens.revoke(services.ctx, other, listed[0].id)
    api_tokens.revoke(services.ctx, administrator, listed[0].id)
    assert api_tokens.by_text(services.ctx, "dravo_api_none") is None


def test_an_api_token_expires(services: ServiceFixture, monkeypatch: pytest.MonkeyPatch) -> None:
    ada = super_admin(services)
    now = clock.now()
    text = api_tokens.create(services.ctx, ada, "x", "read", later(now, 60)).token
    assert api_tokens.by_text(services.ctx, text)
    monkeypatch.setattr("dravo.store.clock.now", lambda: Instant(later(now, 60)))
    assert api_tokens.by_text(services.ctx, text) is None


def test_permissions_are_of_three_kinds_and_each_kind_of_operator_has_its_own() -> None:
    assert PERMISSIONS == READ | CHANGE | RUN | OWN
    assert Caller("", "x", "super_administrator").permissions == PERMISSIONS
    assert Caller("", "x", "administrator").permissions == READ | CHANGE | OWN
    assert Caller("", "x", "super_administrator", "read").permissions == READ | {"operators.read", "own.read"}
    assert Caller("", "x", "unknown").permissions == frozenset()
    assert Caller("", "x", "auditor").permissions == READ | OWN
    assert Caller("", "x", "auditor", masked=True).permissions == (READ | OWN) - {
        "attributes.read",
        "notifications.read",
    }
    assert Caller("", "x", "help_desk").permissions & CHANGE == {"tasks.retry"}
    assert Caller("", "x", "application_owner").permissions & (CHANGE | RUN) == {
        "assignments.change",
        "accounts.change",
    }
    with pytest.raises(NotPermitted, match="with a read-only token"):
        Caller("", "x", "super_administrator", "read").require("sources.change")
    with pytest.raises(NotPermitted, match="as administrator"):
        Caller("", "x", "administrator").require("operators.change")
