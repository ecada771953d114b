"""B2, B3 and B8: first and second import of a directory with 50,000 users, against `ldapsearch` and one bulk
INSERT of the same rows.

Another import runs while pages are read and users created over SCIM.
"""

from __future__ import annotations

import itertools
import random
import subprocess
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import httpx
from sqlalchemy import insert, select

from dravo.core.instants import seconds_between
from dravo.demo import directory, scenario
from dravo.demo.directory import Directory
from dravo.demo.support import free_port
from dravo.services.context import AppContext
from dravo.store import tables as t
from tests import harness
from tests.harness import Running

USERS, GROUPS, GROUPS_EACH = 50_000, 500, 5
SAME_ROWS = (t.user, t.record, t.group, t.membership)


def fill(folder: Path) -> Directory:
    """Return a running directory with all users and groups."""
    chance = random.Random(3)
    users = scenario.crowd(USERS)
    names = [each["userName"] for each in users]
    entries = [
        directory.user(
            each["userName"],
            each["name"]["givenName"],
            each["name"]["familyName"],
            {
                "mail": [each["emails"][0]["value"]],
                "title": [each["title"]],
                "ou": [each[scenario.ENTERPRISE]["department"]],
                "employeeNumber": [each[scenario.ENTERPRISE]["employeeNumber"]],
            },
        )
        for each in users
    ]
    size = USERS * GROUPS_EACH // GROUPS
    entries += [
        directory.group(f"Group {number}", [directory.user_dn(each) for each in chance.sample(names, size)])
        for number in range(GROUPS)
    ]
    running = Directory(folder, free_port(), free_port())
    running.prepare("".join(entries))
    running.start()
    return running


def time_search(server: Directory) -> float:
    """Return the seconds that `ldapsearch` takes to read the same: the best of three."""
    command = [
        "ldapsearch",
        "-x",
        "-H",
        server.address,
        "-D",
        directory.READER,
        "-w",
        directory.READER_PASSWORD,
        "-LLL",
        "-E",
        "pr=1000/noprompt",
    ]
    names = [
        "entryUUID",
        "modifyTimestamp",
        "uid",
        "displayName",
        "cn",
        "givenName",
        "sn",
        "mail",
        "title",
        "ou",
        "employeeNumber",
        "member",
    ]
    durations = []
    for _ in range(3):
        began = time.perf_counter()
        wanted = "(|(objectClass=inetOrgPerson)(objectClass=groupOfNames))"
        subprocess.run(
            [*command, "-b", directory.SUFFIX, wanted, *names], check=True, stdout=subprocess.DEVNULL
        )
        durations.append(time.perf_counter() - began)
    return min(durations)


def time_insert(folder: Path) -> float:
    """Return the seconds to insert the rows of the first import, in bulk, in one transaction, into an empty
    database.
    """
    ctx = AppContext(folder)
    rows = {}
    with ctx.database.reading() as connection:
        sources = [dict(row._mapping) for row in connection.execute(select(t.source))]
        for table in SAME_ROWS:
            rows[table] = [dict(row._mapping) for row in connection.execute(select(table))]
    ctx.close()
    with tempfile.TemporaryDirectory() as empty:
        other = AppContext(Path(empty))
        began = time.perf_counter()
        with other.database.writing() as connection:
            connection.execute(insert(t.source), sources)
            for table, some in rows.items():
                connection.execute(insert(table), some)
        seconds = time.perf_counter() - began
        other.close()
    return seconds


class OtherLoad:
    """Requests a page and creates users over SCIM while an import runs; measures each request."""

    def __init__(self, running: Running) -> None:
        self.durations: dict[str, list[float]] = {"page": [], "post": []}
        self._stopped = threading.Event()
        provider = running.provider("staff")
        api = httpx.Client(
            base_url=f"{running.url}/api/v1",
            headers={"Authorization": f"Bearer {running.api_token}"},
            timeout=60,
            trust_env=False,
        )
        numbers = itertools.count()
        work = {"page": lambda: api.get("/users"), "post": lambda: provider.user(f"created.{next(numbers)}")}
        self._threads = [
            threading.Thread(target=self._repeat, args=(name, each), daemon=True)
            for name, each in work.items()
        ]

    def _repeat(self, name: str, work: Any) -> None:
        while not self._stopped.is_set():
            began = time.perf_counter()
            work()
            self.durations[name].append((time.perf_counter() - began) * 1_000)
            self._stopped.wait(0.05)

    def __enter__(self) -> OtherLoad:
        for each in self._threads:
            each.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stopped.set()
        for each in self._threads:
            each.join()

    def p95(self, name: str) -> float:
        """Return the 95th percentile of the milliseconds."""
        durations = sorted(self.durations[name])
        return durations[int(len(durations) * 0.95)]


