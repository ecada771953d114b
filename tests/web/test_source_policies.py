"""The policy of inbound SCIM by plain HTTP: a provider sends, operators set the policy by the API."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import httpx
import pytest

from tests.harness import Provider, Running, eventually

ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


class Desk:
    """An operator and two providers; the second one is new."""

    def __init__(self, running: Running, known: str, new: str) -> None:
        self.running, self.known, self.new = running, known, new
        self.domain = f"{known}.example"
        self.first, self.second = running.provider(known), running.provider(new)
        self.http = httpx.Client(
            base_url=f"{running.url}/api/v1", headers={"Authorization": f"Bearer {running.api_token}"}
        )
        for key in (known, new):
            self.call("PATCH", f"/sources/{key}", {"domains": [self.domain]})

    def call(self, method: str, path: str, body: Any = None) -> Any:
        answer = self.http.request(method, path, json=body)
        assert answer.status_code < 300, answer.text
        return answer.json()

    def policy(self, **policy: Any) -> Any:
        return self.call("PUT", f"/sources/{self.new}/policy/inbound_scim", policy)

    def status(self, status: str) -> None:
        self.call("PUT", f"/sources/{self.new}/policy/inbound_scim/status", {"status": status})

    def detail(self) -> Any:
        return self.call("GET", f"/sources/{self.new}/policy/inbound_scim")

    def users(self, words: str) -> list[dict[str, Any]]:
        return list(self.call("GET", f"/users?q={words}&status=active")["items"])

    def conflicts(self) -> list[str]:
        return [each["name"] for each in self.call("GET", f"/sources/{self.new}/conflicts")["items"]]


@pytest.fixture
def desk(running: Running, fresh: Callable[[str], str]) -> Desk:
    return Desk(running, fresh("staff"), fresh("partners"))


def mail(desk: Desk, name: str) -> dict[str, Any]:
    return {"emails": [{"value": f"{name}@{desk.domain}", "type": "work"}]}


def sent(provider: Provider, name: str, **attributes: Any) -> str:
    """Send a new user, which reads back as it was sent, and return the ID."""
    record = provider.user(name, **attributes)
    read = provider.http.get(f"/Users/{record}").json()
    assert (read["id"], read["userName"]) == (record, name)
    found = provider.http.get("/Users", params={"filter": f'userName eq "{name}"'}).json()
    assert found["totalResults"] == 1
    return record


def test_a_pilot_creates_its_users_only_and_enabling_brings_the_rest(
    desk: Desk, fresh: Callable[[str], str]
) -> None:
    ida, una, ove, ole = (fresh(name) for name in ("ida", "una", "ove", "ole"))
    desk.first.user(una, **mail(desk, una))
    desk.first.user(ole, **mail(desk, ole))
    desk.policy(pilot="Pilot", users='title ne "Cook"', match="email")
    desk.status("pilot")
    records = {name: sent(desk.second, name, title="Guide") for name in (ida, ove)}
    records["cook"] = sent(desk.second, fresh("cook"), title="Cook")
    # One user is known with the same email, the other one has it in another source's domain only.
    records[una] = sent(desk.second, f"{una}.b", title="Guide", **mail(desk, una))
    assert not any(desk.users(name) for name in (ida, ove))
    group = desk.second.group("Pilot", [records[ida], records["cook"]])
    assert [each["user_name"] for each in desk.users(ida)] == [ida] and not desk.users(ove)
    assert desk.detail()["left_out"] == {"not_in_pilot": 2, "out_of_scope": 1}
    out = desk.call("GET", f"/sources/{desk.new}/left-out?reason=out_of_scope")
    assert [(each["id"], each["left_out"]) for each in out["items"]] == [(records["cook"], "out_of_scope")]
    pages = [desk.call("GET", f"/sources/{desk.new}/left-out?count=2")]
    pages.append(desk.call("GET", f"/sources/{desk.new}/left-out?count=2&after={pages[0]['next']}"))
    assert len({each["id"] for page in pages for each in page["items"]}) == pages[0]["total"] == 3
    members = desk.second.http.get(f"/Groups/{group}").json()["members"]
    assert {each["value"] for each in members} == {records[ida], records["cook"]}

    desk.status("enabled")
    assert eventually(lambda: desk.users(ove))
    eventually(lambda: desk.detail()["pending"] == 0)
    assert desk.detail()["left_out"] == {"out_of_scope": 1}
    # The known user is linked, and never a duplicate.
    (linked,) = desk.users(una)
    shown = desk.call("GET", f"/users/{linked['id']}")
    assert {each["source"]["key"] for each in shown["records"]} == {desk.known, desk.new}
    # Without a rule that decides it, a possible match is a conflict.
    desk.policy(match="ask")
    sent(desk.second, f"{ole}.b", title="Guide", displayName=f"Ole {ole}", **mail(desk, ole))
    assert desk.conflicts() == [f"Ole {ole}"]


@pytest.mark.parametrize("by", ["email", "user_name", "lookalike", "employee_number", "manager", "group"])
def test_no_record_takes_over_a_user_by(desk: Desk, fresh: Callable[[str], str], by: str) -> None:
    rosa, application = fresh("rosa"), fresh("records")
    desk.running.application(application)
    more = {**mail(desk, rosa), ENTERPRISE: {"employeeNumber": "17"}}
    record = desk.first.user(rosa, displayName=f"Rosa {rosa}", **more)
    group = desk.first.group("Curators", [record])
    with desk.running.dravo as dravo:
        dravo.assignments.add(application, "curator", group=group)
        (victim,) = dravo.users.list(words=rosa)
    # The policy is as generous as it can be, and its mapping sets what identifies others.
    desk.policy(
        match="email" if by == "email" else "user_name",
        attributes=[{"attribute": "userName", "expression": "nickName else userName"}],
    )
    foreign = [{"value": f"{rosa}@rootworks.example", "type": "work"}]
    given: dict[str, dict[str, Any]] = {
        "email": {"nickName": f"{rosa}.b", "emails": [{"value": f"{rosa}@sub.{desk.domain}"}]},
        "user_name": {"nickName": rosa, "emails": foreign},
        "lookalike": {"nickName": rosa.replace("o", "о")},
        "employee_number": {ENTERPRISE: {"employeeNumber": "17"}},
        "manager": {ENTERPRISE: {"manager": {"value": victim["id"]}}},
        "group": {},
    }
    attacker = fresh("mallory")
    own = sent(desk.second, attacker, displayName=f"Mallory {attacker}", **given[by])
    desk.second.group("Curators", [own])
    with desk.running.dravo as dravo:
        found = dravo.users.get(victim["id"])
        assert [each["source"]["key"] for each in found["records"]] == [desk.known]
        others = [each for each in dravo.users.list(words=attacker) if each["id"] != victim["id"]]
        access = [line for each in others for line in dravo.users.get(each["id"])["access"]]
    assert access == []
    assert desk.conflicts() == ([f"Mallory {attacker}"] if by in ("user_name", "lookalike") else [])


def test_a_wrong_policy_is_refused_with_the_field(desk: Desk) -> None:
    for body, field in (
        ({"users": "title eq"}, "users"),
        ({"member_of": {"which": "none"}}, "member_of"),
        ({"groups": {"which": "pattern", "pattern": "("}}, "groups"),
        ({"attributes": [{"attribute": "titel", "expression": "title"}]}, "attribute"),
        ({"match": "phone"}, "match"),
        ({}, None),
    ):
        answer = desk.http.put(f"/sources/{desk.new}/policy/inbound_scim", json=body)
        error = answer.json()["error"]
        assert answer.status_code == 422 and error["field"] == field, (body, answer.text)
        assert error["hint"]
    assert desk.http.get(f"/sources/{desk.new}/policy/ldap").status_code == 422
    assert desk.http.get(f"/sources/{desk.new}/policy/import").status_code == 404
