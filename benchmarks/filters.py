"""Filters on inbound SCIM with 1,000 to 100,000 users, and the cost of 500 new members in an empty group and
in one of 50,000.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import insert

from dravo.core.identity.names import fold
from dravo.core.scim.patches import read_operations
from dravo.core.scim.schemas import GROUP
from dravo.demo import scenario
from dravo.services.context import AppContext
from dravo.services.ingest.intake import Intake
from dravo.services.scim_server.resources import OwnRecords, Query
from dravo.services.security import operators
from dravo.services.sources import sources
from dravo.store import clock, memberships
from dravo.store import tables as t
from dravo.store.ids import new_id

SIZES = (1_000, 10_000, 100_000)
# First the filters that an index serves, then those that the core evaluates on all users.
FILTERS = (
    'userName eq "{name}"',
    'userName sw "{name}"',
    'userName co "{name}"',
    'userName ew "{name}"',
    'userName gt "zzzz"',
    'externalId eq "{name}"',
    'emails.value eq "{name}@fernhollow.example"',
    'emails[type eq "work" and value eq "{name}@fernhollow.example"]',
    'id eq "{id}"',
    'groups.value eq "{group}"',
    'meta.lastModified gt "2999-01-01T00:00:00Z"',
    "userName pr",
    'title eq "{name}"',
    'name.familyName co "zz"',
    "active eq false",
)


def fill(ctx: AppContext, source_id: str, number: int) -> list[str]:
    """Insert `number` users with their source records; return the IDs of the records."""
    now, ids = clock.now(), []
    with ctx.database.writing() as connection:
        for start in range(0, number, 5_000):
            users, records = [], []
            for place, user in enumerate(scenario.crowd(min(5_000, number - start), seed=start)):
                name = f"user{start + place:06d}"
                data = {
                    **{key: value for key, value in user.items() if key != "schemas"},
                    "userName": name,
                    "externalId": name,
                    "emails": [{"value": f"{name}@fernhollow.example", "type": "work"}],
                }
                user_id, record_id = new_id(), new_id()
                ids.append(record_id)
                users.append(
                    {
                        "id": user_id,
                        "user_name": name,
                        "user_name_key": fold(name),
                        "display_name": name,
                        "display_name_key": fold(name),
                        "attributes": data,
                        "value_sources": {},
                        "active": True,
                        "revision": 1,
                        "created_at": now,
                        "modified_at": now,
                    }
                )
                records.append(
                    {
                        "id": record_id,
                        "source_id": source_id,
                        "connection_type": "inbound_scim",
                        "user_id": user_id,
                        "user_name_key": fold(name),
                        "external_id": name,
                        "email_key": f"{name}@fernhollow.example",
                        "data": data,
                        "version": 1,
                        "created_at": now,
                        "modified_at": now,
                    }
                )
            connection.execute(insert(t.user), users)
            connection.execute(insert(t.record), records)
    return ids


def measure(work: Callable[[], object], times: int = 5) -> float:
    """Return the median milliseconds of `times` calls of `work`."""
    durations = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        durations.append((time.perf_counter() - began) * 1000)
    return statistics.median(durations)


def run() -> None:
    """Print the milliseconds of each filter at each size, and of adding members."""
    table: dict[str, list[float]] = {text: [] for text in FILTERS}
    members: list[float] = []
    for size in SIZES:
        with tempfile.TemporaryDirectory() as folder:
            ctx = AppContext(Path(folder))
            sources.add(ctx, operators.SYSTEM, "staff", "Staff")
            source_id = sources.id_of(ctx, "staff")
            ids = fill(ctx, source_id, size)
            intake, own = Intake(ctx.database, ctx.catalogue), OwnRecords(ctx.database)
            group = intake.create_group(source_id, {"displayName": "Group"}, ids[:20]).id
            for text in FILTERS:
                asked = Query(
                    filter=text.format(name=f"user{size // 2:06d}", id=ids[size // 2], group=group), count=20
                )
                table[text].append(
                    measure(
                        lambda own=own, asked=asked, source_id=source_id: own.users(
                            source_id, "http://x", asked
                        )
                    )
                )  # type: ignore[misc]
            if size == SIZES[-1]:
                members = [_members(ctx, intake, source_id, ids, present) for present in (0, 50_000)]
            ctx.close()
    print("Filters, milliseconds (median of 5) among " + ", ".join(f"{size:,}" for size in SIZES) + " users")
    for text, times in table.items():
        print(f"  {text:<75}" + "".join(f"{each:9.2f}" for each in times))
    print(
        f"500 new members: in an empty group {members[0]:.0f} ms, in one of 50,000 {members[1]:.0f} "
        f"ms, ratio {members[1] / members[0]:.2f}"
    )


def _members(ctx: AppContext, intake: Intake, source_id: str, ids: list[str], present: int) -> float:
    """Return the milliseconds to add 500 members to a group of `present` members."""
    group = intake.create_group(source_id, {"displayName": f"Group of {present}"}, []).id
    with ctx.database.writing() as connection:
        memberships.add_members(connection, group, ids[:present], [], clock.now())
    parts = iter(range(present, present + 2_500, 500))

    def add() -> None:
        start = next(parts)
        value = [{"value": each} for each in ids[start : start + 500]]
        intake.patch_group(
            source_id,
            group,
            read_operations({"Operations": [{"op": "add", "path": "members", "value": value}]}, GROUP),
        )

    return measure(add)
