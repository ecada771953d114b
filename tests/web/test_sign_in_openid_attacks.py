"""What attackers bring to the door of the bind by OpenID Connect: each is refused with its reason in the
trace, and nobody is in.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from joserfc.jwk import OctKey, RSAKey

from dravo.protocols.http_client import Fetched
from dravo.services.context import AppContext
from dravo.services.security import operators
from dravo.services.sign_in import provider_metadata
from dravo.services.sign_in.settings import provider, rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sign_in.verification import seconds_of
from dravo.services.sources import sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.web.app import create_app
from tests.protocols.oidc.test_tokens import KEY, OTHER, raw, token
from tests.service_fixture import open_context

BASE, ISSUER = "https://dravo.fernhollow.example", "https://id.fernhollow.example"
PUBLIC = {"keys": [RSAKey.import_key(KEY.as_dict(private=False)).as_dict(private=False)]}
NEXT = RSAKey.generate_key(2048, {"kid": "k9"})
CONFIGURATION = {
    "issuer": ISSUER,
    "authorization": f"{ISSUER}/authorize",
    "token": f"{ISSUER}/token",
    "keys": f"{ISSUER}/keys",
    "userinfo": f"{ISSUER}/userinfo",
    "end_session": None,
    "algorithms": ["RS256"],
    "token_auth": ["client_secret_basic"],
    "scopes": ["openid"],
    "jwks": PUBLIC,
}


@dataclass
class Door:
    """A organization in which everyone of the staff signs in, and what the provider answers."""

    ctx: AppContext
    app: Any
    answers: dict[str, Any] = field(default_factory=dict)
    asked: list[str] = field(default_factory=list)

    def fetch(self, url: str, accept: str, **_: Any) -> Fetched:
        self.asked.append(url)
        status, document = self.answers[url.rpartition("/")[2]]
        return Fetched(status, json.dumps(document).encode(), "application/json")

    def begin(self) -> tuple[Any, dict[str, str]]:
        browser = self.app.test_client()
        asked = browser.get("/sso/staff/start", base_url=BASE).headers["Location"]
        return browser, {name: values[0] for name, values in parse_qs(urlsplit(asked).query).items()}

    def come(self, make: Callable[..., str] = token, userinfo: Any = None, **claims: Any) -> Any:
        """Begin, and come back with a code for which the provider gives a token."""
        browser, asked = self.begin()
        now = int(seconds_of(clock.now()))
        given = make(**{"nonce": asked["nonce"], "iat": now, "exp": now + 300, **claims})
        self.answers["token"] = 200, {"id_token": given, "access_token": "a"}
        self.answers["userinfo"] = userinfo or (200, {"sub": "u-17", "preferred_username": "una.kerrigan"})
        return browser.get(
            "/sso/staff/oidc/callback", query_string={"code": "c", "state": asked["state"]}, base_url=BASE
        )

    def rows(self, table: Any) -> list[Any]:
        with self.ctx.database.reading() as connection:
            return list(connection.execute(table.select()))

    def refused(self, answer: Any) -> str:
        assert answer.status_code == 403 and "You are not signed in" in answer.text
        trace = self.rows(t.sign_in_trace)[-1]
        assert trace.outcome == "refused" and trace.hint and trace.id in answer.text
        assert not self.rows(t.user_session) and not self.rows(t.user)
        return str(trace.reason)


@pytest.fixture
def door(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Door]:
    ctx = open_context(tmp_path)
    monkeypatch.setattr(provider, "fetch_configuration", lambda _issuer, _ca: dict(CONFIGURATION))
    sources.add(ctx, operators.SYSTEM, "staff", "Staff")
    settings = {"issuer": ISSUER, "client_id": "dravo"}
    sign_in_settings.change(
        ctx, operators.SYSTEM, "staff", {"protocol": "oidc", "settings": settings, "secret": "not-to-be-seen"}
    )
    rollout.set_status(ctx, operators.SYSTEM, "staff", "enabled", confirm="Staff")
    made = Door(ctx, create_app(ctx, BASE))
    monkeypatch.setattr(provider_metadata, "fetch", made.fetch)
    made.answers["keys"] = 200, PUBLIC
    yield made
    ctx.close()


def test_a_code_signs_in_once(door: Door) -> None:
    answer = door.come()
    assert (answer.status_code, answer.headers["Location"]) == (303, "/your-applications")
    assert [row.user_name for row in door.rows(t.user)] == ["una.kerrigan"]
    assert "not-to-be-seen" not in str(door.rows(t.sign_in_trace))
    assert door.asked == [f"{ISSUER}/token", f"{ISSUER}/userinfo"]


def by_hmac(**claims: Any) -> str:
    """Return a token signed by a secret that everyone knows: the provider's public key."""
    return token(OctKey.import_key(json.dumps(PUBLIC["keys"][0])), "HS256", **claims)


