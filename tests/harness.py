"""Starts the real service and the real stand-ins on loopback, for tests that drive them from outside."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import re
import secrets
import signal
import subprocess
import sys
import threading
import time
import urllib.request
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import urljoin

import httpx
import lxml.html

from dravo.client import Dravo
from dravo.demo.application import TOKEN_VARIABLE, Application
from dravo.demo.http_server import Answer, Call, make_server
from dravo.demo.sign_in_provider import Identity
from dravo.demo.support import free_port
from dravo.services import settings
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.store.organization.settings import replace_value
from tests.service_fixture import open_context

CORE = "urn:ietf:params:scim:schemas:core:2.0:"
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
PASSWORD = "fern-hollow-gate-seven"

Seen = TypeVar("Seen")


def eventually(look: Callable[[], Seen], holds: Callable[[Seen], bool] = bool, seconds: float = 90.0) -> Seen:
    """Return what is seen as soon as it holds; fail, with what was seen last, if it does not in time."""
    end = time.monotonic() + seconds
    pause = 0.01
    seen = look()
    while not holds(seen):
        if time.monotonic() > end:
            raise AssertionError(f"it did not come about within {seconds:.0f} seconds; seen last: {seen!r}")
        time.sleep(pause)
        # What takes long is asked about seldom: asking takes time from the service that is waited for.
        pause = min(0.25, pause * 1.4)
        seen = look()
    return seen


@dataclass
class StandIn:
    """A running stand-in for an application."""

    port: int
    token: str

    @property
    def base_url(self) -> str:
        return f"http://127.0.0.1:{self.port}/scim/v2"

    def roles(self, name: str) -> list[str]:
        """Return the roles of an account by its user name; none if there is no such account."""
        return [role["value"] for role in self.accounts().get(name, {}).get("roles", [])]

    def accounts(self) -> dict[str, dict[str, Any]]:
        """Return every account there, by user name; fails if one user name is there twice."""
        found = self.status()["accounts"]
        by_name = {each["userName"]: each for each in found}
        assert len(by_name) == len(found), "the application has somebody twice"
        return by_name

    @property
    def headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.token}"}

    def faults(self, **faults: Any) -> None:
        httpx.post(f"http://127.0.0.1:{self.port}/faults", json=faults, trust_env=False).raise_for_status()

    def requests(self) -> list[dict[str, Any]]:
        return list(httpx.get(f"http://127.0.0.1:{self.port}/log", trust_env=False).json()["requests"])

    def groups(self) -> list[dict[str, Any]]:
        return list(self.status()["groups"])

    def status(self) -> dict[str, Any]:
        """Return all that it knows, beside its faults."""
        return dict(httpx.get(f"http://127.0.0.1:{self.port}/status", trust_env=False).json())

    def counted(self) -> dict[str, int]:
        # By the plainest way: it is asked often, also while something is measured.
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}/counts") as answer:
            return dict(json.load(answer))

    def create(self, **account: Any) -> str:
        made = httpx.post(f"{self.base_url}/Users", json=account, headers=self.headers, trust_env=False)
        return str(made.json()["id"])

    def change(self, account: str, body: dict[str, Any]) -> None:
        """Replace an account there, past Dravo."""
        url = f"{self.base_url}/Users/{account}"
        httpx.put(url, json=body, headers=self.headers, trust_env=False).raise_for_status()


@contextlib.contextmanager
def served(handle: Callable[[Call], Answer], port: int = 0) -> Iterator[int]:
    """Serve a stand-in on loopback from threads of this process, which start at once; give its port."""
    server = make_server("127.0.0.1", port, handle)
    threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
    try:
        yield int(server.server_address[1])
    finally:
        server.shutdown()
        server.server_close()


@contextlib.contextmanager
def stand_in(folder: Path, name: str = "Plant Records") -> Iterator[StandIn]:
    """Run a stand-in for an application from threads of this process."""
    token = secrets.token_hex(12)
    application = Application(name, token, folder / f"{secrets.token_hex(4)}.status")
    with served(application.handle) as port:
        yield StandIn(port, token)
    application.kept.close()


@contextlib.contextmanager
def stand_in_process(folder: Path, name: str = "Plant Records") -> Iterator[StandIn]:
    """Run a stand-in for an application as a process of its own: for tests that keep this process busy
    themselves.
    """
    token = secrets.token_hex(12)
    for _ in range(3):
        port = free_port()
        command = [sys.executable, "-m", "dravo.demo.application", "--name", name, "--port", str(port)]
        process = subprocess.Popen(
            [*command, "--data-file", str(folder / f"{port}.data")],
            stdin=subprocess.PIPE,
            env={**os.environ, TOKEN_VARIABLE: token},
        )
        url = f"http://127.0.0.1:{port}/"
        eventually(lambda url=url, process=process: answers(url) or process.poll() is not None)  # type: ignore[misc]
        if process.poll() is None:
            break
        # Somebody else took the port between finding it free and using it.
    try:
        yield StandIn(port, token)
    finally:
        process.kill()
        process.wait()


@dataclass
class SignInProvider:
    """A running stand-in for a provider at which users sign in."""

    url: str

    def put(self, path: str, body: Any) -> None:
        httpx.put(f"{self.url}/{path}", json=body, trust_env=False).raise_for_status()

    def user(
        self, name: str, given: str, family: str, groups: list[str], email: str | None = None, **more: Any
    ) -> None:
        email = email or f"{name}@rootworks.example"
        self.put(
            f"users/{name}", {"given": given, "family": family, "email": email, "groups": groups, **more}
        )

    def faults(self, **faults: Any) -> None:
        self.put("faults", faults)

    def signed_out(self) -> int:
        """How often somebody signed out here."""
        return int(httpx.get(self.url, trust_env=False).text.partition("Signed out: ")[2].partition(".")[0])

    def new_keys(self) -> None:
        httpx.post(f"{self.url}/keys", trust_env=False).raise_for_status()


@contextlib.contextmanager
def sign_in_provider(folder: Path) -> Iterator[SignInProvider]:
    """Run a stand-in for a provider at which users sign in, from threads of this process."""
    port = free_port()
    with served(Identity("Contractors", port, folder / f"{port}.data").handle, port):
        yield SignInProvider(f"http://127.0.0.1:{port}")


@dataclass
class Letters:
    """A running mail server that keeps what it took."""

    url: str
    smtp_port: int

    def to(self, address: str) -> list[dict[str, str]]:
        """Return the letters to an address, the newest first."""
        kept = httpx.get(f"{self.url}/letters", trust_env=False).json()
        return [each for each in kept if each["to"] == address]

    def code(self, address: str, letters: int = 1) -> str:
        """Return the code of the newest letter to an address, once so many came."""
        newest = eventually(lambda: self.to(address), lambda some: len(some) >= letters)[0]
        return re.findall(r"\d{4} \d{4}", newest["text"])[0]

    def link(self, address: str, path: str) -> str:
        """Return the newest link to a page in the letters to an address, without the address of the
        service.
        """
        newest = eventually(lambda: [each for each in self.to(address) if f"/{path}#" in each["text"]])[0]
        return re.findall(rf"/{path}#[\w-]+", newest["text"])[0]

    def faults(self, **faults: Any) -> None:
        httpx.put(f"{self.url}/faults", json=faults, trust_env=False).raise_for_status()


@contextlib.contextmanager
def mail_server(folder: Path) -> Iterator[Letters]:
    """Run a stand-in for a mail server."""
    port, smtp_port = free_port(), free_port()
    command = [
        sys.executable,
        "-m",
        "dravo.demo.mail_server",
        "--name",
        "Mail",
        "--port",
        str(port),
        "--smtp-port",
        str(smtp_port),
    ]
    process = subprocess.Popen([*command, "--data-file", str(folder / f"{port}.data")], stdin=subprocess.PIPE)
    try:
        eventually(lambda: answers(f"http://127.0.0.1:{port}/"))
        yield Letters(f"http://127.0.0.1:{port}", smtp_port)
    finally:
        process.kill()
        process.wait()


class Browser:
    """Goes the way of a browser by plain HTTP: follows, keeps cookies, posts the forms that it is given."""

    def __init__(self) -> None:
        self.http = httpx.Client(follow_redirects=True, timeout=60, trust_env=False)

    def sign_in(self, start: str, who: str) -> httpx.Response:
        """Begin at an address of ours, be somebody at the provider, and return what is shown in the end."""
        page = self.http.get(start)
        if page.status_code != 200 or "Who are you?" not in page.text:
            if 'id="on"' not in page.text:
                return page
            page = self.post(page)
        page = self.post(page, who=who)
        return self.post(page) if "SAMLResponse" in page.text else page

    def post(self, page: httpx.Response, **more: str) -> httpx.Response:
        form = lxml.html.fromstring(page.text).forms[0]
        fields = {field.get("name"): field.get("value") or "" for field in form.iter("input")}
        return self.http.post(urljoin(str(page.url), form.action), data={**fields, **more})


def answers(url: str) -> bool:
    """Whether a server answers at an address."""
    try:
        return httpx.get(url, trust_env=False).status_code < 500
    except httpx.HTTPError:
        return False


@dataclass
class Running:
    """A running service: its processes, its client, and ways to provider to it."""

    folder: Path
    port: int
    api_token: str
    process: subprocess.Popen[bytes] | None = None
    push_tokens: dict[str, str] = field(default_factory=dict)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def change_setting(self, name: str, value: int | str) -> None:
        """Change a setting past the API: for those that decide who may call it."""
        ctx = open_context(self.folder)
        settings.change(ctx, operators.SYSTEM, name, value)
        ctx.close()

    def start(self, *more: str) -> None:
        command = [
            sys.executable,
            "-m",
            "dravo.cli.main",
            "serve",
            "--data",
            str(self.folder),
            "--port",
            str(self.port),
            "--allow-loopback",
            *more,
        ]
        with open(self.folder / "service.log", "ab") as log:
            self.process = subprocess.Popen(command, stderr=log)
        # Starting takes the processor; on a busy machine, long.
        eventually(lambda: answers(f"{self.url}/readyz"))

    def stop(self) -> None:
        if self.process is not None:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(40)
            self.process = None

    def pid(self, name: str) -> int:
        lines = (self.folder / "processes").read_text().splitlines()
        return next(int(line.split()[1]) for line in lines if line.split()[0] == name)

    @property
    def dravo(self) -> Dravo:
        return Dravo(self.url, self.api_token)

    def provider(self, source: str) -> Provider:
        """Return a way to provider as a source, which is added if it does not exist yet."""
        if source not in self.push_tokens:
            with self.dravo as dravo:
                dravo.sources.add(source, f"{source.capitalize()} directory")
                self.push_tokens[source] = dravo.sources.add_token(source, "Provider")["token"]
        return Provider(f"{self.url}/scim/v2/{source}", self.push_tokens[source])

    def application(
        self,
        key: str,
        to: StandIn | None = None,
        roles: tuple[str, ...] = ("viewer", "curator"),
        **settings: Any,
    ) -> None:
        """Add an application with roles; connected to a stand-in and switched on, if there is one."""
        with self.dravo as dravo:
            dravo.applications.add(key, key.replace("-", " ").title())
            for number, role in enumerate(roles):
                dravo.applications.add_role(key, role, role.capitalize(), 10 * (number + 1))
            if to is not None:
                dravo.applications.connect(key, to.base_url, to.token)
                dravo.applications.change(key, enabled=True, **settings)

    def settled(self, application: str | None = None, seconds: float = 90.0) -> None:
        """Wait until no provisioning is pending, of one application or of all."""
        with self.dravo as dravo:
            summary = dravo.provisioning.summary(application, wait=seconds)
        assert summary["settled"], f"still pending after {seconds:.0f} seconds: {summary}"


class Provider:
    """A provider's view of inbound SCIM, by plain HTTP."""

    def __init__(self, base_url: str, token: str) -> None:
        self.base_url = base_url
        self.http = httpx.Client(
            base_url=base_url, headers={"Authorization": f"Bearer {token}"}, timeout=60, trust_env=False
        )

    def user(self, user_name: str, **attributes: Any) -> str:
        answer = self.http.post(
            "/Users", json={"schemas": [CORE + "User"], "userName": user_name, "active": True, **attributes}
        )
        assert answer.status_code == 201, answer.text
        return str(answer.json()["id"])

    def group(self, name: str, members: list[str] | None = None) -> str:
        listed = [{"value": each} for each in members or []]
        answer = self.http.post(
            "/Groups", json={"schemas": [CORE + "Group"], "displayName": name, "members": listed}
        )
        assert answer.status_code == 201, answer.text
        return str(answer.json()["id"])

    def patch(self, path: str, *operations: dict[str, Any]) -> httpx.Response:
        return self.http.patch(path, json={"schemas": [PATCH], "Operations": list(operations)})

    def add(self, group: str, *members: str) -> None:
        listed = [{"value": each} for each in members]
        answer = self.patch(f"/Groups/{group}", {"op": "add", "path": "members", "value": listed})
        assert answer.status_code == 204, answer.text

    def take_out(self, group: str, member: str) -> None:
        answer = self.patch(f"/Groups/{group}", {"op": "remove", "path": f'members[value eq "{member}"]'})
        assert answer.status_code == 204, answer.text

    def set_active(self, user: str, active: bool) -> None:
        answer = self.patch(f"/Users/{user}", {"op": "replace", "path": "active", "value": active})
        assert answer.status_code == 200, answer.text


