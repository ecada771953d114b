"""An organization in whose records attributes and names of one user stand in many places."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pytest

from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.matrix import View
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import Caller
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sources import tokens as scim_tokens
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.provisioning import attempts as attempt_rows
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture

# Each stands in one attribute of one user only.
TITLE, EXTERNAL, LOCAL_PART, PHONE = "Keeper of moss", "ext-quartz-7", "sorrel.post", "+44 20 7946 0001"
SECRETS = (TITLE, EXTERNAL, LOCAL_PART, PHONE, "moss")
EMAIL = f"{LOCAL_PART}@fernhollow.example"
RULE = f'title eq "{TITLE}"'
# Lists of users that can be searched.
SEARCHED = (
    "users",
    "access/matrix?application=desk",
    "access?application=desk",
    "accounts?application=desk",
    "provisioning/tasks?application=desk",
)


@dataclass
class Office:
    """A service in this process with operators of several roles."""

    services: ServiceFixture
    app: Any
    ids: dict[str, str]

    def headers(self, kind: str, **more: Any) -> dict[str, str]:
        made = operators.add(
            self.services.ctx,
            operators.SYSTEM,
            NewOperator(f"{kind} {len(self.services.rows(t.operator))}", kind, **more),
        )
        token = api_tokens.create(self.services.ctx, Caller(made.id, made.name, kind), "Walk", "write").token
        return {"Authorization": f"Bearer {token}"}

    def reads(self) -> list[str]:
        """Return the paths of all routes that read, with the IDs of this office in their places."""
        paths = [path for path, methods in self.app.api_doc["paths"].items() if "get" in methods]
        return [self.at(path) for path in paths]

    def at(self, path: str) -> str:
        places = {
            "{user}": "ada",
            "{application}": "desk",
            "{trace}": self.ids["trace"],
            "{id}": self._id_of(path),
            "{key}": "staff" if path.startswith("/api/v1/sources") else "desk",
            "{run}": "import" if path.startswith("/api/v1/sources") else "reconciliation",
        }
        for place, value in places.items():
            path = path.replace(place, value)
        return path

    def _id_of(self, path: str) -> str:
        for part in ("reviews", "assignments", "groups", "tasks", "requests"):
            if f"/{part}/" in path:
                return self.ids.get(part, "none")
        return "none"


@pytest.fixture
def office(services: ServiceFixture) -> Iterator[Office]:
    ctx = services.ctx
    app = create_app(ctx, "http://127.0.0.1:1")
    services.source("staff", "fernhollow.example")
    services.source("estates")
    services.application("desk", "viewer")
    http = app.test_client()
    body = {
        "userName": "ada",
        "displayName": "Ada Birch",
        "title": TITLE,
        "externalId": EXTERNAL,
        "emails": [{"value": EMAIL}],
        "phoneNumbers": [{"value": PHONE}],
    }
    tokens = {
        key: scim_tokens.add_token(ctx, operators.SYSTEM, key, "Provider").token
        for key in ("staff", "estates")
    }
    for key, user in (("staff", body), ("estates", {**body, "userName": "a.birch"})):
        sent = http.post(
            f"/scim/v2/{key}/Users", json=user, headers={"Authorization": f"Bearer {tokens[key]}"}
        )
        assert sent.status_code == 201, sent.text
    http.get(
        f'/scim/v2/staff/Users?filter=emails.value eq "{EMAIL}"',
        headers={"Authorization": f"Bearer {tokens['staff']}"},
    )
    ids = {
        "assignments": assignments.add(
            ctx, operators.SYSTEM, AssignmentRequest("desk", "viewer", rule=RULE)
        ).id
    }
    ids["reviews"] = access_reviews.start(
        ctx, operators.SYSTEM, "Spring", "2099-04-02", View(application="desk")
    ).id
    source = services.rows(t.source, key="staff")[0]
    user = services.rows(t.user, user_name="ada")[0]
    with ctx.database.writing() as connection:
        row = {
            "source_id": source.id,
            "outcome": "refused",
            "reason": "outside",
            "message": f"{EMAIL} is outside.",
            "hint": f"Look for {EMAIL}.",
            "name": EMAIL,
            "user_id": user.id,
            "steps": [{"name": "Claims", "outcome": "ok", "message": f"title is {TITLE}", "hint": ""}],
            "received": {"attributes": {"title": [TITLE]}, "subject": EMAIL},
            "result": {},
            "raw": EMAIL,
        }
        ids["trace"] = sign_in_traces.write(connection, row)
        # What was exchanged with the application quotes attributes in filters and in refusals.
        exchange = {
            "method": "GET",
            "path": f"/Users?filter={EMAIL}",
            "query": {"filter": f'emails.value eq "{EMAIL}"'},
            "status": 400,
            "milliseconds": 3,
            "excerpt": f"{TITLE} is not valid.",
        }
        ids["tasks"] = services.rows(t.task)[0].id
        attempt = {
            "task_id": ids["tasks"],
            "version": 1,
            "started_at": clock.now(),
            "ended_at": clock.now(),
            "outcome": "failed",
            "message": f"The filter for {EMAIL} was refused.",
            "exchanges": [exchange],
        }
        attempt_rows.insert_attempt(connection, attempt)
        group = {
            "id": "provisioned",
            "application_id": services.rows(t.application, key="desk")[0].id,
            "key": "group:none",
            "status": "failed",
            "attempts": 1,
            "message": f"The member {EMAIL} was refused.",
            "exchanges": [exchange],
            "created_at": clock.now(),
        }
        connection.execute(t.provisioned_group.insert().values(**group))
        drift = {
            "id": "drift",
            "application_id": group["application_id"],
            "kind": "attributes",
            "about": "account",
            "name": "Ada Birch",
            "there": {"title": TITLE, "emails": [{"value": EMAIL}]},
            "differences": [{"attribute": "title", "before": TITLE, "after": None}],
            "status": "open",
            "first_seen_at": clock.now(),
            "last_seen_at": clock.now(),
            "run_id": "run",
        }
        connection.execute(t.drift.insert().values(**drift))
        # A paused application and runs that failed keep what the other side said.
        refused = f"The server refused {EMAIL}."
        connection.execute(
            t.application.update().values(paused_at=clock.now(), trouble=refused, trouble_hint="Try again.")
        )
        for about in (
            {"kind": "reconciliation", "application_id": group["application_id"]},
            {"kind": "import", "source_id": source.id},
        ):
            run = {
                "id": about["kind"],
                "status": "failed",
                "requested_by": "una",
                "requested_at": clock.now(),
                "ended_at": clock.now(),
                "progress": 0,
                "message": refused,
                "stop_requested": False,
            }
            connection.execute(t.run.insert().values(**run, **about))
    yield Office(services, app, ids)
