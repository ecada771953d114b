from __future__ import annotations

import random
import sqlite3
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import bindparam, select

from dravo.core.errors import Busy, InvalidInput, StalePreview, StorageFailing
from dravo.core.scim.filters import matches
from dravo.core.scim.paths import parse_filter
from dravo.core.scim.schemas import USER
from dravo.services.scim_server.resources import OwnRecords, Query
from dravo.store import tables
from dravo.store.database import Database, migration_config, newest_migration
from dravo.store.ids import new_id
from dravo.store.pagination import PageRequest
from dravo.store.prepared_statements import PreparedStatement
from dravo.store.queries import users as user_queries
from dravo.store.queries.scim_filters import narrow
from dravo.store.records import found_by
from dravo.store.snapshots import config as config_snapshot
from tests.service_fixture import ServiceFixture


@pytest.fixture
def database(tmp_path: Path) -> Database:
    made = Database(tmp_path)
    made.migrate()
    return made


def test_the_migrations_make_exactly_the_tables(database: Database) -> None:
    with database.reading() as connection:
        assert compare_metadata(MigrationContext.configure(connection), tables.metadata) == []


def test_migrating_again_changes_nothing(database: Database) -> None:
    before = database.path.read_bytes()[:100]
    database.migrate()
    Database(database.folder).migrate()
    with database.reading() as connection:
        assert config_snapshot.revision(connection) == 1
    assert database.path.read_bytes()[:16] == before[:16]


