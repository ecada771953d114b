"""B4: access of all users from scratch, and after one membership change, against plain set operations over
the same tuples.
"""

from __future__ import annotations

import random
import resource
import statistics
import tempfile
import time
from pathlib import Path
from typing import Any

from sqlalchemy import insert

from benchmarks.filters import fill
from dravo.core.access.conditions import read_condition, seen
from dravo.core.access.evaluation import compute_access, memberships
from dravo.core.access.types import AccessConfig, Assignment, UserFacts
from dravo.core.instants import Instant
from dravo.core.scim.patches import read_operations
from dravo.core.scim.schemas import ENTERPRISE_URN, GROUP
from dravo.services.applications import applications
from dravo.services.applications import roles as provisioning_roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.context import AppContext
from dravo.services.ingest.intake import Intake
from dravo.services.security import operators
from dravo.services.sources import sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.snapshots.config import raise_revision

NOW = Instant("2031-01-01T00:00:00.000000Z")
SIZES = (1_000, 10_000, 100_000)
APPLICATIONS, ASSIGNMENTS, RULES, GROUPS, GROUPS_EACH = 100, 1_000, 50, 500, 5
DEPARTMENTS = [f"Department {number}" for number in range(60)]


def make_config(chance: random.Random) -> tuple[AccessConfig, list[Any]]:
    """Return assignments, and the rules among them as plain (department, application, role)."""
    by_group: dict[str, list[Assignment]] = {}
    for number in range(ASSIGNMENTS - RULES):
        group, application = f"g{chance.randrange(GROUPS)}", f"a{chance.randrange(APPLICATIONS)}"
        by_group.setdefault(group, []).append(
            Assignment(f"x{number}", application, f"{application}-r{chance.randrange(3)}", group_id=group)
        )
    general, plain = [], []
    for number in range(RULES):
        department, application = DEPARTMENTS[number], f"a{chance.randrange(APPLICATIONS)}"
        role = f"{application}-r{chance.randrange(3)}"
        general.append(
            Assignment(
                f"r{number}", application, role, condition=read_condition(f'department eq "{department}"')
            )
        )
        plain.append((department, application, role))
    return AccessConfig({group: tuple(each) for group, each in by_group.items()}, tuple(general)), plain


def users(count: int, chance: random.Random) -> list[tuple[list[str], str]]:
    """Return `count` users as (groups, department)."""
    return [
        ([f"g{each}" for each in chance.sample(range(GROUPS), GROUPS_EACH)], chance.choice(DEPARTMENTS))
        for _ in range(count)
    ]


def compute_all(everyone: list[tuple[list[str], str]], config: AccessConfig) -> int:
    """Compute the access of all users as planning does; return the number of roles."""
    found = 0
    for groups, department in everyone:
        view = seen({ENTERPRISE_URN: {"department": department}}, (), ("staff",))
        found += len(compute_access(UserFacts(True, memberships(groups, {}), (), view), config, NOW).roles)
    return found


def compute_bare(everyone: list[tuple[list[str], str]], config: AccessConfig, rules: list[Any]) -> int:
    """Compute the same tuples by plain set operations: no reasons, no dates, no policies."""
    tuples = {
        group: {(each.application_id, each.role_id) for each in given}
        for group, given in config.by_group.items()
    }
    found = 0
    for groups, department in everyone:
        roles = set()
        for group in groups:
            roles |= tuples.get(group, set())
        for wanted, application, role in rules:
            if department.casefold() == wanted.casefold():
                roles.add((application, role))
        found += len(roles)
    return found


def one_change(ctx: AppContext, count: int) -> float:
    """Return the median milliseconds to add and store a member in a role group, among `count` users."""
    source = ctx.database
    with source.reading() as connection:
        source_id = connection.execute(t.source.select()).one().id
    records = fill(ctx, source_id, count)
    intake = Intake(ctx.database, ctx.catalogue)
    group = intake.create_group(source_id, {"displayName": "Guides"}, records[:1]).id
    with ctx.database.writing() as connection:
        application, role = (
            connection.execute(t.application.select()).first(),
            connection.execute(t.role.select()).first(),
        )
        assert application is not None and role is not None
        row = {
            "id": new_id(),
            "application_id": application.id,
            "role_id": role.id,
            "group_id": group,
            "created_at": clock.now(),
            "created_by": "bench",
        }
        connection.execute(insert(t.assignment).values(**row))
        raise_revision(connection)
    durations = []
    for record in records[1:40]:
        operations = read_operations(
            {"Operations": [{"op": "add", "path": "members", "value": [{"value": record}]}]}, GROUP
        )
        began = time.perf_counter()
        intake.patch_group(source_id, group, operations)
        durations.append((time.perf_counter() - began) * 1_000)
    return statistics.median(durations[5:])


def run() -> None:
    """Print the figures."""
    chance = random.Random(8)
    config, rules = make_config(chance)
    print(
        f"Access from scratch: {APPLICATIONS} applications, {ASSIGNMENTS:,} assignments, {RULES} of "
        f"them rules, {GROUPS_EACH} groups each"
    )
    for count in SIZES:
        everyone = users(count, chance)
        times: dict[str, list[float]] = {"service": [], "bare": []}
        roles = set()
        for _ in range(3):
            began = time.perf_counter()
            roles.add(compute_bare(everyone, config, rules))
            between = time.perf_counter()
            roles.add(compute_all(everyone, config))
            times["bare"].append(between - began)
            times["service"].append(time.perf_counter() - between)
        assert len(roles) == 1, "both find the same roles"
        service, bare = min(times["service"]), min(times["bare"])
        print(
            f"  {count:>7,} users: {service:6.2f} s, bare {bare:6.2f} s: {service / bare:.2f} times "
            f"(goal: at most 3); {roles.pop():,} roles"
        )
    for count in SIZES:
        with tempfile.TemporaryDirectory() as folder:
            ctx = AppContext(Path(folder))
            sources.add(ctx, operators.SYSTEM, "staff", "Staff")
            applications.add(ctx, operators.SYSTEM, "records", "Records", None, tracked_only=False)
            provisioning_roles.add_role(ctx, operators.SYSTEM, "records", "viewer", RoleEdit("Viewer", 1))
            print(
                f"  one membership change among {count:>7,}: {one_change(ctx, count):5.1f} ms, "
                "stored (goal: under 20)"
            )
            ctx.close()
    print(f"  largest memory: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024} MB")
