"""B2, B3 and B8: a directory of 50,000 users read for the first time and again, against `ldapsearch` and one
bulk insert of the same rows.

Meanwhile pages are looked at and users pushed through the same service.
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
from dravo.demo.runner import free_port
from dravo.services.context import AppContext
from dravo.store import tables as t
from tests import harness
from tests.harness import Running

USERS, GROUPS, GROUPS_EACH = 50_000, 500, 5
SAME_ROWS = (t.user, t.record, t.group, t.membership)


def fill(folder: Path) -> Directory:
    """Return a running directory with everyone in it."""
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
    made = Directory(folder, free_port(), free_port())
    made.prepare("".join(entries))
    made.start()
    return made


def searched(made: Directory) -> float:
    """Return the seconds in which `ldapsearch` reads the same: the best of three."""
    command = [
        "ldapsearch",
        "-x",
        "-H",
        made.address,
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
    taken = []
    for _ in range(3):
        began = time.perf_counter()
        wanted = "(|(objectClass=inetOrgPerson)(objectClass=groupOfNames))"
        subprocess.run(
            [*command, "-b", directory.SUFFIX, wanted, *names], check=True, stdout=subprocess.DEVNULL
        )
        taken.append(time.perf_counter() - began)
    return min(taken)


def inserted(folder: Path) -> float:
    """Return the seconds in which the rows that a first reading left are inserted, in bulk and in one
    transaction, into an empty organization.
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
        taken = time.perf_counter() - began
        other.close()
    return taken


class Meanwhile:
    """Looks at pages and pushes users while something else goes on, and notes how long each takes."""

    def __init__(self, running: Running) -> None:
        self.taken: dict[str, list[float]] = {"page": [], "push": []}
        self._stopped = threading.Event()
        provider = running.provider("staff")
        api = httpx.Client(
            base_url=f"{running.url}/api/v1",
            headers={"Authorization": f"Bearer {running.api_token}"},
            timeout=60,
            trust_env=False,
        )
        numbers = itertools.count()
        work = {"page": lambda: api.get("/users"), "push": lambda: provider.user(f"pushed.{next(numbers)}")}
        self._threads = [
            threading.Thread(target=self._go_on, args=(name, each), daemon=True)
            for name, each in work.items()
        ]

    def _go_on(self, name: str, work: Any) -> None:
        while not self._stopped.is_set():
            began = time.perf_counter()
            work()
            self.taken[name].append((time.perf_counter() - began) * 1_000)
            self._stopped.wait(0.05)

    def __enter__(self) -> Meanwhile:
        for each in self._threads:
            each.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stopped.set()
        for each in self._threads:
            each.join()

    def p95(self, name: str) -> float:
        """Return the milliseconds within which 95 of 100 were done."""
        taken = sorted(self.taken[name])
        return taken[int(len(taken) * 0.95)]


def connect(running: Running, made: Directory) -> None:
    """Add the directory as a source."""
    settings = {
        "address": made.address,
        "ca": made.ca,
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


def read(running: Running, **how: Any) -> tuple[dict[str, Any], float]:
    """Have the directory be read; returns the run and its seconds."""
    with running.dravo as dravo:
        run = dravo.sources.start_run("estates", **how)
        while run["ended_at"] is None:
            time.sleep(0.2)
            run = dravo.sources.run("estates", run["id"])
    assert run["status"] == "done", run
    return dict(run), seconds_between(run["started_at"], run["ended_at"])


def change(made: Directory, number: int) -> None:
    """Give so many users another title."""
    lines = [
        f"dn: {directory.user_dn(each['userName'])}\nchangetype: modify\nreplace: title\ntitle: Keeper\n\n"
        for each in scenario.crowd(USERS)[:number]
    ]
    command = ["ldapmodify", "-x", "-H", made.address, "-D", directory.ADMIN, "-w", directory.ADMIN_PASSWORD]
    subprocess.run(command, input="".join(lines), text=True, check=True, stdout=subprocess.DEVNULL)


def memory(running: Running) -> int:
    """Return the megabytes that the worker had at its highest."""
    status = Path(f"/proc/{running.pid('worker')}/status").read_text()
    return int(status.partition("VmHWM:")[2].split()[0]) // 1024


def run() -> None:
    """Print the figures."""
    print(f"Reading a directory: {USERS:,} users, {GROUPS} groups, {USERS * GROUPS_EACH:,} memberships")
    with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").exists() else None) as folder:
        made = fill(Path(folder) / "directory")
        try:
            _run(Path(folder) / "organization", made)
        finally:
            made.stop()


def _run(folder: Path, made: Directory) -> None:
    search = searched(made)
    with harness.service(folder) as running:
        connect(running, made)
        # A directory counts whole seconds, and all was loaded within a few: what changes now is told from
        # what was there.
        time.sleep(1.1)
        change(made, 1)
        _, first = read(running)
        time.sleep(1.1)
        change(made, USERS // 100)
        again, second = read(running)
        _, whole = read(running, whole=True)
        highest = memory(running)
    insert_all = inserted(folder)
    bare = search + insert_all
    print(
        f"  first reading {first:.1f} s; ldapsearch {search:.2f} s and insert {insert_all:.1f} s: "
        f"{first / bare:.2f} times (goal: at most 3)"
    )
    print(
        f"  1 % changed ({again['progress']:,} read) {second:.2f} s: {second / search:.2f} times "
        "ldapsearch (goal: at most 1.5)"
    )
    print(f"  everyone again {whole:.1f} s: {whole / search:.2f} times ldapsearch")
    print(f"  memory of the worker at its highest: {highest} MB (goal: under 400)")
    with harness.service(folder.with_name("second")) as running:
        connect(running, made)
        with Meanwhile(running) as meanwhile:
            _, disturbed = read(running)
        page, push = meanwhile.p95("page"), meanwhile.p95("push")
        print(
            f"  meanwhile, p95: a page {page:.0f} ms, a push {push:.0f} ms (goal: under 200); read in "
            f"{disturbed:.1f} s"
        )
