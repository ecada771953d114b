"""From a pushed record to an account in a real application's stand-in, through the running service."""

from __future__ import annotations

import threading
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import pytest

from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.store import tables as t
from dravo.worker.loop import ENDED_WELL, Worker
from tests.harness import Running, StandIn, eventually
from tests.service_fixture import ServiceFixture

Fresh = Callable[[str], str]


def stamp(seconds: float) -> str:
    return (datetime.now(UTC) + timedelta(seconds=seconds)).isoformat()


def roles(account: dict[str, Any] | None) -> list[str]:
    return [role["value"] for role in (account or {}).get("roles", [])]


def test_the_whole_way_there_and_back(running: Running, app: StandIn, fresh: Fresh) -> None:
    records, name = fresh("records"), fresh("zofia")
    running.application(records, app, on_leaving="delete")
    provider = running.provider(fresh("source"))
    group = provider.group("Herbarium")
    with running.dravo as dravo:
        dravo.assignments.add(records, "curator", group=group)
        user = provider.user(
            name,
            name={"givenName": "Zofia", "familyName": "Wiśniarska"},
            emails=[{"value": f"{name}@fernhollow.example"}],
        )
        assert dravo.users.get(name)["access"] == []
        provider.add(group, user)
        there = eventually(lambda: app.accounts().get(name), seconds=5)
        assert there is not None
        assert (there["active"], roles(there), there["name"]["familyName"]) == (
            True,
            ["curator"],
            "Wiśniarska",
        )
        assert there["externalId"] == dravo.users.get(name)["id"]
        provider.take_out(group, user)
        eventually(lambda: app.accounts()[name], lambda seen: not seen["active"] and roles(seen) == [], 5)
        provider.add(group, user)
        eventually(
            lambda: app.accounts()[name], lambda seen: seen["active"] and roles(seen) == ["curator"], 5
        )
        provider.set_active(user, False)
        eventually(lambda: app.accounts()[name], lambda seen: not seen["active"], 5)
        why = dravo.users.why(name, records)
        assert any("inactive" in sentence for sentence in why["sentences"])
        provider.set_active(user, True)
        eventually(lambda: app.accounts()[name], lambda seen: seen["active"], 5)
        provider.patch(f"/Users/{user}", {"op": "replace", "path": "userName", "value": f"{name}.new"})
        eventually(lambda: f"{name}.new" in app.accounts(), seconds=5)
        provider.http.delete(f"/Users/{user}")
        eventually(lambda: f"{name}.new" not in app.accounts(), seconds=5)
        ended = dravo.users.get(f"{name}.new")["ended"]
        assert [item["reasons"][-1]["group"]["name"] for item in ended if item["reasons"][-1]["group"]] == [
            "Herbarium"
        ] * 3


@pytest.mark.parametrize(
    ("setting", "left"), [("deactivate", "inactive"), ("delete", "nobody"), ("do_nothing", "active")]
)
def test_leaving_follows_the_setting(
    running: Running, app: StandIn, fresh: Fresh, setting: str, left: str
) -> None:
    records, name = fresh("records"), fresh("dilys")
    running.application(records, app, on_losing_access=setting)
    provider = running.provider(fresh("source"))
    user = provider.user(name)
    group = provider.group("Guides", [user])
    with running.dravo as dravo:
        made = dravo.assignments.add(records, "viewer", group=group)
        eventually(lambda: app.accounts().get(name), seconds=5)
        dravo.assignments.remove(made["id"])
        running.settled(records)
        account = dravo.accounts.list(application=records).page().items[0]
        assert account["status"] in ("in_sync", "unmanaged")
        expected = {
            "inactive": ("inactive", "in_sync"),
            "nobody": ("absent", "in_sync"),
            "active": ("unmanaged", "unmanaged"),
        }[left]
        assert (account["should_be"], account["status"]) == expected
    there = app.accounts().get(name)
    assert {
        "inactive": bool(there) and not there["active"],
        "nobody": there is None,
        "active": bool(there) and there["active"],
    }[left]


