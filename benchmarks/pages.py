"""B7: the users page and the access matrix with 1,000 to 100,000 users (list, search, filter), against a bare
indexed SELECT.
"""

from __future__ import annotations

import gc
import random
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import insert, text

from benchmarks.filters import fill
from dravo.services.access import assignment_changes, rule_matches
from dravo.services.access import matrix as access_matrix
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.matrix import View
from dravo.services.applications import applications
from dravo.services.applications import roles as provisioning_roles
from dravo.services.applications.roles import RoleEdit
from dravo.services.context import AppContext
from dravo.services.reporting import access_flow, overview
from dravo.services.security import operators
from dravo.services.sources import sources
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.ids import new_id
from dravo.store.pagination import PageRequest
from dravo.store.queries import users as user_queries

SIZES = (1_000, 10_000, 100_000)
APPLICATIONS, EACH = 100, 5
TIMES = 20


def insert_access(ctx: AppContext) -> None:
    """Insert access for all users: five roles each, in a hundred applications."""
    chance, now = random.Random(8), clock.now()
    for number in range(APPLICATIONS):
        applications.add(
            ctx, operators.SYSTEM, f"app{number:03}", f"Application {number:03}", None, tracked_only=True
        )
        provisioning_roles.add_role(ctx, operators.SYSTEM, f"app{number:03}", "viewer", RoleEdit("Viewer", 1))
    with ctx.database.writing() as connection:
        roles = [(row.application_id, row.id) for row in connection.execute(t.role.select())]
        users = list(connection.execute(t.user.select()).scalars())
        reason = {
            "kind": "group",
            "assignment": "a",
            "rule": None,
            "group": "g",
            "group_name": "Guides",
            "source": "staff",
            "source_label": "Staff",
            "through": [],
            "through_names": [],
            "from": now,
            "until": None,
        }
        for start in range(0, len(users), 5_000):
            rows = [
                {
                    "id": new_id(),
                    "user_id": user,
                    "application_id": of,
                    "role_id": role,
                    "reasons": [reason],
                    "from_at": now,
                    "until_at": None,
                }
                for user in users[start : start + 5_000]
                for of, role in chance.sample(roles, EACH)
            ]
            connection.execute(insert(t.access), rows)


def p95(work: Callable[[], object]) -> float:
    """Return the 95th percentile of the milliseconds that `work` takes."""
    work()
    durations = []
    for _ in range(TIMES):
        began = time.perf_counter()
        work()
        durations.append((time.perf_counter() - began) * 1_000)
    return statistics.quantiles(durations, n=20)[-1]


def run() -> None:
    """Print the figures."""
    print(
        f"p95 in ms of {TIMES}; {APPLICATIONS} applications, {EACH} roles each; the goal is under 100 "
        "at 100,000 users"
    )
    rows: dict[str, list[float]] = {}
    for size in SIZES:
        with tempfile.TemporaryDirectory() as folder:
            ctx = AppContext(Path(folder))
            sources.add(ctx, operators.SYSTEM, "staff", "Staff")
            with ctx.database.reading() as connection:
                source_id = connection.execute(t.source.select()).one().id
            fill(ctx, source_id, size)
            insert_access(ctx)
            # As in the service: what stays is not collected again and again.
            gc.collect()
            gc.freeze()

            def users(words: str | None = None, status: str | None = None, ctx: AppContext = ctx) -> None:
                with ctx.database.reading() as connection:
                    user_queries.users(connection, PageRequest(count=50), words, status)

            def bare(ctx: AppContext = ctx) -> None:
                with ctx.database.reading() as connection:
                    connection.execute(
                        text(
                            'SELECT id, user_name, display_name, email FROM "user" ORDER BY '
                            "display_name_key, id LIMIT 50"
                        )
                    ).all()

            def matrix(ctx: AppContext = ctx, **view: str) -> None:
                access_matrix.users(ctx, View(**view), PageRequest(count=50))  # type: ignore[arg-type]

            for name, work in (
                ("bare SELECT of a page", bare),
                ("users, list", users),
                ("users, search", lambda: users("user0009")),
                ("users, active only", lambda: users(None, "active")),
                ("matrix", matrix),
                ("matrix, search", lambda: matrix(words="user0009")),
                ("matrix of one application", lambda: matrix(application="app007")),
                ("matrix at a past instant", lambda: matrix(at=clock.now())),
                ("matrix, direct only", lambda: matrix(only="direct_only")),
                ("matrix of groups", lambda ctx=ctx: access_matrix.groups(ctx, PageRequest(count=50))),
                ("overview, figures", lambda ctx=ctx: overview.band(ctx)),
                (
                    "applications, list",
                    lambda ctx=ctx: applications.list_applications(ctx, PageRequest(count=50)),
                ),
            ):
                rows.setdefault(name, []).append(p95(work))
            for name, once in (
                (
                    "matches of a rule (once)",
                    lambda ctx=ctx: rule_matches.try_rule(ctx, 'department eq "Herbarium"'),
                ),
                (
                    "preview for all users (once)",
                    lambda ctx=ctx: assignment_changes.preview_adding(
                        ctx, AssignmentRequest("app001", "viewer", everyone=True)
                    ),
                ),
                ("access flow, count (once)", lambda ctx=ctx: access_flow.count(ctx)),
                ("access flow, show (once)", lambda ctx=ctx: access_flow.shown(ctx)),
                (
                    "export of the matrix (once)",
                    lambda ctx=ctx: sum(len(piece) for piece in access_matrix.export(ctx, View(), "csv")),
                ),
            ):
                began = time.perf_counter()
                once()
                rows.setdefault(name, []).append((time.perf_counter() - began) * 1_000)
            ctx.close()
    print(f"  {'':<28}" + "".join(f"{size:>10,}" for size in SIZES))
    for name, durations in rows.items():
        print(f"  {name:<28}" + "".join(f"{each:>10.1f}" for each in durations))
