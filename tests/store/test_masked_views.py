"""What masked views make of stored texts."""

from __future__ import annotations

from pathlib import Path

import orjson
import pytest
from sqlalchemy import insert, select
from sqlalchemy.exc import OperationalError

from dravo.store import clock
from dravo.store import tables as t
from dravo.store.database import Database
from dravo.store.ids import new_id
from dravo.store.operators import masked_views
from dravo.store.operators.masked_views import HIDDEN, MASKS, NAMES, NETWORKS


@pytest.fixture
def database(tmp_path: Path) -> Database:
    opened = Database(tmp_path, durable=False)
    opened.migrate()
    user = {
        "id": new_id(),
        "user_name": "ada",
        "user_name_key": "ada",
        "display_name": "Ada Birch",
        "display_name_key": "ada birch",
        "attributes": {"displayName": "Ada Birch", "title": "Keeper"},
        "value_sources": {},
        "active": True,
        "revision": 1,
        "created_at": clock.now(),
        "modified_at": clock.now(),
    }
    with opened.writing() as connection:
        connection.execute(insert(t.user).values(**user))
    return opened


def test_names_are_masked_only_for_the_caller_whose_view_says_so(database: Database) -> None:
    statement = select(t.user.c.id, t.user.c.user_name, t.user.c.display_name, t.user.c.attributes)
    with database.reading() as connection:
        plain = connection.execute(statement).one()
    token = MASKS.set(frozenset({NAMES}))
    with database.reading() as connection, database.apart() as apart:
        for masked in (connection.execute(statement).one(), apart.execute(statement).one()):
            tail = masked.id[-8:]
            assert (masked.user_name, masked.display_name) == (f"user-{tail}", f"User {tail}")
            # Rules are evaluated on the true values.
            assert masked.attributes == plain.attributes
    with database.reading_unmasked() as connection:
        assert connection.execute(statement).one() == plain
    MASKS.reset(token)
    assert plain.display_name == "Ada Birch"


def test_masked_lists_need_no_sorting(database: Database) -> None:
    plan = "EXPLAIN QUERY PLAN SELECT id FROM user ORDER BY display_name_key, id LIMIT 50"
    token = MASKS.set(frozenset({NAMES}))
    with database.reading() as connection:
        steps = [row[3] for row in connection.exec_driver_sql(plan)]
    MASKS.reset(token)
    assert steps and not [step for step in steps if "TEMP B-TREE" in step]


def test_nothing_is_written_through_a_masked_connection(database: Database) -> None:
    token = MASKS.set(frozenset({NETWORKS}))
    with pytest.raises(OperationalError), database.apart() as connection, connection.begin():
        connection.execute(t.user.update().values(user_name="eve"))
    MASKS.reset(token)


def test_texts_with_a_word_of_a_name_are_masked_wherever_they_stand() -> None:
    stored = {
        "userName": "ada.birch",
        "name": {"givenName": "Ada", "familyName": "Birch"},
        "emails": [{"value": "BIRCH.A@fernhollow.example", "primary": True}],
        "title": "Keeper of moss",
        "urn:example:Staff": {"badge": "ada-77", "floor": 3, "team": "Garden"},
    }
    assert masked_views.mask_person(stored) == {
        "userName": HIDDEN,
        "name": {"givenName": HIDDEN, "familyName": HIDDEN},
        "emails": [{"value": HIDDEN, "primary": True}],
        "title": "Keeper of moss",
        "urn:example:Staff": {"badge": HIDDEN, "floor": 3, "team": "Garden"},
    }


@pytest.mark.parametrize(
    ("text", "masked"),
    [
        (
            "GET /scim/v2/staff/Users from 192.0.2.17: no token",
            f"GET /scim/v2/staff/Users from {HIDDEN}: no token",
        ),
        ("From 2001:db8::17.", f"From {HIDDEN}."),
        ("From ::1: refused", f"From {HIDDEN}: refused"),
        ('{"ipaddr":["198.51.100.4"]}', f'{{"ipaddr":["{HIDDEN}"]}}'),
        ("At 10:15:00, version 2.0.1, urn:ietf:params:scim:schemas:core:2.0:User", None),
        ("2026-04-02T10:15:00Z, 300.1.1.1, 0197b2c4-aaaa-7bbb-8ccc-dddddddddddd", None),
    ],
)
def test_addresses_are_masked_and_nothing_else(text: str, masked: str | None) -> None:
    assert masked_views.mask_networks(text) == (masked if masked is not None else text)


def test_details_keep_what_tells_nothing_about_a_user() -> None:
    known = {"application": "desk", "user_id": "0197b2c4-0000-7000-8000-0000aabbccdd", "number": 3}
    stored = {
        **known,
        "user": "Ada Birch",
        "before": {"label": "Ada's desk", "role": "viewer"},
    }
    assert orjson.loads(masked_views.mask_texts(orjson.dumps(stored).decode()) or "") == {
        **known,
        "user": HIDDEN,
        "before": {"label": HIDDEN, "role": "viewer"},
    }


def test_effects_and_paths_name_users_by_their_ids() -> None:
    stored = {
        "subject": {"kind": "user", "id": "0197b2c4-0000-7000-8000-0000aabbccdd", "name": "Ada Birch"},
        "users": [{"id": "0197b2c4-0000-7000-8000-0000aabbccdd", "name": "Ada Birch", "gained": ["Desk"]}],
    }
    masked = orjson.loads(masked_views.mask_effects(orjson.dumps(stored).decode()) or "")
    assert masked["subject"]["name"] == masked["users"][0]["name"] == "User aabbccdd"
    assert masked["users"][0]["gained"] == ["Desk"]
    assert masked_views.mask_path("/Users/ada") == f"/Users/{HIDDEN}"
    assert masked_views.mask_path('/Users?filter=userName eq "ada"') == "/Users"
