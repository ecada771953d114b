"""What attackers post to the door of the bind: each is refused in plain words, with its reason in the trace,
and nobody is in.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from flask import Request
from lxml import etree

from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.security import operators
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.settings import rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sources import sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.web.app import create_app
from tests.saml_provider import ACS, ISSUER, NOW, Shape, key_pair, signed, signed_by_xmlsec, unsigned
from tests.service_fixture import open_context

BASE = "https://dravo.fernhollow.example"
GOOD = Shape(
    audience=f"{BASE}/sso/staff/saml/metadata",
    request=None,
    attributes={"username": ["una.kerrigan"], "email": ["una.kerrigan@fernhollow.example"]},
)


@dataclass
class Door:
    """The web application of an organization in which everyone of the staff signs in, also unasked."""

    ctx: AppContext
    app: Any

    def post(self, content: bytes, **more: str) -> Any:
        form = {"SAMLResponse": base64.b64encode(content).decode(), **more}
        return self.app.test_client().post("/sso/staff/saml/acs", data=form)

    def rows(self, table: Any) -> list[Any]:
        with self.ctx.database.reading() as connection:
            return list(connection.execute(table.select()))

    def reason(self) -> str:
        return str(self.rows(t.sign_in_trace)[-1].reason)


@pytest.fixture
def door(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Door]:
    monkeypatch.setattr(clock, "now", lambda: Instant(NOW.strftime("%Y-%m-%dT%H:%M:%S.000000Z")))
    ctx = open_context(tmp_path)
    sources.add(ctx, operators.SYSTEM, "staff", "Staff")
    fields = {"entity_id": ISSUER, "sign_in": f"{ISSUER}/in", "certificates": key_pair("provider")[1].body}
    given = {"protocol": "saml", "fields": fields, "settings": {"allow_idp_initiated": True}}
    sign_in_settings.change(ctx, operators.SYSTEM, "staff", given)
    rollout.set_status(ctx, operators.SYSTEM, "staff", "enabled", confirm="Staff")
    app = create_app(ctx, BASE)
    app.config.update(SSO_LIMITER=RateLimiter(1_000, 60))
    yield Door(ctx, app)
    ctx.close()


@pytest.mark.parametrize("make", [signed, lambda shape: signed(shape, what="response"), signed_by_xmlsec])
def test_a_valid_response_signs_in_once(door: Door, make: Callable[[Shape], bytes]) -> None:
    content = make(GOOD)
    answer = door.post(content, RelayState="https://elsewhere.example/")
    assert (answer.status_code, answer.headers["Location"]) == (303, "/your-applications")
    cookie = next(
        each for each in answer.headers.getlist("Set-Cookie") if each.startswith("__Host-dravo_user_session=")
    )
    assert (
        "Secure" in cookie
        and "Path=/" in cookie
        and "Domain" not in cookie
        and "HttpOnly" in cookie
        and "SameSite=Lax" in cookie
    )
    assert len(door.rows(t.user_session)) == 1
    assert door.post(content).status_code == 403
    assert door.reason() == "replay"
    assert len(door.rows(t.user_session)) == 1


def altered() -> bytes:
    return signed(GOOD).replace(b"una.kerrigan", b"edmund.sallow")


def beside() -> bytes:
    root = etree.fromstring(signed(GOOD))
    root.append(
        etree.fromstring(etree.tostring(unsigned(replace(GOOD, subject="edmund.sallow", id="_other")))).find(
            "{*}Assertion"
        )
    )
    return bytes(etree.tostring(root))


def emptied(tag: str) -> bytes:
    return re.sub(
        rb"(<(?:\w+:)?%s)>[^<]*</(?:\w+:)?%s>" % (tag.encode(), tag.encode()), rb"\1/>", signed(GOOD)
    )


ATTACKS = {
    "too_long": lambda: signed(replace(GOOD, ends=3_600 + 120)),
    "no signature value": lambda: emptied("SignatureValue"),
    "no digest": lambda: emptied("DigestValue"),
    "unsigned": lambda: bytes(etree.tostring(unsigned(GOOD))),
    "certificate": lambda: signed(GOOD, key=key_pair("stranger")[0]),
    "digest or signature": altered,
    "assertions": beside,
    "audience": lambda: signed(replace(GOOD, audience="https://elsewhere.example")),
    "recipient": lambda: signed(replace(GOOD, recipient=f"{ACS}/other")),
    "destination": lambda: signed(replace(GOOD, destination=f"{ACS}/other"), what="response"),
    "issuer": lambda: signed(replace(GOOD, issuer="https://elsewhere.example")),
    "expired": lambda: signed(replace(GOOD, ends=-600)),
    "early": lambda: signed(replace(GOOD, begins=600, ends=900)),
    "in_response_to": lambda: signed(replace(GOOD, request="_somebody-elses")),
    "bomb": lambda: b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>',
    "deep": lambda: b"<a>" * 5_000 + b"</a>" * 5_000,
    "nothing": lambda: b"",
    "not XML": lambda: b"\x00\xff<",
}


@pytest.mark.parametrize("name", ATTACKS)
def test_an_invalid_response_is_refused_with_its_reason_in_the_trace(door: Door, name: str) -> None:
    answer = door.post(ATTACKS[name]())
    assert answer.status_code == 403
    assert "You are not signed in" in answer.text
    trace = door.rows(t.sign_in_trace)[-1]
    assert (trace.outcome, trace.id in answer.text, bool(trace.hint)) == ("refused", True, True)
    if name in (
        "unsigned",
        "certificate",
        "assertions",
        "audience",
        "recipient",
        "destination",
        "issuer",
        "expired",
        "early",
        "in_response_to",
        "too_long",
    ):
        assert trace.reason == name
    assert not door.rows(t.user_session)
    assert not door.rows(t.user)
    assert "edmund.sallow" not in str(trace.received)


def test_large_requests_are_limited_without_affecting_others(door: Door) -> None:
    door.app.config.update(SSO_LIMITER=RateLimiter(3, 60))
    browser = door.app.test_client()
    begun = browser.get("/sso/staff/start", base_url=BASE)
    state = parse_qs(urlsplit(begun.headers["Location"]).query)["RelayState"][0]
    for _ in range(3):
        assert door.post(b"<a/>").status_code == 403
    assert door.post(signed(GOOD)).status_code == 429
    assert browser.get("/sso/staff/start").status_code == 303
    asked = door.rows(t.sign_in_request)[0].request_id
    form = {
        "SAMLResponse": base64.b64encode(signed(replace(GOOD, request=asked))).decode(),
        "RelayState": state,
    }
    answer = browser.post("/sso/staff/saml/acs", data=form, base_url=BASE)
    assert (answer.status_code, answer.headers["Location"]) == (303, "/your-applications")


def test_a_known_state_without_its_browser_is_no_way_around_the_limit(door: Door) -> None:
    door.app.config.update(SSO_LIMITER=RateLimiter(3, 60))
    begun = door.app.test_client().get("/sso/staff/start", base_url=BASE)
    state = parse_qs(urlsplit(begun.headers["Location"]).query)["RelayState"][0]
    assert [door.post(b"<a/>", RelayState=state).status_code for _ in range(5)] == [403, 403, 403, 429, 429]


def test_beginning_is_limited_by_address_before_anything_is_done(door: Door) -> None:
    door.app.config.update(SSO_RATE=RateLimiter(5, 60))
    http = door.app.test_client()
    assert [http.get("/sso/staff/start", base_url=BASE).status_code for _ in range(7)] == [303] * 5 + [
        429
    ] * 2
    assert len(door.rows(t.sign_in_request)) == 5
    # All addresses of one IPv6 network are one place; another network is another.
    at = {"REMOTE_ADDR": "2001:db8:1:2::1"}
    assert [http.get("/sso/staff/start", base_url=BASE, environ_base=at).status_code for _ in range(5)] == [
        303
    ] * 5
    assert (
        http.get(
            "/sso/staff/start", base_url=BASE, environ_base={"REMOTE_ADDR": "2001:db8:1:2:ffff::9"}
        ).status_code
        == 429
    )
    assert (
        http.get(
            "/sso/staff/start", base_url=BASE, environ_base={"REMOTE_ADDR": "2001:db8:1:3::1"}
        ).status_code
        == 303
    )


@pytest.mark.parametrize("body", [b"a=&" * 1_000_000, b"a=&" * 1_000, b"SAMLResponse=" + b"x" * 4_000_000])
def test_a_form_that_is_too_large_is_not_read_and_leaves_a_trace(
    door: Door, body: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Request, "form", property(lambda _: pytest.fail("the form was read")))
    answer = door.app.test_client().post(
        "/sso/staff/saml/acs", data=body, content_type="application/x-www-form-urlencoded", base_url=BASE
    )
    assert answer.status_code == 403
    assert (door.reason(), len(door.rows(t.sign_in_trace))) == ("malformed", 1)


@pytest.mark.parametrize("hours", [1, 24])
def test_a_response_is_accepted_once_also_on_the_next_day(
    door: Door, hours: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    sign_in_settings.change(door.ctx, operators.SYSTEM, "staff", {"settings": {"max_validity_hours": hours}})
    content = signed(replace(GOOD, ends=3_600 * hours))
    assert door.post(content).status_code == 303
    for after in (1, 3_600 * hours - 30, 3_600 * hours + 30, 90_000):
        now = Instant((NOW + timedelta(seconds=after)).strftime("%Y-%m-%dT%H:%M:%S.000000Z"))
        monkeypatch.setattr(clock, "now", lambda now=now: now)
        # What is forgotten by then is forgotten.
        sign_in_traces.sweep(door.ctx, now, 14)
        assert door.post(content).status_code == 403
        assert door.reason() == ("replay" if after <= 3_600 * hours + 30 else "expired")


def test_a_form_with_two_responses_or_none_is_refused_with_a_trace(door: Door) -> None:
    text = base64.b64encode(signed(GOOD)).decode()
    for number, posted in enumerate(([text, text], [], ["x" * 1_100_000], ["%%%"]), 1):
        answer = door.app.test_client().post(
            "/sso/staff/saml/acs", data={"SAMLResponse": posted}, base_url=BASE
        )
        assert answer.status_code == 403
        assert (door.reason(), len(door.rows(t.sign_in_trace))) == ("malformed", number)
    assert not door.rows(t.user_session)


def test_a_response_of_another_protocol_leaves_a_trace(door: Door) -> None:
    assert (
        door.app.test_client().get("/sso/staff/oidc/callback?code=x&state=y", base_url=BASE).status_code
        == 403
    )
    assert door.reason() == "protocol"
