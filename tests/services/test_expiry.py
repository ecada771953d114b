"""Tokens and secrets that end: told in time, and no longer when there is another."""

from __future__ import annotations

import pytest

from dravo.core.expiry import DAYS_BEFORE, ending
from dravo.core.instants import Instant, later
from dravo.services.applications import applications, connections
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.reporting import overview
from dravo.services.sources import observations, sources
from dravo.services.sources import tokens as scim_tokens
from dravo.store import clock
from dravo.store.pagination import PageRequest
from tests.service_fixture import ServiceFixture

DAY = 86_400
NOW = Instant("2026-05-04T09:00:00.000000Z")


@pytest.mark.parametrize(
    "days, told",
    [(-400, True), (-1, True), (0, True), (DAYS_BEFORE - 1, True), (DAYS_BEFORE, False), (300, False)],
)
def test_an_expiry_is_reported_when_near_or_past(days: int, told: bool) -> None:
    ends = later(NOW, days * DAY)
    assert ending(ends, NOW) == (ends if told else None)


def test_no_expiry_is_not_reported() -> None:
    assert ending(None, NOW) is None


def needs(services: ServiceFixture, stage: str) -> int:
    return int(next(each.needs for each in overview.band(services.ctx).stages if each.name == stage))


def test_an_expiring_connection_secret_is_reported_until_replaced(services: ServiceFixture) -> None:
    services.application("records")
    soon = later(clock.now(), 12 * DAY)
    connections.connect(
        services.ctx,
        services.caller,
        "records",
        ConnectionSettings("https://records.example/scim/v2", "first", expires_at=soon),
    )
    assert applications.one(services.ctx, "records").secret_ends_at == soon
    assert needs(services, "applications") == 1
    connections.connect(
        services.ctx,
        services.caller,
        "records",
        ConnectionSettings("https://records.example/scim/v2", "second", expires_at=later(soon, 300 * DAY)),
    )
    assert applications.one(services.ctx, "records").secret_ends_at is None
    assert needs(services, "applications") == 0


def test_an_expiring_token_is_reported_only_while_used(services: ServiceFixture) -> None:
    source = services.source("staff")
    soon = later(clock.now(), 3 * DAY)
    old = scim_tokens.add_token(services.ctx, services.caller, "staff", "old", soon)

    def told() -> tuple[str | None, int]:
        return sources.list_sources(services.ctx, PageRequest()).items[0].token_ends_at, needs(
            services, "sources"
        )

    assert told() == (None, 0), "nobody uses it"
    observations.TrafficObserver(services.ctx).note(source, observations.CALL, None, old.id)
    assert told() == (soon, 1)
    scim_tokens.revoke_token(services.ctx, services.caller, "staff", old.id)
    assert told() == (None, 0)
