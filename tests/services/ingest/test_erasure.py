"""Erasing a user: nothing about the user is left, and no source brings the user back unless accepted."""

from __future__ import annotations

import json
from typing import Any

import pytest
from sqlalchemy import select

from dravo.core.errors import InvalidInput, NotFound
from dravo.core.notifications.reporting import Condition
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes import recompute
from dravo.services.changes.removal_limits import NeedsConfirmation
from dravo.services.imports import config as import_config
from dravo.services.ingest import erasure
from dravo.services.ingest.inbound.policy_application import PolicyApplication
from dravo.services.scim_server.resources import OwnRecords, Query
from dravo.services.security import audit_log
from dravo.services.sources import tokens as scim_tokens
from dravo.store import clock
from dravo.store import tables as t
from dravo.store.notifications import events
from dravo.store.pagination import PageRequest
from dravo.web.app import create_app
from tests.directories import Reading
from tests.service_fixture import ServiceFixture

SECRET = ("philippa", "marlow", "4711")


class Erasing(ServiceFixture):
    """A user with records, access and traces, who has left."""

    def prepare(self) -> str:
        self.unguarded().application()
        self.staff = self.source("staff")
        token = scim_tokens.add_token(self.ctx, self.caller, "staff", "Provider").token
        self.headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/scim+json"}
        self.http = create_app(self.ctx, "http://127.0.0.1:1").test_client()
        self.record = self.post()
        group = self.group(self.staff, "Guides", self.record)
        assignments.add(self.ctx, self.caller, AssignmentRequest("records", "viewer", group=group))
        assignments.add(
            self.ctx, self.caller, AssignmentRequest("records", "curator", user="philippa.marlow")
        )
        recompute.process_marks(self.ctx)
        self.http.delete(f"/scim/v2/staff/Users/{self.record}", headers=self.headers)
        with self.ctx.database.writing() as connection:
            connection.execute(t.task.update().values(closed_at="2031-01-01T00:00:00.000000Z"))
        (user,) = self.rows(t.user)
        assert user.left_at is not None
        return str(user.id)

    def post(self, **more: Any) -> str:
        body = {
            "userName": "philippa.marlow",
            "displayName": "Philippa Marlow",
            "externalId": "4711",
            "emails": [{"value": "philippa.marlow@fernhollow.example"}],
            **more,
        }
        answer = self.http.post("/scim/v2/staff/Users", data=json.dumps(body), headers=self.headers)
        assert answer.status_code == 201, answer.text
        return str(answer.json["id"])

    def erase(self, user: str = "philippa.marlow") -> str:
        return erasure.erase(self.ctx, self.caller, user, "Philippa Marlow").id

    def found(self) -> dict[str, str]:
        """Return by table a row that still names the user."""
        found: dict[str, str] = {}
        for table in t.metadata.sorted_tables:
            for row in self.rows(table):
                text = repr(tuple(row)).lower()
                if any(each in text for each in SECRET):
                    found[table.name] = text
        return found


@pytest.fixture
def erasing(services: ServiceFixture) -> Erasing:
    services.__class__ = Erasing
    assert isinstance(services, Erasing)
    return services


def test_no_table_names_an_erased_user_and_the_history_stays(erasing: Erasing) -> None:
    user = erasing.prepare()
    assert {"user", "record", "trace", "audit"} <= erasing.found().keys()
    lines = erasure.preview(erasing.ctx, "philippa.marlow").sentences
    assert any("source record" in line for line in lines) and erasing.rows(t.record)
    erasing.erase()
    assert erasing.found() == {}
    (row,) = erasing.rows(t.user)
    assert (row.id, row.display_name, row.attributes) == (user, "Erased user", {})
    assert {each.user_id for each in erasing.rows(t.access)} == {user}
    # The audit log says what was erased, when and by whom, and its chain is intact.
    entry = erasing.rows(t.audit)[-1]
    assert (entry.action, entry.object_id, entry.operator_name) == (
        "erased user",
        user,
        erasing.caller.name,
    )
    assert entry.details["records"] == 1
    with erasing.ctx.database.reading() as connection:
        assert audit_log.verify_chain(connection, erasing.ctx.keys) is None
    # A later computation finds nothing to do.
    recompute.process_marks(erasing.ctx)
    assert erasing.rows(t.user)[0].display_name == "Erased user"