@pytest.mark.parametrize(
    ("make", "claims", "why"),
    [
        (token, {"iss": "https://elsewhere.example"}, "issuer"),
        (token, {"aud": "somebody-else"}, "audience"),
        (token, {"aud": ["dravo", "other"], "azp": "other"}, "audience"),
        (token, {"nonce": "of-another-request"}, "nonce"),
        (token, {"nonce": ...}, "nonce"),
        (token, {"exp": 1_777_885_200, "iat": 1_777_885_100}, "expired"),
        (token, {"at_hash": "x"}, "access token"),
        (token, {"sub": ...}, "no_subject"),
        (by_hmac, {}, "algorithm"),
        (lambda **claims: raw({"alg": "none"}, claims), {}, "algorithm"),
        (lambda **claims: token(OTHER, **claims), {}, "signature"),
        (lambda **_: "no token", {}, "malformed"),
    ],
)
def test_an_invalid_id_token_is_refused(
    door: Door, make: Callable[..., str], claims: dict[str, Any], why: str
) -> None:
    assert door.refused(door.come(make, **claims)) == why


def test_userinfo_of_another_user_is_refused_and_none_is_done_without(door: Door) -> None:
    assert (
        door.refused(door.come(userinfo=(200, {"sub": "u-99", "preferred_username": "edmund.sallow"})))
        == "userinfo"
    )
    assert door.come(userinfo=(503, {}), preferred_username="una.kerrigan").status_code == 303


def test_a_key_that_is_not_known_is_fetched_once_and_no_oftener(door: Door) -> None:
    def by_next(**claims: Any) -> str:
        return token(NEXT, kid="k9", **claims)

    assert door.refused(door.come(by_next)) == "key"
    assert door.asked.count(f"{ISSUER}/keys") == 1
    door.answers["keys"] = 200, {"keys": [NEXT.as_dict(private=False)]}
    assert door.come(by_next).status_code == 303
    assert door.come(by_next).status_code == 303
    assert door.asked.count(f"{ISSUER}/keys") == 2


def test_a_code_counts_only_where_it_was_begun_and_once(door: Door) -> None:
    callback = "/sso/staff/oidc/callback"
    browser, asked = door.begin()
    stranger = door.app.test_client()
    for query, why in (
        ({"code": "c"}, "state"),
        ({"code": "c", "state": "made-up"}, "state"),
        ({"code": "c", "state": asked["state"]}, "browser"),
    ):
        assert door.refused(stranger.get(callback, query_string=query, base_url=BASE)) == why
    # Anyone who tried that has not used it up.
    there = {"code": "c", "state": asked["state"], "iss": "https://elsewhere.example"}
    assert door.refused(browser.get(callback, query_string=there, base_url=BASE)) == "issuer"
    assert (
        door.refused(
            browser.get(callback, query_string={"code": "c", "state": asked["state"]}, base_url=BASE)
        )
        == "state"
    )
    assert not door.asked


@pytest.mark.parametrize(
    ("query", "answer", "why"),
    [
        ({"error": "access_denied", "error_description": "Not assigned."}, None, "status"),
        ({}, None, "status"),
        ({"code": "c"}, (401, {"error": "invalid_client"}), "code"),
        ({"code": "c"}, (400, {"error": "invalid_grant"}), "code"),
        ({"code": "c"}, (200, {"access_token": "a"}), "code"),
        ({"code": "c"}, (500, ["nothing"]), "code"),
    ],
)
def test_missing_provider_values_are_reported(
    door: Door, query: dict[str, str], answer: Any, why: str
) -> None:
    browser, asked = door.begin()
    door.answers["token"] = answer
    found = browser.get(
        "/sso/staff/oidc/callback", query_string={**query, "state": asked["state"]}, base_url=BASE
    )
    assert door.refused(found) == why
