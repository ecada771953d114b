"""The client's calls for access, as a program makes them, against the running service and a real stand-in."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import httpx
import pytest

from dravo.client import ApiError, Conflict, Dravo, InvalidRequest, NotAllowed, NotFound
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_a_license_plan_with_a_seat_is_sent_in_the_chosen_attribute(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    key, ada = fresh("desk"), fresh("ada")
    running.application(key, app)
    running.provider(fresh("staff")).user(ada)
    with running.dravo as dravo:
        dravo.applications.add_plan(key, "full", "Full desk", seats=1, rank=2)
        made = dravo.assignments.add(key, "viewer", user=ada, plan="full")
        assert made["plan"] == {"key": "full", "label": "Full desk"}
        running.settled(key)
        seen = app.accounts().get(ada, {}).get("entitlements")
        assert bool(seen) and seen[0]["value"] == "full"
        looked = dravo.applications.preview_settings(
            key, plan_encoding={"way": "attribute", "attribute": "userType"}
        )
        assert looked["changed"] == 1
        dravo.applications.change(key, plan_encoding={"way": "attribute", "attribute": "userType"})
        running.settled(key)
        seen = app.accounts()[ada]
        assert seen.get("userType") == "full" and not seen.get("entitlements")
        with pytest.raises(InvalidRequest, match="License plans cannot be sent as groups"):
            dravo.applications.change(key, plan_encoding={"way": "groups"})
        # Without the plan the seat is free, and the account says so no longer.
        dravo.assignments.change(made["id"], plan="")
        running.settled(key)
        assert not app.accounts()[ada].get("userType")
        assert (
            dravo.applications.get(key)["plans"][0]["taken"] == 0
            and dravo.applications.seats(key).total() == 0
        )
        running.settled(key)
        run = dravo.applications.reconcile(key)
        done = eventually(
            lambda: dravo.applications.run(run["id"]), lambda seen: seen["ended_at"] is not None
        )
        assert sum(done["counts"].values()) == 0


def test_days_are_previewed_and_an_end_that_is_over_is_refused(running: Running, fresh: Fresh) -> None:
    key, ada = fresh("desk"), fresh("ada")
    running.application(key)
    running.provider(fresh("staff")).user(ada)
    today = datetime.now(UTC).date()
    with running.dravo as dravo:
        assert dravo.assignments.preview(key, "viewer", user=ada)["gained"] == 1
        later = {
            "from": (today + timedelta(days=2)).isoformat(),
            "until": (today + timedelta(days=9)).isoformat(),
        }
        assert dravo.assignments.preview(key, "viewer", user=ada, **later)["gained"] == 0
        with pytest.raises(ApiError, match="The end date is in the past"):
            dravo.assignments.preview(key, "viewer", user=ada, until="2020-01-01")
        with pytest.raises(ApiError, match="The end date is before the start date"):
            dravo.assignments.preview(
                key, "viewer", user=ada, **{"from": later["until"], "until": later["from"]}
            )
        made = dravo.assignments.add(key, "viewer", user=ada, **later)
        assert (made["from_day"], made["until_day"]) == (later["from"], later["until"])
        assert any("begins at" in each for each in dravo.users.why(ada, key)["sentences"])
        dravo.assignments.change(made["id"], until=later["until"])
        running.settled(key)
        assert dravo.users.why(ada, key)["has_access"]


def test_an_owner_reviews_only_own_applications(running: Running, fresh: Fresh) -> None:
    mine, other, ada = fresh("mine"), fresh("other"), fresh("ada")
    for key in (mine, other):
        running.application(key)
    running.provider(fresh("staff")).user(ada)
    with running.dravo as dravo:
        for key in (mine, other):
            dravo.assignments.add(key, "viewer", user=ada)
            eventually(lambda key=key: dravo.access(application=key).total() == 1)  # type: ignore[misc]
        review = dravo.reviews.begin(fresh("Review"), "2999-12-31", words=ada)
        theirs = dravo.reviews.begin(fresh("Theirs"), "2999-12-31", application=other)
        made = dravo.operators.add(fresh("owner"), "application_owner", applications=[mine])
        foreign = next(iter(dravo.reviews.rows(review["id"], application=other)))["id"]
    http = httpx.Client(base_url=running.url, trust_env=False)
    signed_in = http.post("/api/v1/session", json={"name": made["name"], "password": made["password"]}).json()
    http.headers["X-Dravo-CSRF"] = signed_in["csrf"]
    token = http.post("/api/v1/tokens", json={"label": "mine", "scope": "write"}).json()["token"]
    with Dravo(running.url, token) as owner:
        shown = owner.reviews.get(review["id"])
        assert [each["application"]["key"] for each in shown["applications"]] == [mine] and shown["rows"] == 1
        with pytest.raises(NotFound):
            owner.reviews.get(theirs["id"])
        assert theirs["id"] not in {each["id"] for each in owner.reviews.list()}
        with pytest.raises(NotAllowed):
            list(owner.reviews.rows(review["id"], application=other))
        with pytest.raises(NotAllowed):
            list(owner.reviews.rows(review["id"]))
        with pytest.raises(NotFound, match="Some of these rows do not belong to '"):
            owner.reviews.decide(review["id"], mine, [foreign], "removed")
        for call in (
            lambda: owner.reviews.begin("Mine", "2999-12-31"),
            lambda: owner.reviews.close(review["id"]),
            lambda: b"".join(owner.reviews.export(review["id"])),
            lambda: owner.groups.add("Mine"),
            lambda: owner.users.add("somebody"),
            lambda: owner.applications.add_plan(mine, "x", "X"),
            lambda: owner.compare(ada, ada),
            owner.flow,
        ):
            with pytest.raises(NotAllowed):
                call()
        own = next(iter(owner.reviews.rows(review["id"], application=mine)))["id"]
        assert owner.reviews.preview(review["id"], mine, [own])["lost"] == 1
        assert owner.reviews.decide(review["id"], mine, [own], "removed")["removed"] == 1
        assert owner.applications.seats(mine).total() == 0
        eventually(lambda: owner.access(application=mine).total() == 0)


def test_local_users_and_groups_by_the_client(running: Running, fresh: Fresh) -> None:
    key, name, label = fresh("desk"), fresh("ida"), fresh("Planting")
    running.application(key)
    with running.dravo as dravo:
        user = dravo.users.add(name, given_name="Ida", family_name="Vosper", title="Botanist")
        with pytest.raises(Conflict, match=" has the same user name or email address"):
            dravo.users.add(name.upper())
        group = dravo.groups.add(label)
        assert dravo.groups.preview_members(group["id"], add=[name])["unchanged"] == 1
        dravo.assignments.add(key, "viewer", group=group["id"])
        assert dravo.groups.preview_members(group["id"], add=[name])["gained"] == 1
        dravo.groups.change_members(group["id"], add=[name])
        running.settled(key)
        assert dravo.users.why(name, key)["has_access"]
        assert dravo.groups.get(group["id"])["local"] is True
        assert [each["roles"] for each in dravo.matrix_of_groups(words=label)] == [{key: ["Viewer"]}]
        assert dravo.users.preview(user["id"], name, active=False)["lost"] == 1
        dravo.users.change(user["id"], name, given_name="Ida", active=False)
        assert dravo.users.get(name)["status"] == "inactive"
        assert dravo.users.preview_removal(name)["lost"] == 0
        dravo.users.remove(name)
        assert dravo.groups.get(group["id"])["users_with_nested_groups"] == 0
        assert dravo.groups.change(group["id"], name=f"{label} two")["name"] == f"{label} two"
        assert dravo.groups.preview_removal(group["id"])["lost"] == 0
        dravo.groups.remove(group["id"])
        with pytest.raises(NotFound):
            dravo.groups.get(group["id"])


def test_activity_is_read_until_a_day(running: Running, fresh: Fresh) -> None:
    key = fresh("desk")
    running.application(key)
    with running.dravo as dravo:
        assert dravo.activity(application=key, kind="change").total() >= 1
        assert list(dravo.activity(application=key, until="2020-01-01")) == []
        everything = [each["at"] for each in dravo.activity(application=key)]
        assert everything == sorted(everything, reverse=True)