def test_changing_a_leaving_setting_later_brings_the_accounts_along(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("emeka")
    running.application(records, app, on_inactive="do_nothing")
    provider = running.provider(fresh("source"))
    user = provider.user(name)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", user=name)
        eventually(lambda: app.accounts().get(name), seconds=5)
        provider.set_active(user, False)
        running.settled(records)
        assert (dravo.accounts.list(application=records).page().items[0]["status"]) == "unmanaged"
        assert app.accounts()[name]["active"]
        dravo.applications.change(records, on_inactive="deactivate")
        eventually(lambda: app.accounts()[name], lambda seen: not seen["active"], 5)


def test_dates_take_effect_without_an_action(running: Running, app: StandIn, fresh: Fresh) -> None:
    records, name = fresh("records"), fresh("contractor")
    running.application(records, app)
    running.provider(fresh("source")).user(name)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", user=name, from_=stamp(1), until=stamp(3))
        assert dravo.users.get(name)["access"] == []
        eventually(lambda: app.accounts().get(name), lambda seen: bool(seen) and seen["active"], 6)
        eventually(lambda: app.accounts()[name], lambda seen: not seen["active"], 6)


def test_an_account_in_the_way_is_never_taken_over_unasked(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, mine, foreign = fresh("records"), fresh("aroha"), fresh("ravi")
    free_id = app.create(userName=mine, active=True, nickName="kept")
    app.create(userName=foreign, externalId="till-42", active=False)
    running.application(records, app)
    provider = running.provider(fresh("source"))
    group = provider.group("Shop", [provider.user(mine), provider.user(foreign)])
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
        running.settled(records)
        failed = dravo.tasks.list(application=records, status="failed").page().items
        assert len(failed) == 2
        told = {each["user"]["user_name"]: (each["message"], each["hint"]) for each in failed}
        assert "till-42" in str(told[foreign][0])
        assert "adopt" in str(told[mine][1])
        assert not app.accounts()[foreign]["active"]
        dravo.applications.change(records, adopt_by=["userName"])
        running.settled(records)
        assert app.accounts()[mine].get("roles")
        assert (app.accounts()[mine]["id"], app.accounts()[mine]["nickName"]) == (free_id, "kept")
        running.settled(records)
        account = dravo.accounts.list(application=records, words=mine).page().items[0]
        assert account["status"] == "in_sync"
        assert account["origin"] == "adopted"
        assert app.accounts()[foreign]["externalId"] == "till-42"


def test_only_an_address_of_an_owned_domain_adopts_an_account(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, source = fresh("records"), fresh("source")
    ada, eve = fresh("ada"), fresh("eve")
    owned, other = f"{ada}@{fresh('owned')}.example", f"{eve}@{fresh('other')}.example"
    # The administrator of the application has an account that eve's source claims to be hers.
    mine = app.create(userName=f"old-{ada}", active=True, emails=[{"value": owned}])
    administrator = app.create(userName=f"admin-{eve}", active=True, emails=[{"value": other}])
    running.application(records, app, adopt_by=["emails"], origin_attribute="userType")
    provider = running.provider(source)
    with running.dravo as dravo:
        dravo.sources.change(source, domains=[owned.partition("@")[2]])
        users = [provider.user(ada, emails=[{"value": owned}]), provider.user(eve, emails=[{"value": other}])]
        dravo.assignments.add(records, "viewer", group=provider.group("Shop", users))
        running.settled(records)
        there = app.accounts()
        assert there[ada]["id"] == mine and roles(there[ada]) == ["viewer"]
        assert there[f"admin-{eve}"]["id"] == administrator and not roles(there[f"admin-{eve}"])
        assert there[eve]["id"] not in (mine, administrator)
        assert {there[name]["userType"] for name in (ada, eve)} == {"Dravo"}, "the origin is written"
        origins = {
            each["user"]["user_name"]: each["origin"] for each in dravo.accounts.list(application=records)
        }
        assert origins == {ada: "adopted", eve: "made"}


def test_a_lasting_refusal_says_what_the_application_said_and_can_be_tried_again(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("una")
    running.application(records, app)
    app.faults(refuse=True)
    running.provider(fresh("source")).user(name)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", user=name)
        running.settled(records)
        failed = dravo.tasks.list(application=records, status="failed").page().items[0]
        assert "All seats are used" in str(failed["message"])
        assert dravo.tasks.get(failed["id"])["tries"][0]["exchanges"][-1]["status"] == 400
        app.faults(refuse=False)
        dravo.tasks.retry(failed["id"])
        eventually(lambda: app.accounts().get(name), seconds=5)
        running.settled(records)
        done = dravo.tasks.get(failed["id"])
        assert done["status"] == "done"
        assert done["attempts"] == 2


@pytest.mark.parametrize(
    ("fault", "words"), [({"html": True}, "web page"), ({"token": "another"}, "not valid")]
)
def test_a_wrong_address_or_token_pauses_the_application_and_says_why(
    running: Running, app: StandIn, fresh: Fresh, fault: dict[str, Any], words: str
) -> None:
    records = fresh("records")
    running.application(records, app)
    provider = running.provider(fresh("source"))
    group = provider.group("Many", [provider.user(fresh("p")) for _ in range(12)])
    app.faults(**fault)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
        paused = eventually(lambda: dravo.applications.get(records), lambda seen: seen["status"] == "paused")
        assert words in str(paused["trouble"])
        assert paused["hint"]
        asked = len(app.requests())
        assert asked <= 8, "it kept asking although nothing could come of it"
        app.faults(html=False, token=app.token)
        dravo.applications.resume(records)
        running.settled(records)
        assert len(app.accounts()) == 12


def test_doing_it_again_mends_an_account_that_was_changed_there(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("tamsin")
    running.application(records, app)
    running.provider(fresh("source")).user(name)
    with running.dravo as dravo:
        dravo.assignments.add(records, "curator", user=name)
        eventually(lambda: app.accounts().get(name), seconds=5)
        running.settled(records)
        task = dravo.tasks.list(application=records, status="done").page().items[0]
        app.faults()
        there = app.accounts()[name]
        httpx.put(
            f"{app.base_url}/Users/{there['id']}",
            json={**there, "roles": [{"value": "owner"}]},
            headers=app.headers,
        )
        dravo.tasks.retry(task["id"])
        eventually(lambda: roles(app.accounts()[name]), lambda seen: seen == ["curator"], 5)


def test_an_application_without_patch_is_served_by_put(running: Running, app: StandIn, fresh: Fresh) -> None:
    records, name = fresh("records"), fresh("elswyth")
    app.faults(no_patch=True)
    running.application(records, app)
    with running.dravo as dravo:
        capabilities = dravo.applications.check(records)["capabilities"]
        assert capabilities is not None
        assert not capabilities["patch"] and "PATCH" in capabilities["notes"][0]
        provider = running.provider(fresh("source"))
        user = provider.user(name)
        dravo.assignments.add(records, "viewer", user=name)
        eventually(lambda: app.accounts().get(name), seconds=5)
        provider.set_active(user, False)
        eventually(lambda: app.accounts()[name], lambda seen: not seen["active"], 5)
    assert "PATCH" not in {each["method"] for each in app.requests()}


def test_the_pace_is_kept(running: Running, app: StandIn, fresh: Fresh) -> None:
    records = fresh("records")
    running.application(records, app, max_concurrency=2)
    app.faults(slow=20)
    provider = running.provider(fresh("source"))
    group = provider.group("Many", [provider.user(fresh("p")) for _ in range(20)])
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
    running.settled(records)
    assert len(app.accounts()) == 20
    assert (
        httpx.get(f"http://127.0.0.1:{app.port}/log").json()["most_at_once"] <= 3
    )  # the two, and the test's own look


def test_retry_after_of_an_application_is_respected(running: Running, app: StandIn, fresh: Fresh) -> None:
    records = fresh("records")
    running.application(records, app)
    provider = running.provider(fresh("source"))
    group = provider.group("Many", [provider.user(fresh("p")) for _ in range(15)])
    app.faults(limit=12)
    with running.dravo as dravo:
        dravo.assignments.add(records, "viewer", group=group)
        eventually(
            lambda: dravo.accounts.list(application=records, status="in_sync").total(),
            lambda count: count == 15,
            30,
        )
    refused = sum(1 for each in app.requests() if each["status"] == 429)
    assert refused <= 20, "it did not wait when it was told to"


def test_nothing_leaves_for_an_application_that_is_not_switched_on(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    records, name = fresh("records"), fresh("hedda")
    running.application(records, app)
    running.provider(fresh("source")).user(name)
    with running.dravo as dravo:
        dravo.applications.change(records, enabled=False)
        dravo.assignments.add(records, "viewer", user=name)
        waiting = dravo.tasks.list(application=records, status="waiting").page().items
        assert waiting[0]["waits_for"] == "the application is disabled"
        preview = dravo.assignments.preview(records, "curator", user=name)
        assert (preview["changed"], preview["accounts"]) == (1, 1)
        assert preview["users"][0]["after"] == ["Viewer", "Curator"]
        assert app.requests() == []
        dravo.applications.change(records, enabled=True)
    eventually(lambda: app.accounts().get(name), seconds=5)
    assert roles(app.accounts()[name]) == ["viewer"]


def test_only_a_worker_that_was_killed_leaves_doubt(services: ServiceFixture) -> None:
    staff = services.source()
    services.user(staff, "ada")
    services.application("records", "viewer")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))

    def work_for_a_moment() -> None:
        worker = Worker(services.ctx)
        thread = threading.Thread(target=worker.run)
        thread.start()
        worker.stop()
        thread.join()

    mark = services.ctx.folder / ENDED_WELL
    mark.touch()
    work_for_a_moment()
    assert services.rows(t.account)[0].outcome_unknown_since is None and mark.exists()
    mark.unlink()
    work_for_a_moment()
    assert services.rows(t.account)[0].outcome_unknown_since is not None, (
        "nobody said that what was in hand was finished"
    )
