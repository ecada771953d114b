"""A real directory that tests change as its keepers would, and an organization that reads it."""

from __future__ import annotations

import contextlib
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import ldap

from dravo.demo import directory, scenario
from dravo.demo.directory import Directory, group_dn, user_dn
from dravo.demo.support import free_port
from dravo.services.imports import config as import_config
from dravo.services.imports import run as import_run
from dravo.services.imports import runs as import_runs
from dravo.services.imports.config import ImportSettings
from dravo.services.imports.runs import ImportRunEntry
from dravo.services.ingest.run_log import RunOptions
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture


class Estates:
    """A running slapd."""

    def __init__(self, folder: Path, entries: str = "", **limits: Any) -> None:
        for remaining in (2, 1, 0):
            self.directory = Directory(folder, free_port(), free_port(), **limits)
            self.directory.prepare(entries)
            try:
                self.directory.start()
            except RuntimeError:
                # Somebody else took a port between finding it free and using it.
                if not remaining:
                    raise
                continue
            break
        self.keeper = self._sign_in()

    def _sign_in(self) -> Any:
        connection = ldap.initialize(self.directory.address)
        connection.simple_bind_s(directory.ADMIN, directory.ADMIN_PASSWORD)
        return connection

    @property
    def settings(self) -> dict[str, Any]:
        made = self.directory
        return {
            "address": made.address,
            "ca": made.ca,
            "bind_dn": directory.READER,
            "users_base": directory.USERS,
            "groups_base": directory.GROUPS,
        }

    def add_user(self, uid: str, given: str, family: str, **more: list[str]) -> None:
        shown = f"{given} {family}"
        values = {
            "objectClass": ["inetOrgPerson"],
            "uid": [uid],
            "cn": [shown],
            "sn": [family],
            "givenName": [given],
            "displayName": [shown],
            **more,
        }
        self.keeper.add_s(
            user_dn(uid),
            [(name, [each.encode() for each in given_values]) for name, given_values in values.items()],
        )

    def add_group(self, name: str, *members: str) -> None:
        self.keeper.add_s(
            group_dn(name),
            [
                ("objectClass", b"groupOfNames"),
                ("cn", name.encode()),
                ("member", [each.encode() for each in members]),
            ],
        )

    def change(self, dn: str, **values: list[str]) -> None:
        self.keeper.modify_s(
            dn,
            [(ldap.MOD_REPLACE, name, [each.encode() for each in given]) for name, given in values.items()],
        )

    def rename(self, uid: str, new: str) -> None:
        self.keeper.rename_s(user_dn(uid), f"uid={new}", delold=1)

    def remove(self, dn: str) -> None:
        self.keeper.delete_s(dn)

    def stop(self) -> None:
        self.keeper.unbind_s()
        self.directory.stop()

    def start(self) -> None:
        self.directory.start()
        self.keeper = self._sign_in()


@contextlib.contextmanager
def estates(folder: Path, entries: str = "", **limits: Any) -> Iterator[Estates]:
    made = Estates(folder, entries, **limits)
    try:
        yield made
    finally:
        made.stop()


def crowd(users: int, groups: int, each: int) -> str:
    """Return so many users of the scenario and groups of them, in LDIF; the same each time."""
    chance = random.Random(5)
    everyone = scenario.crowd(users)
    lines = [
        directory.user(
            p["userName"],
            p["name"]["givenName"],
            p["name"]["familyName"],
            {"mail": [p["emails"][0]["value"]], "title": [p["title"]]},
        )
        for p in everyone
    ]
    names = [p["userName"] for p in everyone]
    lines += [
        directory.group(f"Team {number}", [user_dn(name) for name in chance.sample(names, each)])
        for number in range(groups)
    ]
    return "".join(lines)


class Reading:
    """A organization that reads one source, in this process."""

    def __init__(
        self,
        services: ServiceFixture,
        kind: str,
        settings: dict[str, Any],
        secret: str = "",
        key: str = "estates",
        **more: Any,
    ) -> None:
        self.services, self.key = services, key
        self.source_id = services.source(key)
        given = {
            "kind": kind,
            "settings": settings,
            "secret": secret or None,
            "schedule": "",
            "enabled": True,
            **more,
        }
        import_config.change(services.ctx, services.caller, key, given)

    def change(self, **given: Any) -> ImportSettings:
        return import_config.change(self.services.ctx, self.services.caller, self.key, given)

    def run(self, confirmed: str | None = None, **how: Any) -> dict[str, Any]:
        """Read it now, and return the run with its counts by name."""
        run = import_runs.request_run(
            self.services.ctx, self.services.caller, self.key, RunOptions(**how), confirmed
        )
        import_run.carry_out(self.services.ctx, run.id)
        found = import_runs.one_run(self.services.ctx, run.id)
        return {**vars(found), **{each.name: each.number for each in found.counts}}

    def lines(self, run: dict[str, Any], kind: str | None = None) -> list[ImportRunEntry]:
        return list(
            import_runs.lines(self.services.ctx, self.key, run["id"], PageRequest(count=500), kind).items
        )

    def records(self) -> dict[str, Any]:
        """Return the present records by user name."""
        found = self.services.rows(t.record, source_id=self.source_id, connection_type="import")
        return {row.data["userName"]: row for row in found if row.deleted_at is None}

    def members(self, name: str) -> set[str]:
        """Return the user names, and names of groups, that a group lists."""
        with self.services.ctx.database.reading() as connection:
            group = connection.execute(
                t.group.select().where(t.group.c.display_name == name, t.group.c.deleted_at.is_(None))
            ).one()
            m = t.membership.c
            rows = connection.execute(
                t.membership.select().where(m.group_id == group.id, m.until_at.is_(None))
            ).all()
            users = {row.id: row.data["userName"] for row in connection.execute(t.record.select())}
            groups = {row.id: row.display_name for row in connection.execute(t.group.select())}
        return {users[row.record_id] if row.record_id else groups[row.inner_group_id] for row in rows}