def test_ids_sort_by_the_time_they_were_made_also_within_one_millisecond(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    created_at = time.time_ns() // 1_000_000
    ids = [new_id() for _ in range(20_000)]
    assert ids == sorted(ids) and len(set(ids)) == len(ids)
    assert all(each[14] == "7" and each[19] in "89ab" for each in ids)
    assert 0 <= int(ids[0][:8] + ids[0][9:13], 16) - created_at < 10_000
    # Also where a clock is set back.
    monkeypatch.setattr(time, "time_ns", lambda: 1)
    assert new_id() > ids[-1]


def test_a_reader_sees_one_state_during_a_write(database: Database) -> None:
    with database.reading() as connection:
        before = config_snapshot.revision(connection)

        def write() -> None:
            with database.writing() as writer:
                config_snapshot.raise_revision(writer)

        thread = threading.Thread(target=write)
        thread.start()
        thread.join(5)
        assert not thread.is_alive(), "a reader kept the writer waiting"
        assert config_snapshot.revision(connection) == before
    with database.reading() as connection:
        assert config_snapshot.revision(connection) == before + 1
        with pytest.raises(StalePreview):
            config_snapshot.check_revision(connection, before)


def test_an_error_rolls_all_back_and_the_next_writer_is_served(database: Database) -> None:
    with pytest.raises(RuntimeError), database.writing() as connection:
        config_snapshot.raise_revision(connection)
        raise RuntimeError("The service was stopped during the run.")
    with database.writing() as connection:
        assert config_snapshot.revision(connection) == 1
        config_snapshot.raise_revision(connection)
    with database.reading() as connection:
        assert config_snapshot.revision(connection) == 2


def test_a_locked_database_is_reported_as_busy(database: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("dravo.store.sqlite.BUSY_SECONDS", 0.2)
    impatient = Database(database.folder)
    other = sqlite3.connect(database.path, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    with pytest.raises(Busy, match="locked"), impatient.writing():
        pass
    other.execute("ROLLBACK")
    with impatient.writing() as connection:
        config_snapshot.raise_revision(connection)


def test_a_full_disk_is_reported_and_leaves_no_partial_write(database: Database) -> None:
    with database.writing() as connection:
        pages = connection.exec_driver_sql("PRAGMA page_count").scalar_one()
        connection.exec_driver_sql(f"PRAGMA max_page_count={pages}")
    with pytest.raises(StorageFailing, match="full"), database.writing() as connection:
        config_snapshot.raise_revision(connection)
        for number in range(500):
            connection.execute(tables.revision.insert().values(name=f"filler {number} {'x' * 30}", value=1))
    with database.reading() as connection:
        assert config_snapshot.revision(connection) == 1


def test_the_configuration_is_read_once_per_revision(services: ServiceFixture) -> None:
    cache = services.ctx.catalogue
    first = cache.latest(services.ctx.database)
    assert cache.latest(services.ctx.database) is first
    services.application("other")
    with services.ctx.database.reading() as connection:
        second = cache.get(connection)
        assert cache.get(connection) is second
    assert second.revision > first.revision
    assert {each.key for each in second.applications.values()} == {"other"}


def test_pages_cover_a_list_once_however_it_is_cut(services: ServiceFixture) -> None:
    staff = services.source()
    chance = random.Random(4)
    names = [f"{chance.choice(['Ada', 'ada', 'Ärla', 'Zo', '青木'])} {number % 4}" for number in range(23)]
    for number, name in enumerate(names):
        services.user(staff, f"p{number}", displayName=name)
    for count in (1, 3, 7, 23, 50):
        seen, after = [], None
        while True:
            with services.ctx.database.reading() as connection:
                page = user_queries.users(connection, PageRequest(after, count), None, None)
            assert page.total == 23
            assert len(page.items) <= count
            seen += [item.id for item in page.items]
            after = page.next
            if after is None:
                break
        assert len(seen) == len(set(seen)) == 23


def test_a_new_user_in_the_middle_shifts_nothing(services: ServiceFixture) -> None:
    staff = services.source()
    for name in "bdfh":
        services.user(staff, name)
    with services.ctx.database.reading() as connection:
        first = user_queries.users(connection, PageRequest(None, 2), None, None)
    services.user(staff, "a")
    services.user(staff, "e")
    with services.ctx.database.reading() as connection:
        second = user_queries.users(connection, PageRequest(first.next, 9), None, None)
    assert [item.user_name for item in first.items + second.items] == ["b", "d", "e", "f", "h"]


@pytest.mark.parametrize("cursor", ["x", "W10", "WzEsMiwzXQ", "e30", "////", "WzEuNSwgIngiXQ"])
def test_a_cursor_of_a_user_s_own_is_refused(services: ServiceFixture, cursor: str) -> None:
    with services.ctx.database.reading() as connection, pytest.raises(InvalidInput, match="cursor"):
        user_queries.users(connection, PageRequest(cursor), None, None)


def test_signs_of_patterns_mean_themselves_when_looked_for(services: ServiceFixture) -> None:
    staff = services.source()
    for name in ("50%_off", "50 off", "a'b\"c"):
        services.user(staff, name)
    with services.ctx.database.reading() as connection:
        found = {
            words: [
                item.user_name for item in user_queries.users(connection, PageRequest(), words, None).items
            ]
            for words in ("%", "_", "'", '"', "50")
        }
    assert found == {
        "%": ["50%_off"],
        "_": ["50%_off"],
        "'": ["a'b\"c"],
        '"': ["a'b\"c"],
        "50": ["50 off", "50%_off"],
    }


FILTERS = [
    'userName eq "ADA"',
    'externalId eq "x-1"',
    'externalId eq "X-1"',
    'userName eq "ada" or title eq "Guide"',
    'title eq "Guide" and userName ne "bob"',
    'userName eq "ada" and title eq "Guide"',
    'not (userName eq "ada")',
    'meta.lastModified ge "2020-01-01T00:00:00Z"',
    'meta.created lt "2020-01-01T00:00:00+02:00"',
    "active eq false",
    'emails[value co "fern"]',
    'userName eq "straße"',
    'id eq "none"',
    'userName eq "ada" or externalId eq "x-2"',
    "title pr",
]


def test_a_filter_finds_the_same_by_sql_as_by_the_core(services: ServiceFixture) -> None:
    staff = services.source()
    services.user(staff, "ada", externalId="x-1", title="Guide", emails=[{"value": "ada@fernhollow.example"}])
    services.user(staff, "bob", externalId="x-2", active=False)
    services.user(staff, "STRASSE", title="Guide")
    services.user(staff, "Zoë", title="Keeper")
    own = OwnRecords(services.ctx.database)
    everyone = own.users(staff, "http://x", Query())["Resources"]
    for text in FILTERS:
        found = own.users(staff, "http://x", Query(filter=text))
        expected = [each["id"] for each in everyone if matches(parse_filter(text, USER), each)]
        assert [each["id"] for each in found["Resources"]] == expected, text
        assert found["totalResults"] == len(expected), text


_NAMES = st.sampled_from(["ada", "Ada", "bob", "straße", "STRASSE", "é", "e\u0301", "İ", ""])
_OPERATORS = st.sampled_from(["eq", "ne", "sw", "co", "ew", "gt", "ge", "lt", "le"])
_PARTS = st.one_of(
    st.builds(lambda operator, name: f'userName {operator} "{name}"', _OPERATORS, _NAMES),
    st.builds(lambda operator, name: f'externalId {operator} "{name}"', _OPERATORS, _NAMES),
    st.builds(lambda operator, name: f'emails.value {operator} "{name}"', _OPERATORS, _NAMES),
    _NAMES.map(lambda name: f'emails[value eq "{name}" and type eq "work"]'),
    st.sampled_from(
        [
            'title eq "x"',
            "title pr",
            "active eq true",
            "externalId pr",
            'meta.resourceType eq "User"',
            'meta.created gt "2030-01-01T00:00:00Z"',
        ]
    ),
)
_ANY = st.recursive(
    _PARTS,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(lambda three: f"({' '.join(three)})"),
        inner.map(lambda one: f"not ({one})"),
    ),
    max_leaves=5,
)
_EMAILS = st.lists(_NAMES.filter(bool), max_size=3)


@given(
    text=_ANY,
    name=_NAMES,
    external=st.one_of(st.none(), _NAMES),
    title=st.sampled_from([None, "x"]),
    emails=_EMAILS,
)
def test_sql_selects_at_least_the_matches_of_the_filter(
    text: str, name: str, external: str | None, title: str | None, emails: list[str]
) -> None:
    data: dict[str, Any] = {
        "userName": name,
        "active": True,
        "id": "1",
        "meta": {"resourceType": "User", "created": "2031-01-01T00:00:00.000000Z"},
    }
    data |= {key: value for key, value in (("title", title), ("externalId", external)) if value is not None}
    data |= {"emails": [{"value": each, "type": "home"} for each in emails]} if emails else {}
    memory = sqlite3.connect(":memory:")
    columns = "id, source_id, deleted_at, created_at, user_name_key, external_id, email_key, more_emails"
    memory.execute(f"CREATE TABLE record ({columns})")
    row = ("1", "s", None, "2031-01-01T00:00:00.000000Z", *found_by(data))
    memory.execute(f"INSERT INTO record ({columns}) VALUES ({','.join('?' * len(row))})", row)
    tree = parse_filter(text, USER)
    narrowing = narrow(tree, tables.record, "s")
    passes = True
    if narrowing.condition is not None:
        compiled = (
            select(tables.record.c.id)
            .where(narrowing.condition)
            .compile(compile_kwargs={"literal_binds": True})
        )
        passes = memory.execute(str(compiled)).fetchone() is not None
    wanted = matches(tree, data)
    assert passes or not wanted, "the index lost somebody"
    if narrowing.exact:
        assert passes == wanted


def test_a_statement_first_used_by_many_threads_compiles_correctly(services: ServiceFixture) -> None:
    staff = services.source()
    user = services.user(staff, "ada", title="Guide")
    for _ in range(20):
        statement = PreparedStatement(
            select(tables.record.c.id, tables.record.c.data).where(tables.record.c.id == bindparam("id"))
        )
        begin = threading.Barrier(8)

        def read(statement: PreparedStatement = statement, begin: threading.Barrier = begin) -> str:
            begin.wait()
            return str(statement.first(services.ctx.database.glancing(), {"id": user}).data["title"])

        with ThreadPoolExecutor(8) as pool:
            assert {each.result() for each in [pool.submit(read) for _ in range(8)]} == {"Guide"}


def test_a_folder_is_current_only_with_the_newest_tables_and_what_belongs_into_them(
    database: Database,
) -> None:
    script = ScriptDirectory.from_config(migration_config())
    assert newest_migration() == script.get_current_head()
    assert database.is_current()
    with database.writing() as connection:
        connection.exec_driver_sql("UPDATE alembic_version SET version_num = '0000'")
    assert not database.is_current()
    (database.folder / "new").mkdir()
    assert not Database(database.folder / "new").is_current()
