"""Records that an earlier version wrote are brought to the present form, with all that they hold."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from alembic import command
from sqlalchemy import text

from dravo.services.context import House
from dravo.services.ingest.local import groups as local_groups
from dravo.services.ingest.local.groups import Members
from dravo.services.scim_server.resources import OwnRecords, Query
from dravo.services.security.secrets import Keys
from dravo.store import tables as t
from dravo.store.database import Database, migration_config
from tests.service_fixture import Rooms

NOW = "2026-01-01T00:00:00.000000Z"
PEOPLE = {
    "ada": [{"value": "Ada@Fernhollow.example"}, {"value": "ada@home.example"}],
    "bob": [{"value": "bob@fernhollow.example"}],
    "cai": [],
}


def at_first_version(folder: Path) -> None:
    """Write a few people as the first version wrote them."""
    database = Database(folder)
    folder.mkdir(parents=True, exist_ok=True)
    Keys(folder, new=True)
    config = migration_config()
    with database.writing() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "0001")
        connection.execute(text("INSERT INTO revision VALUES ('catalogue', 1)"))
        connection.execute(text("INSERT INTO source VALUES ('s', 'staff', 'Staff', 'push', 100, :now)"), {"now": NOW})
        connection.execute(
            text("INSERT INTO source_token (id, source_id, label, prefix, hash, created_at) VALUES ('t', 's', 'Provider', 'p', 'h', :now)"),
            {"now": NOW},
        )
        for name, emails in PEOPLE.items():
            data = json.dumps({"userName": name, "externalId": f"x-{name}", **({"emails": emails} if emails else {})})
            values = {"id": name, "data": data, "now": NOW}
            connection.execute(
                text(
                    'INSERT INTO "user" (id, user_name, user_name_key, display_name, display_name_key, attributes, given_by, active, revision, created_at, modified_at) '
                    "VALUES (:id, :id, :id, :id, :id, :data, '{}', 1, 1, :now, :now)"
                ),
                values,
            )
            connection.execute(
                text(
                    "INSERT INTO record (id, source_id, channel, user_id, user_name_key, external_id, data, version, created_at, modified_at) "
                    "VALUES (:id, 's', 'push', :id, :id, 'x-' || :id, :data, 1, :now, :now)"
                ),
                values,
            )
    database.close()


@pytest.mark.parametrize(
    ("asked", "found"),
    [
        ('emails.value eq "ADA@fernhollow.example"', ["ada"]), ('emails.value eq "ada@home.example"', ["ada"]), ('emails sw "bob@"', ["bob"]),
        ('externalId eq "x-cai"', ["cai"]), ("emails pr", ["ada", "bob"]), ("userName pr", ["ada", "bob", "cai"]),
    ],
)  # fmt: skip
def test_people_of_the_first_version_are_found_by_all_that_is_indexed_now(tmp_path: Path, asked: str, found: list[str]) -> None:
    at_first_version(tmp_path)
    house = House(tmp_path)
    page = OwnRecords(house.database).people("s", "http://x", Query(filter=asked))
    assert [each["userName"] for each in page["Resources"]] == found
    house.close()


def test_tokens_of_the_first_version_keep_opening_everything(tmp_path: Path) -> None:
    at_first_version(tmp_path)
    rooms = Rooms(tmp_path)
    with rooms.house.database.reading() as connection:
        row = connection.execute(text("SELECT kinds, access FROM source_token")).one()
    assert tuple(row) == ("both", "write")
    rooms.application("records", "viewer")
    rooms.patch_person("s", "ada", {"op": "replace", "path": "title", "value": "Keeper"})
    rooms.house.close()


def test_reasons_of_earlier_versions_say_of_what_kind_they_are(tmp_path: Path) -> None:
    Keys(tmp_path, new=True)
    database = Database(tmp_path)
    config = migration_config()
    reason = {"assignment": "a", "group": None, "group_name": None, "source": None, "source_label": None, "through": [], "through_names": []}
    with database.writing() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "0003")
        for statement in (
            "INSERT INTO application (id, key, label, revision, created_at, tracked_only, switched_on, create_accounts, update_accounts, "
            "adopt_by_user_name, on_losing_access, on_inactive, on_gone, at_a_time, failures) "
            "VALUES ('p', 'records', 'Records', 1, :now, 1, 0, 1, 1, 0, 'deactivate', 'deactivate', 'deactivate', 4, 0)",
            "INSERT INTO role VALUES ('r', 'p', 'viewer', 'Viewer', 1)",
            'INSERT INTO "user" (id, user_name, user_name_key, display_name, display_name_key, attributes, given_by, active, revision, created_at, '
            "modified_at) VALUES ('u', 'ada', 'ada', 'Ada', 'ada', '{}', '{}', 1, 1, :now, :now)",
        ):
            connection.execute(text(statement), {"now": NOW})
        for number, group in enumerate((None, "g")):
            reasons = json.dumps([{**reason, "group": group, "from": NOW, "until": None}])
            connection.execute(
                text(
                    "INSERT INTO access (id, user_id, application_id, role_id, reasons, from_at, until_at) VALUES (:id, 'u', 'p', 'r', :reasons, :now, :end)"
                ),
                {"id": f"x{number}", "reasons": reasons, "now": NOW, "end": NOW if number else None},
            )
    database.close()
    house = House(tmp_path)
    with house.database.reading() as connection:
        found = {row.id: (row.reasons[0]["kind"], row.direct_only) for row in connection.execute(t.access.select())}
    house.close()
    assert found == {"x0": ("direct", True), "x1": ("group", False)}


@pytest.mark.parametrize("had_it", [True, False])
def test_what_was_last_agreed_is_known_whichever_way_the_records_came_by_it(tmp_path: Path, had_it: bool) -> None:
    Keys(tmp_path, new=True)
    database = Database(tmp_path)
    config = migration_config()
    with database.writing() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, "0004")
        if had_it:
            connection.execute(text("ALTER TABLE account ADD COLUMN had TEXT"))
        for statement in (
            "INSERT INTO application (id, key, label, revision, created_at, tracked_only, switched_on, create_accounts, update_accounts, "
            "adopt_by_user_name, on_losing_access, on_inactive, on_gone, at_a_time, failures) "
            "VALUES ('p', 'records', 'Records', 1, :now, 0, 0, 1, 1, 0, 'deactivate', 'deactivate', 'deactivate', 4, 0)",
            'INSERT INTO "user" (id, user_name, user_name_key, display_name, display_name_key, attributes, given_by, active, revision, created_at, '
            "modified_at) VALUES ('u', 'ada', 'ada', 'Ada', 'ada', '{}', '{}', 1, 1, :now, :now)",
        ):
            connection.execute(text(statement), {"now": NOW})
        columns, values = ("due, agreed", '\'{"want": "absent"}\', \'{"want": "present"}\'')
        if had_it:
            columns, values = f"{columns}, had", f'{values}, \'{{"want": "absent"}}\''
        connection.execute(
            text(
                f"INSERT INTO account (id, user_id, application_id, due_version, due_since, agreed_version, {columns}) "
                f"VALUES ('a', 'u', 'p', 1, :now, 1, {values})"
            ),
            {"now": NOW},
        )
    database.close()
    rooms = Rooms(tmp_path)
    assert rooms.rows(t.account)[0].had == {"want": "absent" if had_it else "present"}
    # And what came since works on these records: a local group, a seat, a review.
    assert [len(rooms.rows(table)) for table in (t.plan, t.seat, t.review, t.review_row, t.picture)] == [0] * 5
    group = local_groups.add(rooms.house, rooms.caller, "Planting")["id"]
    assert local_groups.change_members(rooms.house, rooms.caller, group, Members(add=("ada",)))["members"] == 1
    rooms.house.close()
