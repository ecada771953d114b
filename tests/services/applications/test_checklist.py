"""The setup checklist of an application: what is missing, and what traffic verifies."""

from __future__ import annotations

from collections.abc import Callable

from tests.client.test_access_commands import ran
from tests.harness import Running, StandIn, eventually

Fresh = Callable[[str], str]


def test_items_are_verified_by_traffic_one_after_the_other(
    running: Running, app: StandIn, fresh: Fresh
) -> None:
    key, name = fresh("records"), fresh("ada")
    user = running.provider(fresh("source")).user(name)

    def seen() -> set[str]:
        return {each["what"] for each in dravo.applications.checklist(key)["ticks"] if each["first_at"]}

    def missing() -> list[str]:
        return [each["message"] for each in dravo.applications.checklist(key)["missing"]]

    with running.dravo as dravo:
        dravo.applications.add(key, "Records")
        assert seen() == set()
        assert missing() == [
            "The application has no owner.",
            "No roles are defined.",
            "The SCIM base URL is missing.",
            "The token is missing.",
            "No role is assigned.",
            "Provisioning is disabled.",
        ]
        dravo.applications.add_role(key, "viewer", "Viewer", sent_value="ROLE_VIEWER")
        dravo.applications.change(key, owner="edmund.sallow", adopt_by=["userName"])
        dravo.applications.connect(key, app.base_url, None)
        assert "The token is missing." in missing() and "The SCIM base URL is missing." not in missing()
        dravo.applications.connect(key, app.base_url, app.token)
        dravo.applications.check(key)
        assert seen() == {"answered", "capabilities_read"}
        dravo.applications.check(key, with_test_user=True)
        assert "test_account" in seen()
        assignment = dravo.assignments.add(key, "viewer", user=name)["id"]
        dravo.applications.set_status(key, "enabled")
        running.settled(key)
        assert {"account", "account_with_role"} <= seen() and missing() == []
        dravo.assignments.remove(assignment)
        running.settled(key)
        assert "removal" in seen() and user
        run = dravo.applications.reconcile(key)["id"]
        eventually(lambda: dravo.applications.run(run)["ended_at"])
        assert "reconciliation" in seen()
        text = dravo.applications.checklist(key)["text"]
    assert "ROLE_VIEWER" in text and "userName" in text and app.token not in text
    assert ran(running, "application", "checklist", key, "--text") == text
    shown = ran(running, "application", "checklist", key)
    assert "A reconciliation read all accounts" in shown and "To do here" in shown


def test_a_tracked_application_has_no_other_side(running: Running, fresh: Fresh) -> None:
    key = fresh("payslips")
    with running.dravo as dravo:
        dravo.applications.add(key, "Payslips", tracked_only=True)
        found = dravo.applications.checklist(key)
    assert (found["give"], found["get"], found["text"]) == ([], [], "")
    assert [each["what"] for each in found["ticks"]] == ["account", "account_with_role", "removal"]