def connect(running: Running, server: Directory) -> None:
    """Add the directory as a source."""
    settings = {
        "address": server.address,
        "ca": server.ca,
        "bind_dn": directory.READER,
        "users_base": directory.USERS,
        "groups_base": directory.GROUPS,
    }
    with running.dravo as dravo:
        dravo.sources.add("estates", "Estates directory")
        dravo.sources.change_import(
            "estates",
            kind="ldap",
            settings=settings,
            secret=directory.READER_PASSWORD,
            schedule="",
            enabled=True,
        )


def run_import(running: Running, **options: Any) -> tuple[dict[str, Any], float]:
    """Run an import; return the run and its seconds."""
    with running.dravo as dravo:
        run = dravo.sources.start_run("estates", **options)
        while run["ended_at"] is None:
            time.sleep(0.2)
            run = dravo.sources.run("estates", run["id"])
    assert run["status"] == "done", run
    return dict(run), seconds_between(run["started_at"], run["ended_at"])


def change_titles(server: Directory, number: int) -> None:
    """Change the title of the first `number` users."""
    lines = [
        f"dn: {directory.user_dn(each['userName'])}\nchangetype: modify\nreplace: title\ntitle: Keeper\n\n"
        for each in scenario.crowd(USERS)[:number]
    ]
    command = [
        "ldapmodify",
        "-x",
        "-H",
        server.address,
        "-D",
        directory.ADMIN,
        "-w",
        directory.ADMIN_PASSWORD,
    ]
    subprocess.run(command, input="".join(lines), text=True, check=True, stdout=subprocess.DEVNULL)


def memory(running: Running) -> int:
    """Return the largest memory of the worker, in MB."""
    status = Path(f"/proc/{running.pid('worker')}/status").read_text()
    return int(status.partition("VmHWM:")[2].split()[0]) // 1024


def run() -> None:
    """Print the figures."""
    print(f"Import of a directory: {USERS:,} users, {GROUPS} groups, {USERS * GROUPS_EACH:,} memberships")
    with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").exists() else None) as folder:
        server = fill(Path(folder) / "directory")
        try:
            _run(Path(folder) / "organization", server)
        finally:
            server.stop()


def _run(folder: Path, server: Directory) -> None:
    search = time_search(server)
    with harness.service(folder) as running:
        connect(running, server)
        # modifyTimestamp has whole seconds: wait, so that later changes differ from the first load.
        time.sleep(1.1)
        change_titles(server, 1)
        _, first = run_import(running)
        time.sleep(1.1)
        change_titles(server, USERS // 100)
        delta, second = run_import(running)
        _, whole = run_import(running, whole=True)
        highest = memory(running)
    insert_all = time_insert(folder)
    bare = search + insert_all
    print(
        f"  first import {first:.1f} s; ldapsearch {search:.2f} s and insert {insert_all:.1f} s: "
        f"{first / bare:.2f} times (goal: at most 3)"
    )
    print(
        f"  1 % changed ({delta['progress']:,} read) {second:.2f} s: {second / search:.2f} times "
        "ldapsearch (goal: at most 1.5)"
    )
    print(f"  complete import again {whole:.1f} s: {whole / search:.2f} times ldapsearch")
    print(f"  largest memory of the worker: {highest} MB (goal: under 400)")
    with harness.service(folder.with_name("second")) as running:
        connect(running, server)
        with OtherLoad(running) as load:
            _, seconds = run_import(running)
        page, post = load.p95("page"), load.p95("post")
        print(
            f"  p95 during an import of {seconds:.1f} s: page {page:.0f} ms, POST of a user {post:.0f} ms "
            "(goal: under 200)"
        )
