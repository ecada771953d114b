"""Imports that take too long for their schedule."""

from __future__ import annotations

import pytest

from dravo.core.instants import Instant
from dravo.services.imports import intervals
from dravo.store.ids import new_id
from dravo.store.queries import runs as run_queries
from tests.service_fixture import ServiceFixture

NOW = Instant("2031-04-02T09:00:00.000000Z")


@pytest.mark.parametrize(
    ("schedule", "ended", "warning"),
    [
        ("0 * * * *", "2031-04-02T08:29:00.000000Z", ""),
        ("0 * * * *", "2031-04-02T08:40:00.000000Z", "took 40 minutes, more than half of the interval of 60"),
        ("0 6,7 * * *", "2031-04-02T08:40:00.000000Z", "the interval of 60 minutes"),
        ("0 6 * * *", "2031-04-02T08:40:00.000000Z", ""),
        ("", "2031-04-02T08:40:00.000000Z", ""),
    ],
)
def test_a_run_over_half_of_the_interval_is_reported(
    services: ServiceFixture, schedule: str, ended: str, warning: str
) -> None:
    source = services.source("estates")
    run = {
        "id": new_id(),
        "kind": "import",
        "source_id": source,
        "status": "done",
        "requested_by": "schedule",
        "requested_at": "2031-04-02T08:00:00.000000Z",
        "started_at": "2031-04-02T08:00:00.000000Z",
        "ended_at": ended,
        "preview": False,
        "progress": 10,
        "stop_requested": False,
        "crashes": 0,
    }
    preview = {**run, "id": new_id(), "preview": True, "ended_at": "2031-04-02T08:00:01.000000Z"}
    with services.ctx.database.writing() as connection:
        run_queries.insert_run(connection, run)
        run_queries.insert_run(connection, preview)
    with services.ctx.database.reading() as connection:
        found = intervals.slow_run_warning(connection, source, schedule, NOW)
    assert (found == "") is (warning == "") and warning in found


def test_a_source_without_a_run_has_no_warning(services: ServiceFixture) -> None:
    source = services.source("estates")
    with services.ctx.database.reading() as connection:
        assert intervals.slow_run_warning(connection, source, "0 * * * *", NOW) == ""
