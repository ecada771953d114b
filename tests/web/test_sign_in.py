"""Sign-in through a source, the whole way: a real provider, a browser's way by plain HTTP, and what is there
afterwards.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import httpx
import pytest

from tests.harness import Browser, Running, SignInProvider, StandIn, sign_in_provider

Fresh = Callable[[str], str]


@pytest.fixture(scope="module")
def provider(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SignInProvider]:
    with sign_in_provider(tmp_path_factory.mktemp("provider")) as started:
        yield started


@dataclass(frozen=True)
class Place:
    """A source by whose provider users sign in by SAML, for everyone, and somebody there."""

    key: str
    who: str
    start: str


@pytest.fixture
def place(running: Running, provider: SignInProvider, fresh: Fresh) -> Place:
    provider.faults()
    key, who = fresh("contractors"), fresh("idris.vance")
    provider.user(who, "Idris", "Vance", ["Tree surgeons", "Site"])
    with running.dravo as dravo:
        dravo.sources.add(key, f"Contractors {key}")
        dravo.sign_ins.change(key, protocol="saml", settings={"metadata_url": f"{provider.url}/metadata"})
        dravo.sign_ins.set_status(key, "enabled", confirm=f"Contractors {key}")
    return Place(key, who, f"{running.url}/sso/{key}/start")


def saml_or_oidc(running: Running, provider: SignInProvider, key: str, protocol: str) -> None:
    with running.dravo as dravo:
        dravo.sources.add(key, key)
        if protocol == "saml":
            dravo.sign_ins.change(key, protocol="saml", settings={"metadata_url": f"{provider.url}/metadata"})
        else:
            dravo.sign_ins.change(
                key,
                protocol="oidc",
                settings={"issuer": provider.url, "client_id": "dravo"},
                secret="not-much-of-a-secret",
            )


@pytest.mark.parametrize("protocol", ["saml", "oidc"])
def test_a_new_user_arrives_and_can_use_their_application_seconds_later(
    running: Running, provider: SignInProvider, app: StandIn, fresh: Fresh, protocol: str
) -> None:
    key, application, name = fresh("contractors"), fresh("glasshouse"), fresh("juno.marlow")
    provider.faults()
    provider.user(name, "Juno", "Marlow", [f"Engineers {key}"])
    running.application(application, app, roles=("reader", "engineer"))
    saml_or_oidc(running, provider, key, protocol)
    with running.dravo as dravo:
        # First a look by one user, before it touches anybody.
        sign_in_test = dravo.sign_ins.create_sign_in_test(key, name)
        assert sign_in_test["so_far"] == "not_opened"
        browser = Browser()
        browser.http.get(sign_in_test["link"])
        assert next(iter(dravo.sign_ins.sign_in_tests(key)))["so_far"] == "at_provider"
        shown = browser.sign_in(sign_in_test["link"], name)
        assert "Test sign-in succeeded" in shown.text
        looked = next(iter(dravo.sign_ins.traces(key, sign_in_test=sign_in_test["id"])))
        assert (looked["outcome"], looked["user"]) == ("observed", None)
        tried = next(iter(dravo.sign_ins.sign_in_tests(key)))
        assert (tried["so_far"], tried["trace"], tried["message"]) == (
            "observed",
            looked["id"],
            "Sign-in would succeed. Nothing was changed.",
        )
        assert not list(dravo.users.list(words=name))
        # Then for real, which makes the group known, so that it can be mapped.
        assert "Juno Marlow" not in Browser().sign_in(f"{running.url}/sso/{key}/start", name).text
        dravo.sign_ins.set_status(key, "enabled")
        browser = Browser()
        page = browser.sign_in(f"{running.url}/sso/{key}/start", name)
        assert str(page.url) == f"{running.url}/your-applications", page.text
        dravo.assignments.add(application, "engineer", source=key, group=f"Engineers {key}")
        running.settled(application)
        account = app.accounts()[name]
        assert account["active"]
        mine = browser.http.get(f"{running.url}/api/v1/me/applications").json()
        assert (mine["name"], [each["roles"] for each in mine["applications"]]) == (
            "Juno Marlow",
            [["Engineer"]],
        )
        # The group changes at the provider, and with the next sign-in the role here.
        provider.user(name, "Juno", "Marlow", ["Site"])
        Browser().sign_in(f"{running.url}/sso/{key}/start", name)
        assert browser.http.get(f"{running.url}/api/v1/me/applications").json()["applications"] == []
        running.settled(application)
        assert not app.accounts()[name]["active"]
        trace = dravo.sign_ins.trace(key, next(iter(dravo.sign_ins.traces(key)))["id"])
        assert [(each["role"], each["what"]) for each in trace["access"]] == [("Engineer", "lost")]
        # Anyone who is ended is out at once.
        dravo.sign_ins.end_sessions(name)
        assert browser.http.get(f"{running.url}/api/v1/me/applications").status_code == 401


MISTAKES: list[tuple[str, dict[str, Any], str | None, str]] = [
    ("another certificate", {"other_certificate": True}, "certificate", "certificate"),
    ("clocks apart", {"clock_skew": 900}, "early", "clock"),
    ("clocks apart the other way", {"clock_skew": -900}, "expired", "clock"),
    ("wrong_audience", {"wrong_audience": True}, "audience", "entity ID"),
    ("wrong_address", {"wrong_address": True}, "destination", "destination"),
    ("not assigned at the provider", {"not_assigned": True}, "status", "assigned"),
    ("a name that changes each time", {"transient": True}, "no_subject", "persistent"),
    ("ids instead of names", {"ids_for_names": True}, None, "looks like an ID"),
    ("no_groups", {"no_groups": True}, None, "No claim contains groups (expected: "),
    ("names with a namespace", {"namespaced": True}, None, "' is read as '"),
]


@pytest.mark.parametrize(
    ("faults", "reason", "told"), [each[1:] for each in MISTAKES], ids=[each[0] for each in MISTAKES]
)
def test_the_mistakes_that_users_make_are_found_and_named(
    running: Running,
    provider: SignInProvider,
    place: Place,
    faults: dict[str, Any],
    reason: str | None,
    told: str,
) -> None:
    provider.faults(**faults)
    with running.dravo as dravo:
        sign_in_test = dravo.sign_ins.create_sign_in_test(place.key, place.who)
        Browser().sign_in(sign_in_test["link"], place.who)
        trace = dravo.sign_ins.trace(
            place.key, next(iter(dravo.sign_ins.traces(place.key, sign_in_test=sign_in_test["id"])))["id"]
        )
    assert trace["reason"] == reason
    assert trace["outcome"] == ("observed" if reason is None else "refused")
    assert any(told in f"{each['message']} {each['hint']}" for each in trace["steps"]), trace["steps"]
    assert all(
        each["hint"] for each in trace["steps"] if each["outcome"] == "failed" or each["outcome"] == "failed"
    )


def test_a_sign_in_counts_once_and_in_the_browser_that_began_it(
    running: Running, provider: SignInProvider, place: Place
) -> None:
    start = place.start
    browser, other = Browser(), Browser()
    chooser = browser.http.get(start)
    answer = browser.post(chooser, who=place.who)
    # The page with the response, taken into another browser: that one never began.
    assert "another browser" in _why(running, place, other.post(answer))
    chooser = browser.http.get(start)
    answer = browser.post(chooser, who=place.who)
    assert browser.post(answer).status_code == 200
    assert "The response belongs to another request." in _why(running, place, browser.post(answer))


def _why(running: Running, place: Place, shown: httpx.Response) -> str:
    assert shown.status_code == 403
    with running.dravo as dravo:
        line = next(iter(dravo.sign_ins.traces(place.key)))
    assert line["id"] in shown.text
    return line["message"]


def test_no_sign_in_redirects_to_another_site(running: Running, place: Place) -> None:
    for back in (
        "//elsewhere.example/",
        "https://elsewhere.example/",
        "/\\elsewhere.example",
        "javascript:alert(1)",
        "/\t/elsewhere.example",
    ):
        browser = Browser()
        page = browser.http.get(place.start, params={"back": back})
        answer = browser.post(page, who=place.who)
        assert str(browser.post(answer).url) == f"{running.url}/your-applications"
        browser.http.close()


def test_a_test_sign_in_serves_only_its_user(
    running: Running, provider: SignInProvider, place: Place
) -> None:
    provider.user("milo.thatch", "Milo", "Thatch", [])
    with running.dravo as dravo:
        sign_in_test = dravo.sign_ins.create_sign_in_test(
            place.key,
            "milo.thatch",
            mode="apply",
        )
        assert "This link is for another user." in Browser().sign_in(sign_in_test["link"], place.who).text
        dravo.sign_ins.set_status(place.key, "disabled")
        assert Browser().http.get(place.start).status_code == 403
        assert str(Browser().sign_in(sign_in_test["link"], "milo.thatch").url).endswith("/your-applications")


def test_a_new_key_of_the_provider_is_fetched_and_a_new_certificate_waits(
    running: Running, provider: SignInProvider, fresh: Fresh
) -> None:
    provider.faults()
    key, who = fresh("rolling"), fresh("idris.vance")
    provider.user(who, "Idris", "Vance", [])
    saml_or_oidc(running, provider, key, "oidc")
    with running.dravo as dravo:
        dravo.sign_ins.set_status(key, "enabled", confirm=key)
        provider.new_keys()
        assert str(Browser().sign_in(f"{running.url}/sso/{key}/start", who).url).endswith(
            "/your-applications"
        )
        trace = dravo.sign_ins.trace(key, next(iter(dravo.sign_ins.traces(key)))["id"])
        assert any(each["name"] == "Keys" for each in trace["steps"])


def test_our_metadata_carries_both_keys_while_they_change(running: Running, place: Place) -> None:
    address = f"{running.url}/sso/{place.key}/saml/metadata"
    with running.dravo as dravo:
        first = dravo.sign_ins.get(place.key)["certificates"][0]["body"]
        dravo.sign_ins.change_keys(place.key, "next")
        known = {each["use"]: each["body"] for each in dravo.sign_ins.get(place.key)["certificates"]}
        both = httpx.get(address, trust_env=False).text
        assert known["active"] == first
        assert known["next"] in both
        assert first in both
        dravo.sign_ins.change_keys(place.key, "use")
        after = {each["use"]: each["body"] for each in dravo.sign_ins.get(place.key)["certificates"]}
        assert (after["active"], after["previous"]) == (known["next"], first)
    assert str(Browser().sign_in(place.start, place.who).url).endswith("/your-applications")


def test_whatever_is_posted_is_refused_in_plain_words(running: Running, place: Place) -> None:
    for content in (
        {},
        {"SAMLResponse": "###"},
        {"SAMLResponse": "PGE+"},
        {"SAMLResponse": "x" * 2_000_000},
        {"SAMLResponse": "", "RelayState": "no"},
    ):
        answer = httpx.post(f"{running.url}/sso/{place.key}/saml/acs", data=content, trust_env=False)
        assert answer.status_code == 403
        assert "You are not signed in" in answer.text
    for query in ("", "?state=none&code=none", "?error=access_denied"):
        assert (
            httpx.get(f"{running.url}/sso/{place.key}/oidc/callback{query}", trust_env=False).status_code
            == 403
        )
    assert httpx.get(f"{running.url}/sso/nobody/start", trust_env=False).status_code == 404


@pytest.mark.parametrize("protocol", ["saml", "oidc"])
def test_signing_out_is_also_signing_out_at_the_provider(
    running: Running, provider: SignInProvider, fresh: Fresh, protocol: str
) -> None:
    key, who = fresh("contractors"), fresh("idris.vance")
    provider.faults()
    provider.user(who, "Idris", "Vance", [])
    saml_or_oidc(running, provider, key, protocol)
    with running.dravo as dravo:
        dravo.sign_ins.set_status(key, "enabled", confirm=key)
    browser = Browser()
    browser.sign_in(f"{running.url}/sso/{key}/start", who)
    mine = browser.http.get(f"{running.url}/api/v1/me/applications").json()
    # Nobody else's page signs them out.
    assert browser.http.delete(f"{running.url}/api/v1/me/session").status_code == 403
    onward = browser.http.delete(
        f"{running.url}/api/v1/me/session", headers={"X-Dravo-CSRF": mine["csrf"]}
    ).json()["go_to"]
    assert onward.startswith(f"{provider.url}/sign-out?")
    before = provider.signed_out()
    assert "You are signed out of Dravo and of your identity provider." in browser.http.get(onward).text
    assert provider.signed_out() == before + 1
    assert browser.http.get(f"{running.url}/api/v1/me/applications").status_code == 401
    # Anyone who only says so has nobody signed out.
    assert httpx.get(
        f"{running.url}/sso/{key}/saml/sign-out?SAMLRequest=PGE%2B", trust_env=False
    ).status_code in (403, 404)
