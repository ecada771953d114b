"""The timeline: every kind in one list, each thing once, as far as anyone who asks may read it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from dravo.core.errors import InvalidInput, NotFound, NotPermitted
from dravo.core.instants import later
from dravo.services.reporting import activity
from dravo.services.reporting.activity import SubjectFilter
from dravo.services.security import operators
from dravo.store import clock
from dravo.store.pagination import Page, PageRequest
from tests.harness import Running, StandIn, eventually
from tests.service_fixture import ServiceFixture

Fresh = Callable[[str], str]


@pytest.fixture
def walk(running: Running, app: StandIn, fresh: Fresh) -> dict[str, str]:
    """Somebody comes, gets an account, is renamed while the application refuses, and the application is
    compared.
    """
    source, key, name = fresh("staff"), fresh("records"), fresh("ottilie")
    provider = running.provider(source)
    running.application(key, app)
    user = provider.user(name, displayName=f"Ottilie {name}")
    group = provider.group(f"Curators {name}", [user])
    with running.dravo as dravo:
        dravo.assignments.add(key, "curator", group=group)
        running.settled(key)
        assert name in app.accounts()
        run = dravo.applications.reconcile(key)
        eventually(lambda: dravo.applications.run(run["id"])["ended_at"])
        user_id = dravo.users.get(name)["id"]
    provider.http.post("/Users", json={"userName": name})
    return {"source": source, "application": key, "user": user_id, "name": f"Ottilie {name}"}


def test_all_activity_is_one_list(running: Running, walk: dict[str, str]) -> None:
    label = walk["application"].replace("-", " ").title()
    with running.dravo as dravo:
        of_application = list(dravo.activity(application=walk["application"]))
        of_source = list(eventually(lambda: list(dravo.activity(source=walk["source"], trouble=True))))
        of_user = list(dravo.activity(user=walk["user"]))
    told = [(each["kind"], each["what"]) for each in of_application]
    assert ("reconciliation", f"{label} was reconciled: 1 accounts, no differences") in told
    assert ("task", f"{walk['name']} in {label}: active, Curator") in told
    assert ("change", "Created assignment") in told and ("change", "Added application") in told
    assert [each["at"] for each in of_application] == sorted(
        (each["at"] for each in of_application), reverse=True
    )
    assert [(each["kind"], each["detail"]) for each in of_source] == [("request", "POST /Users 409")]
    assert {each["kind"] for each in of_user} == {"request", "task"}
    assert all(each["user"] == {"id": walk["user"], "name": walk["name"]} for each in of_user)


def test_pages_list_each_item_once_despite_new_items(running: Running, walk: dict[str, str]) -> None:
    with running.dravo as dravo:
        whole = [each["id"] for each in dravo.activity(application=walk["application"])]
        seen: list[str] = []
        after = None
        while True:
            query = {"application": walk["application"], "count": 2, **({"after": after} if after else {})}
            page = dravo.call("GET", "/activity", query=query)
            seen += [each["id"] for each in page["items"]]
            dravo.applications.pause(walk["application"])
            after = page["next"]
            if after is None:
                break
    assert len(whole) > 6
    assert seen == whole


def test_areas_without_permission_are_left_out(tmp_path: Path) -> None:
    services = ServiceFixture(tmp_path)
    services.source()
    nobody = replace(services.caller, kind="nobody")
    assert activity.list_activity(services.ctx, services.caller, PageRequest(), SubjectFilter()).total == 1
    assert activity.list_activity(services.ctx, nobody, PageRequest(), SubjectFilter()) == Page([], 0, None)
    with pytest.raises(NotPermitted):
        activity.list_activity(services.ctx, nobody, PageRequest(), SubjectFilter(kind="change"))


def test_filters_keep_to_what_they_say(tmp_path: Path) -> None:
    services = ServiceFixture(tmp_path)
    services.source()
    before = clock.now()
    services.application()

    def told(about: SubjectFilter) -> list[str]:
        return [
            each.what
            for each in activity.list_activity(services.ctx, operators.SYSTEM, PageRequest(), about).items
        ]

    assert told(SubjectFilter(until=before)) == ["Added source"]
    assert told(SubjectFilter(source="staff")) == ["Added source"]
    assert told(SubjectFilter(application="records", until=later(clock.now(), 60))) == [
        "Created role",
        "Created role",
        "Added application",
    ]
    assert (
        told(SubjectFilter(trouble=True))
        == told(SubjectFilter(user="nobody"))
        == told(SubjectFilter(kind="request"))
        == []
    )
    with pytest.raises(NotFound):
        told(SubjectFilter(application="nothing"))
    with pytest.raises(InvalidInput, match="kind"):
        told(SubjectFilter(kind="rumour"))
    with pytest.raises(InvalidInput, match="cursor"):
        activity.list_activity(services.ctx, services.caller, PageRequest("x"), SubjectFilter())
