"""A organization of one's own, in this process: services on a real file, without a server around them."""

from __future__ import annotations

import functools
import shutil
import tempfile
from pathlib import Path
from typing import Any

from dravo.core.scim.patches import read_operations
from dravo.core.scim.resources import read_resource
from dravo.core.scim.schemas import GROUP, USER
from dravo.services import settings
from dravo.services.applications import applications
from dravo.services.applications import roles as provisioning_roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.context import AppContext
from dravo.services.ingest import conflicts
from dravo.services.ingest.intake import Intake
from dravo.services.security import operators
from dravo.services.security.secrets import KEY_FILE
from dravo.services.sources import sources
from dravo.services.sources.sources import SourceChange
from dravo.store import tables as t
from dravo.store.database import FILE_NAME
from dravo.store.organization.settings import replace_value
from dravo.store.pagination import PageRequest


def open_context(folder: Path) -> AppContext:
    """Return an organization; the tables of a new one are copied: going through every migration is long, and
    tests of its own do.
    """
    folder.mkdir(parents=True, exist_ok=True)
    if not (folder / FILE_NAME).exists():
        for name in (FILE_NAME, KEY_FILE):
            shutil.copy(Path(_template().name) / name, folder / name)
    # Crash safety is proved by the fault tests, whose services write in full; here it would only take time.
    return AppContext(folder, durable=False)


@functools.cache
def _template() -> tempfile.TemporaryDirectory[str]:
    made = tempfile.TemporaryDirectory()
    AppContext(Path(made.name), durable=False).close()
    return made


class ServiceFixture:
    """A organization with shortcuts for what most tests of services need."""

    def __init__(self, folder: Path) -> None:
        self.ctx = open_context(folder)
        with self.ctx.database.writing() as connection:
            # Tests of the confirmation choose their own number.
            replace_value(connection, "highest_role_confirmation", 11)
        self.caller = operators.SYSTEM
        self.intake = Intake(self.ctx.database, self.ctx.catalogue, keys=self.ctx.keys)

    def unguarded(self) -> ServiceFixture:
        """Have the removal limit hold nothing: for tests that take away from many and mean something else."""
        for name, value in (
            ("removal_limit_number", 1_000_000),
            ("removal_limit_percent", 100),
            ("removal_limit_minimum", 1_000),
            ("highest_role_confirmation", 1_000_000),
        ):
            settings.change(self.ctx, self.caller, name, value)
        return self

    def source(self, key: str = "staff", *domains: str) -> str:
        """Add a source, with the domains that it owns, and return its id."""
        sources.add(self.ctx, self.caller, key, key.title())
        if domains:
            sources.change(self.ctx, self.caller, key, SourceChange(domains=domains))
        with self.ctx.database.reading() as connection:
            return str(connection.execute(t.source.select().where(t.source.c.key == key)).one().id)

    def application(self, key: str = "records", *roles: str, **settings: Any) -> None:
        """Add an application with roles, as yet without a connection."""
        applications.add(self.ctx, self.caller, key, key.title(), None, tracked_only=False)
        for number, role in enumerate(roles or ("viewer", "curator")):
            provisioning_roles.add_role(self.ctx, self.caller, key, role, RoleEdit(role.title(), number + 1))
        if settings:
            applications.change(self.ctx, self.caller, key, {}, settings)

    def user(self, source: str, name: str, **attributes: Any) -> str:
        """Push somebody and return their record's id."""
        return self.intake.create_user(source, read_resource({"userName": name, **attributes}, USER)).id

    def create_users_of_conflicts(self, key: str) -> None:
        """Decide every open conflict of a source: each is a new user."""
        for each in conflicts.list_conflicts(self.ctx, self.caller, key, PageRequest()).items:
            conflicts.decide(self.ctx, self.caller, key, each.id, conflicts.MAKE)

    def group(self, source: str, name: str, *members: str) -> str:
        """Push a group and return its id."""
        return self.intake.create_group(source, {"displayName": name}, members).id

    def patch_user(self, source: str, record: str, *operations: dict[str, Any]) -> None:
        """Push a change of somebody."""
        self.intake.patch_user(source, record, read_operations({"Operations": list(operations)}, USER))

    def patch_group(self, source: str, group: str, *operations: dict[str, Any]) -> None:
        """Push a change of a group."""
        self.intake.patch_group(source, group, read_operations({"Operations": list(operations)}, GROUP))

    def add(self, source: str, group: str, *members: str) -> None:
        """Put users or groups into a group."""
        self.patch_group(
            source, group, {"op": "add", "path": "members", "value": [{"value": each} for each in members]}
        )

    def take_out(self, source: str, group: str, member: str) -> None:
        """Take somebody out of a group."""
        self.patch_group(source, group, {"op": "remove", "path": f'members[value eq "{member}"]'})

    def rows(self, table: Any, **where: Any) -> list[Any]:
        """Return rows of a table."""
        with self.ctx.database.reading() as connection:
            return list(
                connection.execute(
                    table.select().where(*(table.c[name] == value for name, value in where.items()))
                )
            )
