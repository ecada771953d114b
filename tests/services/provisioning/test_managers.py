"""The manager of a user in applications: the account of the manager, as soon as there is one."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from dravo.core.errors import InvalidInput
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.demo.application import Application
from dravo.services.access import assignments, user_detail
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, connections
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.changes import recompute
from dravo.services.ingest import record_links
from dravo.services.ingest.local import users as local_users
from dravo.services.provisioning import attempt, holds, managers
from dravo.services.provisioning.drift import differences, reconciliation
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture
from tests.services.provisioning.test_convergence import Wire, talking

MANAGER = f"{ENTERPRISE_URN}:manager"


class Desk:
    """An organization whose users have managers, and the stand-in for its application."""

    def __init__(self, services: ServiceFixture, application: Application) -> None:
        self.services, self.application = services, application
        self.talker = talking(services, Wire(application))
        self.staff = services.source()

    def user(self, name: str, manager: str | None = None, *, access: bool = True, **more: Any) -> str:
        """Push a user with a manager; with access, one that gets an account."""
        if manager is not None:
            more[ENTERPRISE_URN] = {"manager": {"value": manager}}
        record = self.services.user(self.staff, name, **more)
        if access:
            assign(self.services, name)
        return record

    def work(self) -> int:
        """Do what the worker does until nothing is left; return the number of attempts."""
        attempts = 0
        while True:
            recompute.process_marks(self.services.ctx)
            managers.follow(self.services.ctx, clock.now())
            holds.hold_removals(self.services.ctx, clock.now())
            tasks = [row for row in self.services.rows(t.task) if row.closed_at is None]
            if not tasks:
                return attempts
            for row in tasks:
                assert attempt.attempt(self.services.ctx, self.talker, row.id) == "done"
                attempts += 1

    def managers(self) -> dict[str, str | None]:
        """Return by user name the user name of the manager in the application."""
        names = {key: each["userName"] for key, each in self.application.accounts.items()}
        return {
            each["userName"]: names.get(each.get(ENTERPRISE_URN, {}).get("manager", {}).get("value"))
            for each in self.application.accounts.values()
        }


def assign(services: ServiceFixture, name: str) -> None:
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user=name))


@pytest.fixture
def desk(services: ServiceFixture, tmp_path: Path) -> Desk:
    services.application()
    connections.connect(
        services.ctx, services.caller, "records", ConnectionSettings("http://127.0.0.1:9/scim/v2", "token")
    )
    applications.change(services.ctx, services.caller, "records", {}, {"enabled": True})
    return Desk(services.unguarded(), Application("Records", "token", tmp_path / "stand-in"))


def test_an_account_names_the_managers_account_also_when_it_comes_later(desk: Desk) -> None:
    desk.user("zofia", "una")
    desk.work()
    assert desk.managers() == {"zofia": None}
    desk.user("una", access=False)
    desk.work()
    assert desk.managers() == {"zofia": None}, "a manager without an account is left out"
    assign(desk.services, "una")
    desk.work()
    assert desk.managers() == {"zofia": "una", "una": None}
    assert desk.work() == 0


@pytest.mark.parametrize("named", ["id", "external ID", "user name"])
def test_the_manager_is_named_in_each_way_that_sources_use(desk: Desk, named: str) -> None:
    record = desk.user("una", externalId="E-7")
    desk.user("zofia", {"id": record, "external ID": "E-7", "user name": "Una"}[named])
    desk.work()
    assert desk.managers()["zofia"] == "una"


def test_a_changed_and_a_lost_manager_are_sent(desk: Desk) -> None:
    desk.user("una")
    other = desk.user("dilys")
    zofia = desk.user("zofia", "una")
    desk.work()
    desk.services.patch_user(desk.staff, zofia, {"op": "replace", "path": MANAGER, "value": {"value": other}})
    assert desk.work() == 1
    assert desk.managers()["zofia"] == "dilys"
    desk.services.patch_user(desk.staff, zofia, {"op": "remove", "path": MANAGER})
    assert desk.work() == 1
    assert desk.managers()["zofia"] is None


def test_reports_follow_where_the_manager_gets_another_name(desk: Desk) -> None:
    una = desk.user("una")
    desk.user("zofia", "una")
    desk.user("emeka", una)
    desk.work()
    desk.services.patch_user(desk.staff, una, {"op": "replace", "path": "userName", "value": "una.k"})
    desk.work()
    assert desk.managers() == {"una.k": None, "zofia": None, "emeka": "una.k"}
    desk.services.patch_user(desk.staff, una, {"op": "replace", "path": "externalId", "value": "una"})
    desk.work()
    assert desk.managers()["zofia"] == "una.k"


def test_a_manager_of_another_source_of_the_same_name_is_not_meant(desk: Desk) -> None:
    other = desk.services.source("partners")
    desk.services.user(other, "una")
    assign(desk.services, "una")
    desk.user("zofia", "una")
    desk.work()
    assert desk.managers() == {"una": None, "zofia": None}


def test_reports_follow_where_a_record_is_linked_to_another_user(desk: Desk) -> None:
    other = desk.services.source("partners")
    desk.services.user(other, "u.kerrigan")
    assign(desk.services, "u.kerrigan")
    una = desk.user("una", access=False)
    desk.user("zofia", "una")
    desk.work()
    assert desk.managers()["zofia"] is None
    record_links.move(desk.services.ctx, desk.services.caller, una, "u.kerrigan")
    desk.work()
    assert desk.managers()["zofia"] is not None


def test_a_deleted_account_of_a_manager_is_named_no_more(desk: Desk) -> None:
    applications.change(desk.services.ctx, desk.services.caller, "records", {}, {"on_leaving": "delete"})
    una = desk.user("una")
    desk.user("zofia", "una")
    desk.work()
    desk.services.intake.remove_user(desk.staff, una)
    desk.work()
    assert desk.managers() == {"zofia": None}
    account = next(iter(desk.application.accounts.values()))
    assert "manager" not in account.get(ENTERPRISE_URN, {})


def test_a_user_who_is_their_own_manager_is_sent_once(desk: Desk) -> None:
    desk.user("una", "una")
    desk.work()
    assert desk.managers() == {"una": None}
    managers.follow(desk.services.ctx, clock.now())
    assert desk.work() == 0


def test_a_manager_of_whom_the_removal_is_uncertain_is_removed_again(desk: Desk) -> None:
    desk.user("una")
    zofia = desk.user("zofia", "una")
    desk.work()
    with desk.services.ctx.database.writing() as connection:
        connection.execute(t.account.update().values(applied=None))
    desk.services.patch_user(desk.staff, zofia, {"op": "remove", "path": MANAGER})
    desk.work()
    assert desk.managers()["zofia"] is None


def test_a_manager_that_the_application_set_itself_stays(desk: Desk) -> None:
    desk.user("una")
    zofia = desk.user("zofia")
    desk.work()
    account = next(each for each in desk.application.accounts.values() if each["userName"] == "zofia")
    account[ENTERPRISE_URN] = {"manager": {"value": account["id"]}}
    with desk.services.ctx.database.writing() as connection:
        connection.execute(t.account.update().values(applied=None))
    desk.services.patch_user(desk.staff, zofia, {"op": "add", "path": "title", "value": "Guide"})
    desk.work()
    assert desk.managers()["zofia"] == "zofia"


def test_an_expression_decides_about_the_manager_instead(desk: Desk) -> None:
    desk.user("una")
    desk.user("zofia", "una", title="Guide")
    desk.work()
    rows = [{"attribute": "manager.value", "expression": ""}]
    applications.change(desk.services.ctx, desk.services.caller, "records", {}, {"attributes": rows})
    desk.work()
    assert desk.managers()["zofia"] is None
    rows = [{"attribute": "manager.value", "expression": "title"}]
    applications.change(desk.services.ctx, desk.services.caller, "records", {}, {"attributes": rows})
    desk.work()
    there = {each["userName"]: each for each in desk.application.accounts.values()}
    assert there["zofia"][ENTERPRISE_URN]["manager"] == {"value": "Guide"}


def test_many_reports_follow_in_one_step(desk: Desk) -> None:
    una = desk.user("una", access=False)
    for number in range(30):
        desk.user(f"p{number:02}", una)
    desk.work()
    assign(desk.services, "una")
    assert desk.work() == 31
    assert {name for name, manager in desk.managers().items() if manager == "una"} == {
        f"p{number:02}" for number in range(30)
    }


def test_a_manager_changed_in_the_application_is_drift_and_repaired(desk: Desk) -> None:
    desk.user("una")
    desk.user("zofia", "una")
    desk.work()
    account = next(each for each in desk.application.accounts.values() if each["userName"] == "zofia")
    account[ENTERPRISE_URN] = {"manager": {"value": account["id"]}}
    ctx, caller = desk.services.ctx, desk.services.caller
    reconciliation.ask_for(ctx, caller, "records")
    run_id = reconciliation.next_requested(ctx)
    assert run_id is not None
    reconciliation.carry_out(ctx, desk.talker, run_id)
    [found] = differences.drift(ctx, "records", PageRequest()).items
    assert (found.kind, found.name) == ("attributes", "zofia")
    differences.repair(ctx, caller, "records", [found.id])
    desk.work()
    assert desk.managers()["zofia"] == "una"


def test_the_manager_of_a_local_user_is_a_user_of_any_source(desk: Desk) -> None:
    desk.user("ada")
    ada = desk.services.rows(t.user, user_name="ada")[0]
    local_users.add(desk.services.ctx, desk.services.caller, {"user_name": "ida", "manager": "ada"})
    assign(desk.services, "ida")
    desk.work()
    assert desk.managers()["ida"] == "ada"
    shown = user_detail.user(desk.services.ctx, "ida").manager
    assert shown is not None and shown.id == ada.id
    # The manager's account comes later than that of the report.
    desk.user("bob", access=False)
    fields = {"user_name": "ida", "manager": "bob"}
    local_users.change(desk.services.ctx, desk.services.caller, "ida", fields)
    desk.work()
    assert desk.managers()["ida"] is None
    assign(desk.services, "bob")
    desk.work()
    assert desk.managers()["ida"] == "bob"
    with pytest.raises(InvalidInput, match="There is no user 'gone'"):
        local_users.add(desk.services.ctx, desk.services.caller, {"user_name": "ove", "manager": "gone"})