def test_emails_to_an_erased_user_and_events_that_name_the_user_are_deleted(erasing: Erasing) -> None:
    erasing.prepare()
    trace = {"id": "t" * 36, "source_id": erasing.staff, "at": clock.now(), "outcome": "refused", "hint": ""}
    trace |= {"message": "no", "name": "philippa.marlow", "steps": [], "received": {}, "result": {}}
    message = {"channel": "email", "status": "sent", "subject": "x", "created_at": clock.now()}
    message |= {"until_at": clock.now(), "next_at": clock.now(), "content": "x"}
    about = Condition("test_sign_in_refused", "t" * 36, "Staff", "Refused", "Philippa Marlow has none.", "/")
    with erasing.ctx.database.writing() as connection:
        # A refused sign-in names the user without an ID.
        connection.execute(t.sign_in_trace.insert().values(**trace))
        events.happened(connection, about, clock.now())
        event = connection.execute(select(t.notification_event.c.id)).scalar_one()
        others = {"recipient": "ola@fernhollow.example", "kind": "notification"}
        rows = [
            {**message, **others, "id": "other", "event_id": None},
            {**message, **others, "id": "about", "event_id": event},
            {**message, **others, "id": "summary", "event_id": None, "kind": "summary"},
            {**message, "id": "to", "event_id": None, "kind": "announcement"}
            | {"recipient": "Philippa.Marlow@fernhollow.example"},
        ]
        connection.execute(t.message.insert(), rows)
    erasing.erase()
    assert erasing.found() == {} and erasing.rows(t.notification_event) == []
    assert {row.id: row.content for row in erasing.rows(t.message)} == {"other": "x", "summary": None}


def test_a_source_does_not_bring_the_user_back_until_accepted(erasing: Erasing) -> None:
    erasing.prepare()
    done = erasing.erase()
    record = erasing.post()
    (stored,) = erasing.rows(t.record)
    assert (stored.id, stored.left_out, stored.user_id) == (record, "erased", None)
    assert OwnRecords(erasing.ctx.database).users(erasing.staff, "", Query())["totalResults"] == 1
    erasing.patch_user(erasing.staff, record, {"op": "replace", "path": "title", "value": "Keeper"})
    erasing.intake.remove_user(erasing.staff, record)
    # Neither another user name nor another ID helps alone.
    for more in ({"userName": "p.marlow"}, {"externalId": "4712"}):
        again = erasing.post(**more)
        assert erasing.rows(t.record, id=again)[0].left_out == "erased"
        erasing.intake.remove_user(erasing.staff, again)
    other = erasing.post(userName="una.kerrigan", externalId="1")
    assert erasing.rows(t.record, id=other)[0].user_id is not None

    last = erasing.post()
    accepted = erasure.accept(erasing.ctx, erasing.caller, done)
    assert accepted.accepted_by == erasing.caller.name
    while PolicyApplication(erasing.ctx.database, erasing.ctx.catalogue).apply_marked():
        pass
    (row,) = erasing.rows(t.record, id=last)
    assert row.left_out is None and row.user_id is not None
    with pytest.raises(InvalidInput, match="accepted again already"):
        erasure.accept(erasing.ctx, erasing.caller, done)
    assert [each.id for each in erasure.list_erasures(erasing.ctx, PageRequest()).items] == [done]


def test_an_import_ignores_an_erased_user(services: ServiceFixture) -> None:
    reading = Reading(services.unguarded(), "csv", {"id_column": "number"}, policy=MAPPING)

    def run(*lines: str) -> dict[str, Any]:
        content = "\n".join(["number;login", *lines]).encode()
        import_config.put_file(services.ctx, services.caller, "estates", "users.csv", content)
        return reading.run(whole=True, allow_removals=True, confirmed="Estates")

    run("1;una", "2;zoe")
    run("2;zoe")
    done = erasure.erase(services.ctx, services.caller, "una", "una").id
    found = run("1;una.new", "2;zoe", "3;una")
    assert (found["ignored"], found.get("new", 0)) == (2, 0)
    assert set(reading.records()) == {"zoe"}
    erasure.accept(services.ctx, services.caller, done)
    assert run("1;una", "2;zoe")["new"] == 1


MAPPING = {"attributes": [{"attribute": "userName", "expression": "login"}]}


def test_only_a_leaver_is_erased_and_the_name_is_typed(erasing: Erasing) -> None:
    erasing.prepare()
    erasing.user(erasing.staff, "una")
    with pytest.raises(InvalidInput, match="has not left"):
        erasure.preview(erasing.ctx, "una")
    with pytest.raises(NeedsConfirmation):
        erasure.erase(erasing.ctx, erasing.caller, "philippa.marlow", "Philippa")
    with pytest.raises(NotFound):
        erasure.accept(erasing.ctx, erasing.caller, "unknown")
    assert erasing.rows(t.erased_user) == []
