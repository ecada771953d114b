"""Operators who come in by a source, and users in codes, the whole way: the service, a provider and a mail
server on loopback.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import httpx
import pytest

from dravo.client.errors import NotAllowed
from tests.harness import PASSWORD, Browser, Letters, Running, SignInProvider, eventually, sign_in_provider
from tests.web.test_sign_in import saml_or_oidc

Fresh = Callable[[str], str]


@pytest.fixture(scope="module")
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path_factory.mktemp("provider")) as started:
        yield started


@dataclass
class Desk:
    """A browser in which an operator is, or is not, signed in."""

    running: Running
    browser: Browser
    csrf: str = ""

    def enter(self, name: str = "edmund.sallow", password: str = PASSWORD) -> httpx.Response:
        answer = self.browser.http.post(
            f"{self.running.url}/api/v1/session", json={"name": name, "password": password}
        )
        self.csrf = answer.json().get("csrf", "")
        return answer

    def whose(self) -> str | None:
        answer = self.browser.http.get(f"{self.running.url}/api/v1/session")
        if answer.status_code != 200:
            return None
        self.csrf = answer.json()["csrf"]
        return str(answer.json()["name"])

    def call(self, method: str, path: str, **body: object) -> httpx.Response:
        headers = {"X-Dravo-CSRF": self.csrf}
        return self.browser.http.request(
            method, f"{self.running.url}/api/v1{path}", json=body or None, headers=headers
        )


@pytest.fixture
def desk(running: Running) -> Callable[[], Desk]:
    return lambda: Desk(running, Browser())


@pytest.mark.parametrize("protocol", ["saml", "oidc"])
def test_an_operator_links_a_source_and_signs_in_through_it(
    running: Running, provider: SignInProvider, fresh: Fresh, desk: Callable[[], Desk], protocol: str
) -> None:
    key, who, name = fresh("staff-id"), fresh("honor.blackthorn"), fresh("honor")
    provider.faults()
    provider.user(who, "Honor", "Blackthorn", ["Directors"])
    saml_or_oidc(running, provider, key, protocol)
    with running.dravo as dravo:
        dravo.sign_ins.change(key, serves="operators")
        operator = dravo.operators.add(name, "administrator", PASSWORD)
        start = f"{running.url}/sso/{key}/start"
        honor, stranger = desk(), desk()
        # Without a session nothing can be linked, whatever page sends one there.
        assert "No operator is linked to your account." in stranger.browser.http.get(f"{start}?operator").text
        assert honor.enter(name).status_code == 200
        # And not without what only a page of ours can read, wherever her browser is sent from.
        offered = {
            each["key"]: each["start"] for each in honor.call("GET", "/session/links").json()["offered"]
        }
        assert (
            "No operator is linked to your account."
            in honor.browser.http.get(f"{start}?operator={'0' * 32}").text
        )
        page = honor.browser.sign_in(f"{running.url}{offered[key]}", who)
        assert str(page.url) == f"{running.url}/settings", page.text
        linked = honor.call("GET", "/session/links").json()
        assert [each["source"]["key"] for each in linked["items"]] == [key]
        # Not enabled yet: it is their own way in already, and nobody's else.
        assert "This sign-in is not enabled yet." in desk().browser.http.get(start).text
        assert running.dravo.sign_ins.get(key)["status"] == "disabled"
        super_admin = desk()
        super_admin.enter()
        assert super_admin.call("POST", "/recovery-codes", code="").status_code == 201
        assert (
            super_admin.call(
                "POST", f"/sources/{key}/sign-in/status", status="enabled", confirm=key
            ).status_code
            == 200
        )
        # Now the source alone lets them in, as what they are, and as nobody's guest.
        back = desk()
        assert str(back.browser.sign_in(start, who).url) == f"{running.url}/"
        assert (
            back.whose() == name
            and back.browser.http.get(f"{running.url}/api/v1/me/applications").status_code == 401
        )
        assert back.call("GET", "/operators").status_code == 403
        # Somebody of the same name there is nobody here.
        other = fresh("other")
        provider.user(other, "Honor", "Blackthorn", ["Directors"], email=f"{who}@rootworks.example")
        shown = desk().browser.sign_in(start, other)
        assert shown.status_code == 403 and "No operator is linked to your account." in shown.text
        assert not list(dravo.users.list(words="Blackthorn"))
        # By the source alone: the password does not count, a recovery code does.
        codes = back.call("POST", "/recovery-codes", code="").json()["recovery_codes"]
        assert back.call("PUT", "/session/links", only_by_source=True).status_code == 200
        assert desk().enter(name).status_code == 401
        assert desk().enter(name, codes[0]).status_code == 200
        assert {each["name"]: each["only_by_source"] for each in dravo.operators.list()}[name]
        # A new password ends what was before it.
        fresh_password = dravo.operators.new_password(operator["id"])["password"]
        assert back.whose() is None
        assert desk().enter(name, str(fresh_password)).status_code == 200
        # Out of force, anyone who came by it is out.
        again = desk()
        again.browser.sign_in(start, who)
        assert again.whose() == name
        dravo.sign_ins.set_status(key, "disabled")
        assert again.whose() is None


def test_a_user_who_is_also_an_operator_signs_in_as_both(
    running: Running, provider: SignInProvider, fresh: Fresh, desk: Callable[[], Desk]
) -> None:
    key, who, name = fresh("staff-id"), fresh("wren.halliday"), fresh("wren")
    provider.faults()
    provider.user(who, "Wren", "Halliday", ["Guides"])
    saml_or_oidc(running, provider, key, "saml")
    with running.dravo as dravo:
        dravo.operators.add(name, "help_desk", PASSWORD)
        dravo.sign_ins.change(key, serves="both")
        wren, super_admin = desk(), desk()
        wren.enter(name)
        offered = {
            each["key"]: each["start"] for each in wren.call("GET", "/session/links").json()["offered"]
        }
        wren.browser.sign_in(f"{running.url}{offered[key]}", who)
        # A super administrator of their own: recovery codes of the one whom all tests share would be seen by
        # other tests.
        dravo.operators.add(f"{name}.admin", "super_administrator", PASSWORD)
        super_admin.enter(f"{name}.admin")
        super_admin.call("POST", "/recovery-codes", code="")
        super_admin.call("POST", f"/sources/{key}/sign-in/status", status="enabled", confirm=key)
        back = desk()
        back.browser.sign_in(f"{running.url}/sso/{key}/start", who)
        assert back.whose() == name
        assert (
            back.browser.http.get(f"{running.url}/api/v1/me/applications").json()["name"] == "Wren Halliday"
        )
        # Kept out as a user, they are an operator all the same; the trace tells both.
        dravo.sign_ins.change(key, policy={"users": 'title eq "Guide"'})
        back = desk()
        back.browser.sign_in(f"{running.url}/sso/{key}/start", who)
        assert (
            back.whose() == name
            and back.browser.http.get(f"{running.url}/api/v1/me/applications").status_code == 401
        )
        trace = dravo.sign_ins.trace(key, next(iter(dravo.sign_ins.traces(key)))["id"])
        assert f"The operator '{name}' is signed in." in trace["message"]
        assert any(
            "The user is outside the scope of the source: " in each["message"] for each in trace["steps"]
        )


def test_where_every_operator_has_a_second_factor_nothing_else_opens_before_it(
    running: Running, fresh: Fresh, desk: Callable[[], Desk]
) -> None:
    name = fresh("dilys")
    with running.dravo as dravo:
        dravo.operators.add(name, "auditor", PASSWORD)
        running.change_setting("second_factor", True)
        try:
            dilys = desk()
            assert dilys.enter(name).json()["needs_second_factor"]
            answer = dilys.call("GET", "/users")
            assert (answer.status_code, answer.json()["error"]["code"]) == (403, "second_factor_missing")
            begun = dilys.call("POST", "/second-factor").json()
            assert begun["picture"].startswith("data:image/svg+xml")
            # A token is no way around it.
            with pytest.raises(NotAllowed, match="second factor"):
                dravo.users.list(words="nobody").page()
        finally:
            running.change_setting("second_factor", False)
        assert dilys.call("GET", "/users").status_code == 200


def test_known_and_new_users_sign_in_with_an_emailed_code(
    running: Running, letters: Letters, fresh: Fresh
) -> None:
    key, domain = fresh("volunteers"), f"{fresh('volunteers')}.example"
    known, new = f"gale.harrow@{domain}", f"maribel.quay@{domain}"
    provider = running.provider(key)
    provider.user(f"v.gale.{domain}", displayName="Gale Harrow", emails=[{"value": known, "type": "work"}])
    with running.dravo as dravo:
        dravo.mail.change(
            host="127.0.0.1", port=letters.smtp_port, security="none", sender="dravo@fernhollow.example"
        )
        policy = {"domains": [domain], "makes": True}
        dravo.sign_ins.change(
            key, protocol="email_code", settings={"new_user_group": "Asked to help"}, policy=policy
        )
        dravo.sign_ins.set_status(key, "enabled", confirm=f"{key.capitalize()} directory")
        http = httpx.Client(base_url=running.url, trust_env=False, timeout=30)
        assert http.get("/api/v1/sign-in", params={"email": known}).json()["by_code"]
        asked = http.post("/api/v1/sign-in/code", json={"email": known}).json()
        body = {"state": asked["state"], "code": letters.code(known)}
        # Another browser has no part in it.
        assert (
            httpx.post(f"{running.url}/api/v1/sign-in/code/verify", json=body, trust_env=False).status_code
            == 404
        )
        assert http.post("/api/v1/sign-in/code/verify", json=body).json()["outcome"] == "signed_in"
        assert http.get("/api/v1/me/applications").json()["name"] == "Gale Harrow"
        asked = http.post("/api/v1/sign-in/code", json={"email": new}).json()
        body = {"state": asked["state"], "code": letters.code(new)}
        answer = http.post("/api/v1/sign-in/code/verify", json=body)
        assert (answer.status_code, answer.json()["error"]["code"]) == (422, "names_needed")
        answer = http.post(
            "/api/v1/sign-in/code/verify", json={**body, "given_name": "Maribel", "family_name": "Quay"}
        )
        assert answer.json()["outcome"] == "signed_in", answer.text
        group = next(
            each for each in dravo.users.get(new)["groups"] if each["group"]["name"] == "Asked to help"
        )
        assert group["source"]["key"] == key
        # Sign-out knows no other place; and anyone who runs this sees no code anywhere.
        csrf = http.get("/api/v1/me/applications").json()["csrf"]
        assert http.delete("/api/v1/me/session", headers={"X-Dravo-CSRF": csrf}).json() == {"go_to": ""}
        code = letters.code(new)
        # Emails of other tests may wait for a server that is gone.
        eventually(
            lambda: [*dravo.notifications.messages(words=new, status="waiting")], lambda some: not some
        )
        told = str(dravo.sign_ins.get(key)) + "".join(
            str(dravo.sign_ins.trace(key, each["id"])) for each in dravo.sign_ins.traces(key)
        )
        assert code not in told and code.replace(" ", "") not in told
    assert code not in (running.folder / "service.log").read_text()