def set_up(folder: Path) -> Running:
    """Return a service that is set up with an operator and a token, not yet started."""
    ctx = open_context(folder)
    made = operators.add(ctx, operators.SYSTEM, NewOperator("edmund.sallow", SUPER_ADMINISTRATOR), PASSWORD)
    with ctx.database.writing() as connection:
        # Tests of the confirmation choose their own number.
        replace_value(connection, "highest_role_confirmation", 11)
    token = api_tokens.create(ctx, Caller(made.id, made.name, SUPER_ADMINISTRATOR), "Tests", "write").token
    ctx.close()
    return Running(folder, free_port(), token)


@contextlib.contextmanager
def service(folder: Path) -> Iterator[Running]:
    """Run a service on a new data folder."""
    running = set_up(folder)
    running.start()
    try:
        yield running
    finally:
        running.stop()


class RunningDemo:
    """The demo as a process of its own, on a folder that is kept for its next start."""

    def __init__(self, folder: Path, port: int, first_start: str = "") -> None:
        # What it printed when the folder was new.
        self.first_start = first_start
        ready_file = folder.with_name(f"{folder.name}-ready.json")
        ready_file.unlink(missing_ok=True)
        command = [
            sys.executable,
            "-m",
            "dravo.cli.main",
            "demo",
            "--data",
            str(folder),
            "--port",
            str(port),
            "--ready-file",
            str(ready_file),
        ]
        began = time.monotonic()
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        eventually(lambda: ready_file.exists() or self.process.poll() is not None, seconds=180)
        if self.process.poll() is not None:
            raise AssertionError(f"the demo ended: {self.process.communicate()[0]}")
        self.seconds = time.monotonic() - began
        self.ready_file_mode = oct(ready_file.stat().st_mode)[-3:]
        self.ready: dict[str, Any] = json.loads(ready_file.read_text())

    @property
    def url(self) -> str:
        return str(self.ready["url"])

    @property
    def dravo(self) -> Dravo:
        return Dravo(self.url, self.ready["api_token"])

    def stop(self) -> str:
        """End it as Ctrl-C does; return what it printed."""
        self.process.send_signal(signal.SIGINT)
        return self.process.communicate(timeout=60)[0]


@contextlib.contextmanager
def prepared_demo(prepared: Path, folder: Path) -> Iterator[RunningDemo]:
    """Run a demo on a copy of prepared data; the first test of all workers that asks has it prepared.

    Args:
        prepared: a folder that all workers share.
        folder: a new folder of the caller.
    """
    prepared.mkdir(exist_ok=True)
    with open(prepared / "lock", "a") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (prepared / "first-start.txt").exists():
            demo = RunningDemo(prepared / "demo", free_port())
            seconds = demo.seconds
            (prepared / "first-start.txt").write_text(f"{seconds}\n{demo.stop()}")
        # The directory's file is 2 GB with almost nothing in it; a copy with holes stays small.
        subprocess.run(
            ["cp", "--recursive", "--sparse=always", str(prepared / "demo"), str(folder)], check=True
        )
    # Copies run side by side: each gets ports of its own.
    kept = json.loads((folder / "demo.json").read_text())
    for stand_in in kept["stand_ins"].values():
        stand_in["port"] = free_port()
    (folder / "demo.json").write_text(json.dumps(kept))
    running = RunningDemo(folder, free_port(), (prepared / "first-start.txt").read_text())
    try:
        yield running
    finally:
        running.stop()
