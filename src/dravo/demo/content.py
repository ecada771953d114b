"""Demo data: sources, applications and changes that the demo loads at its first start."""

from __future__ import annotations

import json
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

from dravo.client import ApiError, Dravo
from dravo.demo import contractors, emails, scenario, volunteers
from dravo.demo.import_sources import Sources
from dravo.demo.support import FILE, DemoFailed, free_port, http, wait_until, write_private
from dravo.supervisor import Service


def _has_ended(dravo: Dravo, run: str) -> bool:
    return dravo.applications.run(run)["ended_at"] is not None


class DemoContent:
    """Loads the scenario into a started service."""

    def __init__(self, folder: Path, port: int, ready_file: Path | None, screen: Console) -> None:
        self.folder, self.ready_file, self.screen = folder, ready_file, screen
        self.kept: dict[str, Any] = (
            json.loads((folder / FILE).read_text()) if (folder / FILE).exists() else {}
        )
        self.port = port or free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.stand_ins: dict[str, subprocess.Popen[bytes]] = {}
        self.addresses: dict[str, str] = {}
        self.sources: Sources | None = None
        self.service: Service | None = None

    @contextmanager
    def _step(self, what: str) -> Iterator[None]:
        """Show the current step, and afterwards how long it took.

        Raises:
            KeyboardInterrupt: if a stop was requested before.
        """
        if self.service is not None:
            self.service.check()
        began = time.monotonic()
        with self.screen.status(f"{what} ..."):
            yield
        self.screen.print(f"  {what:<58} {time.monotonic() - began:5.1f} s", highlight=False)

    def _keep(self) -> None:
        write_private(self.folder / FILE, self.kept)

    def _load(self, dravo: Dravo) -> None:
        """Load the scenario: applications as an administrator adds them, users through inbound SCIM."""
        with self._step("Notify administrators and the duty desk"):
            volunteers.connect(dravo, self.kept["stand_ins"]["smtp"]["port"])
            emails.connect(dravo, self.addresses["mail"])
            emails.load(dravo, self.kept["operator"]["name"])
        try:
            dravo.sources.add(scenario.SOURCE_KEY, scenario.SOURCE_LABEL)
        except ApiError as wrong:
            if wrong.code != "already_exists":
                raise
        dravo.sources.change(scenario.SOURCE_KEY, domains=[scenario.DOMAIN])
        self.kept["push_token"] = dravo.sources.add_token(scenario.SOURCE_KEY, "Staff provider")["token"]
        self._keep()
        users = scenario.staff()
        old, new = scenario.RENAMED
        for each in users:
            if each["userName"] == new:
                each["userName"], each["displayName"] = old, "Clover Pennington"
        groups = {
            name: [old if m == new else m for m in members]
            for name, members in scenario.groups(users).items()
        }
        self._push("POST", "/load", {"users": users, "groups": groups}, connect=True)
        self._follow_load(len(users) + len(groups))
        with self._step("Add applications and assign roles"):
            for application in scenario.APPLICATIONS:
                self._add_application(dravo, application)
            self._live_a_little(users)
        with self._step("Provision accounts"):
            self._settle(dravo)
        with self._step("Reconcile an application with manual changes"):
            self._drift(dravo)
        with self._step("Add local users, a group and an access review"):
            self._by_hand(dravo)
        if self.sources is not None:
            with self._step("Import the estates directory and the volunteers' register"):
                self.sources.load(dravo, wait_until)
        with self._step("Sign in contractors with SAML"):
            for key in self._application_keys():
                dravo.applications.change(key, address=f"{self.addresses[key]}/")
            contractors.load(dravo, self.addresses[contractors.KEY])
        with self._step("Sign in volunteers with an emailed code"):
            volunteers.load(dravo, self.url, self.addresses["mail"])
        with self._step("Invite guests"):
            emails.invite(dravo, self.url)
        with self._step("Provision the rest"):
            emails.announce(dravo)
            self._settle(dravo)
            emails.summarize(dravo)
        self.kept["loaded"] = True
        self._keep()

    def _push(self, method: str, path: str, body: Any = None, *, connect: bool = False) -> None:
        address = self.addresses["provider"]
        if connect:
            connection = {
                "base_url": f"{self.url}/scim/v2/{scenario.SOURCE_KEY}",
                "token": self.kept["push_token"],
            }
            http.put(f"{address}/connection", json=connection).raise_for_status()
        answer = http.request(method, f"{address}{path}", json=body, timeout=60)
        if answer.status_code >= 400:
            raise DemoFailed(
                f"The stand-in of the provider could not send users: {answer.text}",
                "See service.log in the data folder.",
            )

    def _follow_load(self, total: int) -> None:
        with Progress(
            TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), console=self.screen
        ) as shown:
            task = shown.add_task("Push users and groups", total=total)
            while True:
                status = http.get(f"{self.addresses['provider']}/progress").json()
                shown.update(task, completed=status["done"])
                if status["trouble"]:
                    raise DemoFailed(
                        f"The stand-in of the provider could not send users: {status['trouble']}",
                        "See service.log in the data folder.",
                    )
                if status["done"] >= total:
                    return
                time.sleep(0.05)

    def _add_application(self, dravo: Dravo, wanted: dict[str, Any]) -> None:
        key, owner = wanted["key"], wanted["owner"]
        if key in {each["key"] for each in dravo.applications.list()}:
            return
        if owner not in {each["name"] for each in dravo.operators.list()}:
            dravo.operators.add(owner, "application_owner", email=f"{owner}@{scenario.DOMAIN}")
        dravo.applications.add(
            key, wanted["label"], owner=owner, tracked_only=wanted.get("tracked_only", False)
        )
        for role, label, rank in wanted["roles"]:
            dravo.applications.add_role(key, role, label, rank)
        if wanted.get("stand_in"):
            self._already_there(key)
            days = wanted.get("token_days")
            ends = (datetime.now(UTC) + timedelta(days=days)).strftime("%Y-%m-%dT00:00:00Z") if days else None
            dravo.applications.connect(
                key, f"{self.addresses[key]}/scim/v2", self.kept["stand_ins"][key]["token"], expires_at=ends
            )
            dravo.applications.check(key)
            dravo.applications.change(key, enabled=True, **wanted["settings"])
        if wanted.get("requestable"):
            dravo.applications.change(key, requestable=True)
        for plan, label, rank, seats in wanted.get("plans", ()):
            dravo.applications.add_plan(key, plan, label, rank=rank, seats=seats)
        # Some of these roles are the highest ones, which are confirmed with the name of the application.
        source, label = scenario.SOURCE_KEY, wanted["label"]
        for group, role, *plan in wanted.get("groups", ()):
            dravo.assignments.add(
                key, role, source=source, group=group, plan=plan[0] if plan else None, confirm=label
            )
        for rule in wanted.get("rules", ()):
            dravo.assignments.add(key, **{"role": None, "source": source, **rule}, confirm=label)
        for user, role, note in wanted.get("users", ()):
            dravo.assignments.add(key, role, user=user, note=note, confirm=label)

    def _already_there(self, key: str) -> None:
        headers = {"Authorization": f"Bearer {self.kept['stand_ins'][key]['token']}"}
        for account in scenario.ALREADY_THERE.get(key, ()):
            http.post(f"{self.addresses[key]}/scim/v2/Users", json=account, headers=headers)

    def _live_a_little(self, users: list[dict[str, Any]]) -> None:
        """Change a name, let a user leave, and put a user on leave."""
        by_name = {each["userName"]: each for each in users}
        old, new = scenario.RENAMED
        married = {**by_name[old], "userName": new, "displayName": "Clover Pennington-Reyes"}
        self._push(
            "PUT",
            f"/users/{old}",
            {**married, "name": {"givenName": "Clover", "familyName": "Pennington-Reyes"}},
        )
        self._push("PUT", f"/users/{scenario.INACTIVE}", {**by_name[scenario.INACTIVE], "active": False})
        self._push("DELETE", f"/users/{scenario.LEAVER}")

    def _settle(self, dravo: Dravo) -> None:
        if not dravo.provisioning.summary(wait=60)["settled"]:
            raise DemoFailed(
                "Provisioning is still pending after 60 seconds.", "See service.log in the data folder."
            )

    def _drift(self, dravo: Dravo) -> None:
        """Accounts change in an application outside Dravo; a reconciliation finds it."""
        for key, changes in scenario.BY_OTHER_HANDS.items():
            address, headers = (
                f"{self.addresses[key]}/scim/v2/Users",
                {"Authorization": f"Bearer {self.kept['stand_ins'][key]['token']}"},
            )
            accounts = {
                each["userName"]: each
                for each in http.get(f"{self.addresses[key]}/status").json()["accounts"]
            }
            for name, change in changes.items():
                account = accounts[name]
                if change is None:
                    http.delete(f"{address}/{account['id']}", headers=headers)
                else:
                    http.put(f"{address}/{account['id']}", json={**account, **change}, headers=headers)
            for account in scenario.MADE_THERE.get(key, ()):
                http.post(address, json=account, headers=headers)
            run = dravo.applications.reconcile(key)["id"]
            wait_until(partial(_has_ended, dravo, run), "the reconciliation", 30)

    def _by_hand(self, dravo: Dravo) -> None:
        """Enter what operators enter: contractors, a local group, and a review in progress."""
        today = datetime.now(UTC).date()
        for each in scenario.CONTRACTORS:
            fields = {name: value for name, value in each.items() if name != "gives"}
            dravo.users.add(**fields)
            if "gives" in each:
                application, role, days = each["gives"]
                until = (today + timedelta(days=days)).isoformat()
                dravo.assignments.add(
                    application, role, user=each["user_name"], until=until, note="Until the project is done."
                )
        for key, left in scenario.BY_HAND.items():
            listed = dravo.manual_tasks.list(key)
            done = [each for each in listed if each["user"]["user_name"] not in left]
            dravo.manual_tasks.mark_done(key, done)
        wanted = scenario.LOCAL_GROUP
        group = dravo.groups.add(wanted["name"])["id"]
        dravo.groups.change_members(group, add=wanted["users"])
        dravo.assignments.add(*wanted["gives"], group=group)
        review = scenario.REVIEW
        begun = dravo.reviews.begin(
            review["label"], (today + timedelta(days=review["days"])).isoformat(), only=review["only"]
        )
        application, confirmed = review["confirmed"]
        rows = [
            row["id"]
            for row in dravo.reviews.rows(begun["id"], application=application)
            if row["user"]["user_name"] in confirmed
        ]
        dravo.reviews.decide(begun["id"], application, rows, "confirmed", note="Still leads the team.")

    def _reconnect(self, dravo: Dravo) -> None:
        """Save the new address of a stand-in whose port was taken."""
        self._push("GET", "/progress", connect=True)
        if self.sources is not None:
            self.sources.reconnect(dravo)
        contractors.reconnect(dravo, self.addresses[contractors.KEY])
        volunteers.connect(dravo, self.kept["stand_ins"]["smtp"]["port"])
        emails.connect(dravo, self.addresses["mail"])
        for application in scenario.APPLICATIONS:
            key = application["key"]
            if key in self.addresses:
                address = f"{self.addresses[key]}/scim/v2"
                if dravo.applications.get(key)["connection"]["base_url"] != address:
                    dravo.applications.connect(key, address, self.kept["stand_ins"][key]["token"])

    def _application_keys(self) -> list[str]:
        return [each["key"] for each in scenario.APPLICATIONS if each["key"] in self.addresses]
