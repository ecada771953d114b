"""A change of scope and of the attribute mapping over 50,000 users of inbound SCIM: preview, stop, and
application in chunks, against one pass in Python over the same records.
"""

from __future__ import annotations

import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import orjson
import psutil
from sqlalchemy import select

from benchmarks.filters import fill
from dravo.core.identity.records import INBOUND_SCIM
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.services.changes import recompute
from dravo.services.context import AppContext
from dravo.services.ingest.inbound.policy_application import PolicyApplication
from dravo.services.jobs import JobRegistry, JobStopped
from dravo.services.policies import inbound, preview
from dravo.services.security import operators
from dravo.services.sources import sources
from dravo.store import tables as t
from dravo.store.received import records as received

USERS = 50_000
SCOPE = {"users": 'department ne "Estates"'}
MAPPING = {"users": "", "attributes": [{"attribute": "title", "expression": '"{title}, {department}"'}]}


def time_bare(ctx: AppContext) -> float:
    """Return the seconds of one pass in Python: read every record, parse it, compare an attribute."""
    began = time.perf_counter()
    found = 0
    with ctx.database.reading() as connection:
        driver = connection.connection.cursor()
        for (data,) in driver.execute("SELECT data FROM record"):
            found += orjson.loads(data).get(ENTERPRISE_URN, {}).get("department") != "Estates"
    assert found
    return time.perf_counter() - began


def seconds_of(work: Callable[[], object]) -> float:
    """Return how long some work takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def apply_all(ctx: AppContext) -> None:
    """Apply the policy as the worker does, in chunks, until nothing is left."""
    application = PolicyApplication(ctx.database, ctx.catalogue)
    while application.apply_marked():
        pass
    recompute.process_marks(ctx)


def time_stop(ctx: AppContext) -> float:
    """Return the seconds between the request to stop a preview and its end."""
    registry = JobRegistry()
    ended: list[float] = []

    def look() -> None:
        try:
            with registry.for_("bench", "look"):
                preview.try_policy(ctx, "staff", INBOUND_SCIM, SCOPE)
        except JobStopped:
            ended.append(time.perf_counter())

    thread = threading.Thread(target=look)
    thread.start()
    time.sleep(0.3)
    asked = time.perf_counter()
    registry.stop("bench", "look")
    thread.join()
    return ended[0] - asked if ended else 0.0


def measure(ctx: AppContext, source_id: str, what: str, policy: dict[str, Any], bare: float) -> None:
    """Print how long a changed policy takes: looked at, saved and applied."""
    looked = seconds_of(lambda: preview.try_policy(ctx, "staff", INBOUND_SCIM, policy))
    saved = seconds_of(lambda: inbound.change(ctx, operators.SYSTEM, "staff", policy))
    with ctx.database.reading() as connection:
        marked = received.how_many_marked(connection, source_id)
    applied = seconds_of(lambda: apply_all(ctx))
    print(
        f"  {what}: preview {looked:.2f} s ({looked / bare:.1f} times), saved in {saved:.2f} s, "
        f"applied to {marked:,} records in {applied:.1f} s ({marked / applied:,.0f} a second)"
    )


def run() -> None:
    """Print the figures."""
    with tempfile.TemporaryDirectory() as folder:
        ctx = AppContext(Path(folder))
        sources.add(ctx, operators.SYSTEM, "staff", "Staff directory")
        with ctx.database.reading() as connection:
            source_id = connection.execute(
                select(t.source.c.id).where(t.source.c.key == "staff")
            ).scalar_one()
        fill(ctx, source_id, USERS)
        bare = min(time_bare(ctx) for _ in range(3))
        print(f"Source policies: {USERS:,} records of inbound SCIM; one pass in Python {bare:.2f} s")
        for what, policy in (("scope", SCOPE), ("attribute mapping", MAPPING)):
            measure(ctx, source_id, what, policy, bare)
        print(f"  a preview stops within {time_stop(ctx):.2f} s")
        memory = psutil.Process().memory_info().rss / 1_048_576
        print(f"  memory {memory:.0f} MB")
        ctx.close()
