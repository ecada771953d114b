"""The provisioning status of an application: disabled, pilot group, enabled, or enabled from a later time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import pytest

from dravo.client.errors import ApiError
from dravo.core.errors import InvalidInput, NotFound
from dravo.core.instants import later
from dravo.services.applications import applications, status
from dravo.services.applications.status import StatusChange
from dravo.store import clock
from tests.harness import Provider, Running, StandIn
from tests.service_fixture import ServiceFixture

Fresh = Callable[[str], str]


@dataclass
class Garden:
    """An application with a stand-in and three users with access, of whom the first is in the pilot group
    through an inner group.
    """

    running: Running
    app: StandIn
    key: str
    provider: Provider
    names: list[str]
    ids: dict[str, str] = field(default_factory=dict)
    pilot: str = ""

    def prepare(self, **settings: Any) -> None:
        self.running.application(self.key, self.app, **settings)
        for name in self.names:
            self.ids[name] = self.provider.user(name)
        self.inner = self.provider.group(f"Testers {self.key}", [self.ids[self.names[0]]])
        self.pilot = self.provider.group(f"Pilot {self.key}", [self.inner])
        self.herbarium = self.provider.group(f"Herbarium {self.key}", [*self.ids.values()])

    def set(self, status: str, **more: Any) -> dict[str, Any]:
        with self.running.dravo as dravo:
            return dict(dravo.applications.set_status(self.key, status, **more)["provisioning"])

    def assign(self) -> str:
        with self.running.dravo as dravo:
            return dravo.assignments.add(self.key, "viewer", group=self.herbarium)["id"]

    def settle(self) -> None:
        self.running.settled(self.key)

    def there(self) -> set[str]:
        return set(self.app.accounts())


@pytest.fixture
def garden(running: Running, app: StandIn, fresh: Fresh) -> Garden:
    names = [fresh(name) for name in ("ada", "bob", "cai")]
    return Garden(running, app, fresh("records"), running.provider(fresh("source")), names)


def test_a_pilot_creates_changes_and_removes_only_accounts_of_its_group(garden: Garden) -> None:
    garden.prepare(on_losing_access="delete")
    ada, bob, _ = garden.names
    shown = garden.set("pilot", pilot_group=garden.pilot)
    assert shown["status"] == "pilot" and shown["pilot_group"]["id"] == garden.pilot
    assignment = garden.assign()
    garden.settle()
    assert garden.there() == {ada}
    with garden.running.dravo as dravo:
        waiting = {each["user"]["user_name"]: each for each in dravo.tasks.list(application=garden.key)}
        assert waiting[bob]["waits_for"] == "the user is not in the pilot group"
        assert waiting[ada]["status"] == "done"
        sentences = dravo.users.why(bob, garden.key)["sentences"]
        assert any("in its pilot, and the user is not in the pilot group" in each for each in sentences)
        assert not any("pilot" in each for each in dravo.users.why(ada, garden.key)["sentences"])
        assert dravo.provisioning.summary(garden.key)["stopped"] == 2
    # A user who joins the pilot is provisioned, and one who leaves it stays as they are.
    garden.provider.add(garden.inner, garden.ids[bob])
    garden.provider.take_out(garden.inner, garden.ids[ada])
    garden.settle()
    assert garden.there() == {ada, bob}
    with garden.running.dravo as dravo:
        dravo.assignments.remove(assignment)
    garden.settle()
    assert garden.there() == {ada}, "bob is removed, ada is outside the pilot, cai never had an account"
    garden.set("enabled")
    garden.settle()
    assert garden.there() == set()


def test_the_end_of_a_pilot_provisions_everyone(garden: Garden) -> None:
    garden.prepare()
    garden.set("pilot", pilot_group=garden.pilot)
    garden.assign()
    garden.settle()
    with garden.running.dravo as dravo:
        effects = dravo.applications.preview_status(garden.key, "enabled")["effects"]
        assert effects == ["2 accounts are created or adopted."]
        assert dravo.applications.preview_status(garden.key, "disabled")["effects"] == [
            "Dravo creates, changes and removes no accounts. Changes wait."
        ]
    assert garden.there() == {garden.names[0]}, "a preview changes nothing"
    assert garden.set("enabled") == {"status": "enabled", "pilot_group": None, "enabled_from": None}
    garden.settle()
    assert garden.there() == set(garden.names)


def test_provisioned_groups_follow_the_pilot(garden: Garden) -> None:
    garden.prepare(provisioned_groups={"which": "with_roles"})
    ada, bob, cai = garden.names
    garden.set("enabled")
    garden.assign()
    garden.settle()

    def members() -> set[str]:
        names = {each["id"]: name for name, each in garden.app.accounts().items()}
        (group,) = [each for each in garden.app.groups() if each["displayName"].startswith("Herbarium")]
        return {names[each["value"]] for each in group.get("members", [])}

    assert members() == {ada, bob, cai}
    garden.set("pilot", pilot_group=garden.pilot)
    for name in (ada, cai):
        garden.provider.take_out(garden.herbarium, garden.ids[name])
    garden.settle()
    assert members() == {bob, cai}, "cai is not in the pilot"
    # No group with members outside the pilot is deleted.
    with garden.running.dravo as dravo:
        dravo.applications.change(garden.key, provisioned_groups={"which": "none"})
    garden.settle()
    assert members() == {bob, cai}
    garden.set("enabled")
    garden.settle()
    assert not [each for each in garden.app.groups() if each["displayName"].startswith("Herbarium")]


def test_an_edit_of_other_settings_keeps_the_pilot(garden: Garden) -> None:
    garden.prepare()
    garden.set("pilot", pilot_group=f"Pilot {garden.key}")
    with garden.running.dravo as dravo:
        changed = dravo.applications.change(garden.key, on_leaving="delete", enabled=True)
        assert changed["provisioning"]["status"] == "pilot"
        assert dravo.applications.change(garden.key, enabled=False)["provisioning"]["status"] == "disabled"
        again = dravo.applications.change(garden.key, enabled=True)["provisioning"]
        assert (again["status"], again["pilot_group"]) == ("enabled", None)
        with pytest.raises(ApiError, match="The pilot group is missing"):
            dravo.applications.set_status(garden.key, "pilot")


# Without a running service


def change(services: ServiceFixture, status_: str, **more: Any) -> applications.ProvisioningStatus:
    wish = StatusChange(status_, **more)
    return status.set_status(services.ctx, services.caller, "records", wish).provisioning


def test_a_disabled_application_is_enabled_at_its_start_time(services: ServiceFixture) -> None:
    services.application("records")
    at = later(clock.now(), 3_600)
    shown = change(services, "disabled", enabled_from=at)
    assert (shown.status, shown.enabled_from) == ("scheduled", at)
    assert status.apply_scheduled_activation(services.ctx, later(at, -1)) == 0
    assert status.apply_scheduled_activation(services.ctx, at) == 1
    shown = applications.one(services.ctx, "records").provisioning
    assert (shown.status, shown.enabled_from) == ("enabled", None)
    assert status.apply_scheduled_activation(services.ctx, later(at, 9)) == 0
    change(services, "disabled", enabled_from=later(clock.now(), 3_600))
    assert change(services, "disabled").status == "disabled", "without a time, the schedule ends"


@pytest.mark.parametrize(
    ("wish", "error", "words"),
    [
        ({"status_": "paused"}, InvalidInput, "not a valid status"),
        ({"status_": "pilot"}, InvalidInput, "The pilot group is missing"),
        ({"status_": "pilot", "pilot_group": "nowhere"}, NotFound, "There is no group"),
        ({"status_": "disabled", "enabled_from": "2001-01-01T00:00:00Z"}, InvalidInput, "in the past"),
        ({"status_": "disabled", "enabled_from": "tomorrow"}, InvalidInput, "not a time"),
        ({"status_": "enabled", "enabled_from": "2999-01-01T00:00:00Z"}, InvalidInput, "start time"),
    ],
)
def test_a_wrong_status_is_refused_with_a_hint(
    services: ServiceFixture, wish: dict[str, Any], error: type[Exception], words: str
) -> None:
    services.application("records")
    with pytest.raises(error, match=words) as told:
        change(services, **wish)
    assert getattr(told.value, "hint", "")


def test_a_tracked_only_application_is_not_enabled(services: ServiceFixture) -> None:
    applications.add(services.ctx, services.caller, "records", "Records", None, tracked_only=True)
    for wish in ({"status_": "enabled"}, {"status_": "disabled", "enabled_from": "2999-01-01T00:00:00Z"}):
        with pytest.raises(InvalidInput, match="tracked only"):
            change(services, **wish)
