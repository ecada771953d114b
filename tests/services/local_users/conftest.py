"""The organization of the tests of local users."""

from __future__ import annotations

import pytest

from dravo.services import settings
from dravo.services.ingest.local import groups as local_groups
from dravo.services.notifications import mail_server
from tests.service_fixture import ServiceFixture


@pytest.fixture
def trust(services: ServiceFixture) -> ServiceFixture:
    """An organization with an email server, a local group and an application."""
    services.ctx.public_url = "https://dravo.fernhollow.example"
    server = {"host": "127.0.0.1", "port": 25, "security": "none", "sender": "dravo@fernhollow.example"}
    mail_server.change(services.ctx, services.caller, server)
    settings.change(services.ctx, services.caller, "organization_name", "Fernhollow Botanic Trust")
    local_groups.add(services.ctx, services.caller, "Seed Bank")
    services.application("records", "viewer", "curator")
    return services
