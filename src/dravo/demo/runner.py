"""`dravo demo`: the service, the stand-ins, and the scenario, loaded through the real inbound SCIM."""

from __future__ import annotations

import json
import os
import secrets
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any

import httpx
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn
from tenacity import (
    RetryError,
    Retrying,
    retry_if_exception_type,
    retry_if_not_result,
    stop_after_delay,
    wait_fixed,
)

from dravo.client import ApiError, Dravo
from dravo.core.errors import DravoError
from dravo.demo import contractors, scenario, volunteers
from dravo.demo.application import TOKEN_VARIABLE
from dravo.demo.import_sources import Sources
from dravo.demo.loopback import http
from dravo.logs import configure
from dravo.services.context import AppContext
from dravo.services.data_folder import PRIVATE_UMASK
from dravo.services.security import api_tokens, operators
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.supervisor import Service, ServiceAddress, folder_lock, load

FILE = "demo.json"
OPERATOR = "edmund.sallow"


class DemoFailed(DravoError):
    """The demo could not be set up."""

    code = "demo_failed"


class Demo:
    """One demo in a data folder; what it needs for the next start is in a file that only its owner can
    read.
    """

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

    def run(self) -> None:
        """Set up what is missing, start everything, and serve until interrupted."""
        started = time.monotonic()
        os.umask(PRIVATE_UMASK)
        with folder_lock(self.folder):
            log = open(self.folder / "service.log", "a")  # noqa: SIM115 (the children keep it open)
            configure("serve", log)
            address = ServiceAddress("127.0.0.1", self.port)
            service = Service(self.folder, address, log_file=log, allow_loopback=True)
            self.service = service
            service.listen()
            signal.signal(signal.SIGTERM, lambda *_: service.stop_soon())
            signal.signal(signal.SIGINT, lambda *_: service.stop_soon())
            try:
                # They start while this process sets up the data folder.
                with self._step("Prepare the stand-ins"):
                    self._start_stand_ins()
                if "operator" not in self.kept:
                    with self._step("Set up the data folder"):
                        self._make_operator()
                with self._step("Load the service"):
                    load()
                # Outside of a step, whose progress is shown by a thread.
                service.start()
                with self._step("Start the service"):
                    wait_until(
                        lambda: bool(service.ended()) or http.get(f"{self.url}/readyz").status_code == 200,
                        "the service",
                        90,
                    )
                    if service.ended():
                        raise DemoFailed(
                            "The service could not start.", "See service.log in the data folder."
                        )
                with self._step("Start the stand-ins"):
                    self._wait_for_stand_ins()
                with Dravo(self.url, self.kept["api_token"]) as dravo:
                    if not self.kept.get("loaded"):
                        self._load(dravo)
                    self._reconnect(dravo)
                self._write_ready_file()
                self._say_where(time.monotonic() - started)
                service.watch()
            finally:
                service.stop()
                if self.sources is not None:
                    self.sources.stop()
                for child in self.stand_ins.values():
                    child.kill()

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

    def _make_operator(self) -> None:
        ctx = AppContext(self.folder)
        made = operators.add(ctx, operators.SYSTEM, operators.NewOperator(OPERATOR, SUPER_ADMINISTRATOR))
        caller = Caller(made.id, made.name, SUPER_ADMINISTRATOR)
        token = api_tokens.create(ctx, caller, "Demo", "write")
        ctx.close()
        self.kept |= {
            "operator": {"name": OPERATOR, "password": made.password},
            "api_token": token.token,
        }
        self._keep()

    def _start_stand_ins(self) -> None:
        self.kept.setdefault("stand_ins", {})
        self._start("provider", "dravo.demo.scim_provider", "Fernhollow staff provider")
        for application in scenario.APPLICATIONS:
            if application.get("stand_in"):
                self._start(application["key"], "dravo.demo.application", application["label"])
        self._start(
            contractors.KEY, "dravo.demo.sign_in_provider", "Rootworks sign-in provider (contractors)"
        )
        smtp = self.kept["stand_ins"].setdefault("smtp", {"port": self.port + 32})
        if not free(smtp["port"]):
            smtp["port"] = free_port()
        self._start("mail", "dravo.demo.mail_server", "Sent emails", "--smtp-port", str(smtp["port"]))
        kept = self.kept["stand_ins"].setdefault("estates", {"port": self.port + 30})
        if not free(kept["port"]) or not free(kept["port"] + 1):
            kept["port"] = free_port()
        self.sources = Sources(self.folder, kept["port"])
        self.sources.start()
        self._keep()

    def _wait_for_stand_ins(self) -> None:
        for name, address in self.addresses.items():
            wait_until(partial(_answers, address), f"the stand-in '{name}'", 20)

    def _start(self, key: str, module: str, label: str, *more: str) -> None:
        kept = self.kept["stand_ins"].setdefault(
            key, {"token": secrets.token_hex(24), "port": self.port + 10 + len(self.addresses)}
        )
        # Bound here, so that nothing else can have the port, and nothing else answers in place of the
        # stand-in.
        listening = listen_near(kept["port"])
        kept["port"] = listening.getsockname()[1]
        command = [
            sys.executable,
            "-m",
            module,
            "--name",
            label,
            "--port",
            str(kept["port"]),
            "--listening",
            str(listening.fileno()),
        ]
        command += ["--data-file", str(self.folder / f"stand-in-{key}"), *more]
        # A process's arguments are for every user of the machine to read; its environment is not.
        environment = {**os.environ, TOKEN_VARIABLE: kept["token"]}
        # In sessions of their own: Ctrl-C in a terminal is for this process, which ends them.
        with listening:
            self.stand_ins[key] = subprocess.Popen(
                command,
                stdin=subprocess.PIPE,
                start_new_session=True,
                env=environment,
                pass_fds=[listening.fileno()],
            )
        self.addresses[key] = f"http://127.0.0.1:{kept['port']}"
        self._keep()

    def _load(self, dravo: Dravo) -> None:
        """Load the scenario: applications as an administrator adds them, users through inbound SCIM."""
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
            volunteers.connect(dravo, self.kept["stand_ins"]["smtp"]["port"])
            volunteers.load(dravo, self.url, self.addresses["mail"])
        with self._step("Provision the rest"):
            self._settle(dravo)
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
        key = wanted["key"]
        if key in {each["key"] for each in dravo.applications.list()}:
            return
        dravo.applications.add(
            key, wanted["label"], owner=wanted["owner"], tracked_only=wanted.get("tracked_only", False)
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
        for plan, label, rank, seats in wanted.get("plans", ()):
            dravo.applications.add_plan(key, plan, label, rank=rank, seats=seats)
        for group, role, *plan in wanted.get("groups", ()):
            dravo.assignments.add(
                key, role, source=scenario.SOURCE_KEY, group=group, plan=plan[0] if plan else None
            )
        for rule in wanted.get("rules", ()):
            dravo.assignments.add(key, **{"role": None, "source": scenario.SOURCE_KEY, **rule})
        for user, role, note in wanted.get("users", ()):
            dravo.assignments.add(key, role, user=user, note=note)

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
        for application in scenario.APPLICATIONS:
            key = application["key"]
            if key in self.addresses:
                address = f"{self.addresses[key]}/scim/v2"
                if dravo.applications.get(key)["connection"]["base_url"] != address:
                    dravo.applications.connect(key, address, self.kept["stand_ins"][key]["token"])

    def _application_keys(self) -> list[str]:
        return [each["key"] for each in scenario.APPLICATIONS if each["key"] in self.addresses]

    def _write_ready_file(self) -> None:
        if self.ready_file is None:
            return
        applications = [
            {
                "key": key,
                "base_url": f"{self.addresses[key]}/scim/v2",
                "token": self.kept["stand_ins"][key]["token"],
            }
            for key in self._application_keys()
        ]
        write_private(
            self.ready_file,
            {
                "url": self.url,
                "operator": self.kept["operator"],
                "api_token": self.kept["api_token"],
                "push": [
                    {
                        "source": scenario.SOURCE_KEY,
                        "base_url": f"{self.url}/scim/v2/{scenario.SOURCE_KEY}",
                        "token": self.kept["push_token"],
                    }
                ],
                "applications": applications,
                "stand_ins": self.addresses,
                "try": scenario.TRY,
            },
        )

    def _say_where(self, seconds: float) -> None:
        operator = self.kept["operator"]
        say = self.screen.print
        say(f"\n[bold]Dravo is running[/bold] (up in {seconds:.1f} s).\n", highlight=False)
        say(f"  Console      {self.url}/", highlight=False)
        say(f"  Sign in as   {operator['name']}   password   {operator['password']}", highlight=False)
        say(f"  API          {self.url}/api/v1/   (documentation, works offline)", highlight=False)
        for name, address in self.addresses.items():
            say(f"  Stand-in     {address}/   ({name})", highlight=False)
        if self.sources is not None and self.sources.directory is not None:
            say(f"  Directory    {self.sources.directory.address}   (estates, slapd)", highlight=False)
        say("\nThe command line, in another terminal:\n", highlight=False)
        say(
            f"  export DRAVO_URL={self.url} DRAVO_TOKEN={self.kept['api_token']}",
            highlight=False,
            soft_wrap=True,
        )
        say("  .venv/bin/dravo access why zofia.wisniarska plant-records\n", highlight=False)
        say(
            "Stop with Ctrl-C. The next start continues with the same data; 'make demo-fresh' starts "
            "with new data.",
            highlight=False,
        )


def write_private(path: Path, content: Any) -> None:
    """Write JSON into a file that only its owner can read; a program that waits for the file sees it
    complete.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(path.name + ".part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump(content, file, indent=2)
    part.replace(path)


def listen_near(port: int) -> socket.socket:
    """Return a listening socket on loopback at a port, or at another one if that is taken."""
    while True:
        try:
            return socket.create_server(("127.0.0.1", port), backlog=256)
        except OSError:
            port = free_port()


def free(port: int) -> bool:
    """Whether nothing listens at a port of this machine."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
        return True


def free_port() -> int:
    """Return a free port of this machine outside of the range for outgoing connections."""
    while not free(port := 16_000 + secrets.randbelow(16_000)):
        pass
    return port


def _answers(address: str) -> bool:
    return http.get(address).status_code == 200


def _has_ended(dravo: Dravo, run: str) -> bool:
    return dravo.applications.run(run)["ended_at"] is not None


def wait_until(holds: Callable[[], bool], what: str, seconds: float) -> None:
    """Wait until a condition holds.

    Raises:
        DemoFailed: if it does not hold in time.
    """
    again = retry_if_exception_type(httpx.HTTPError) | retry_if_not_result(bool)
    try:
        Retrying(stop=stop_after_delay(seconds), wait=wait_fixed(0.05), retry=again)(holds)
    except RetryError:
        raise DemoFailed(
            f"No result for {what} after {seconds:.0f} seconds.", "See service.log in the data folder."
        ) from None


def run_demo(folder: Path, port: int, ready_file: Path | None) -> None:
    """Run the demo until interrupted."""
    Demo(folder, port, ready_file, Console()).run()
