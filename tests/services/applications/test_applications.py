from __future__ import annotations

from collections.abc import Callable

import pytest

from dravo.core.errors import AlreadyExists, DravoError, InvalidInput, NotFound, StillInUse
from dravo.core.provisioning.accounts import scim_body
from dravo.services.access import assignments, user_detail
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.applications import applications, connections, roles
from dravo.services.applications.connections import ConnectionSettings
from dravo.services.applications.roles import RoleEdit
from dravo.services.security import audit_log
from dravo.store import clock, provisioned_groups
from dravo.store import tables as t
from dravo.store.pagination import PageRequest
from dravo.store.provisioning import groups as stored_groups
from tests.harness import StandIn
from tests.service_fixture import ServiceFixture

URL = "http://127.0.0.1:9/scim/v2"


def test_an_application_is_half_finished_until_all_is_there(services: ServiceFixture) -> None:
    services.application()
    assert applications.one(services.ctx, "records").status == "not_set_up"
    connections.connect(services.ctx, services.caller, "records", ConnectionSettings(URL, " token \n"))
    assert applications.one(services.ctx, "records").status == "disabled"
    applications.change(services.ctx, services.caller, "records", {}, {"enabled": True})
    assert applications.one(services.ctx, "records").status == "ok"
    connections.pause(services.ctx, services.caller, "records", paused=True)
    paused = applications.one(services.ctx, "records")
    assert (paused.status, paused.trouble) == ("paused", "Paused by the command line.")
    assert connections.pause(services.ctx, services.caller, "records", paused=False).status == "ok"


def test_a_secret_is_kept_encrypted_and_stays_with_its_host(services: ServiceFixture) -> None:
    services.application()
    connections.connect(services.ctx, services.caller, "records", ConnectionSettings(URL, None))
    saved = applications.one(services.ctx, "records")
    assert (saved.status, saved.connection.base_url, saved.connection.has_secret) == (
        "not_set_up",
        URL,
        False,
    )
    connections.connect(services.ctx, services.caller, "records", ConnectionSettings(URL, "first"))
    kept = services.rows(t.application)[0].secret
    assert "first" not in kept
    assert services.ctx.keys.decrypt(kept) == "first"
    connections.connect(services.ctx, services.caller, "records", ConnectionSettings(URL + "/other", None))
    assert services.rows(t.application)[0].secret == kept
    for elsewhere in (
        "http://127.0.0.1:10/scim/v2",
        "https://127.0.0.1:9/scim/v2",
        "http://localhost:9/scim/v2",
    ):
        with pytest.raises(InvalidInput, match="token"):
            connections.connect(services.ctx, services.caller, "records", ConnectionSettings(elsewhere, None))
    assert services.rows(t.application)[0].base_url == URL + "/other"


@pytest.mark.parametrize(
    ("doing", "kind", "words"),
    [
        (
            lambda r: applications.add(r.ctx, r.caller, "records", "Twice", None, tracked_only=False),
            AlreadyExists,
            "already",
        ),
        (
            lambda r: roles.add_role(r.ctx, r.caller, "records", "viewer", RoleEdit("Twice", 1)),
            AlreadyExists,
            "already",
        ),
        (
            lambda r: roles.add_role(r.ctx, r.caller, "records", "Bad Key", RoleEdit("x", 1)),
            InvalidInput,
            "' is not a valid key.",
        ),
        (
            lambda r: applications.change(r.ctx, r.caller, "records", {}, {"on_leaving": "explode"}),
            InvalidInput,
            "' is not a valid value for '",
        ),
        (
            lambda r: applications.change(r.ctx, r.caller, "records", {}, {"max_concurrency": 99}),
            InvalidInput,
            "The number of concurrent requests must be between 1 and 32.",
        ),
        (
            lambda r: applications.change(r.ctx, r.caller, "records", {"label": " "}, {}),
            InvalidInput,
            "1 to 200 characters",
        ),
        (
            lambda r: applications.change(r.ctx, r.caller, "none", {"label": "x"}, {}),
            NotFound,
            "There is no application",
        ),
        (lambda r: connections.check(r.ctx, r.caller, "records"), InvalidInput, "has no connection"),
        (lambda r: applications.remove(r.ctx, r.caller, "records", "records"), InvalidInput, "history"),
        (lambda r: roles.remove_role(r.ctx, r.caller, "records", "none"), NotFound, "no role"),
    ],
)
def test_impossible_changes_are_explained_with_a_hint(
    services: ServiceFixture, doing: Callable[[ServiceFixture], object], kind: type[DravoError], words: str
) -> None:
    services.application()
    before = len(services.rows(t.audit))
    with pytest.raises(kind, match=words) as told:
        doing(services)
    assert told.value.hint
    assert len(services.rows(t.audit)) == before


def test_removing_an_application_takes_its_history_and_nothing_else(services: ServiceFixture) -> None:
    staff = services.source()
    services.user(staff, "ada")
    for key in ("records", "desk"):
        services.application(key)
        made = assignments.add(services.ctx, services.caller, AssignmentRequest(key, "viewer", user="ada"))
        if key == "records":
            with pytest.raises(StillInUse, match="assignments"):
                applications.remove(services.ctx, services.caller, key, "Records")
            assignments.remove(services.ctx, services.caller, made.id)
            with pytest.raises(StillInUse, match="' still has open provisioning tasks"):
                applications.remove(services.ctx, services.caller, key, "Records")
    with services.ctx.database.writing() as connection:
        connection.execute(
            t.task.update().where(t.task.c.status == "waiting").values(status="done", closed_at="x")
        )
    applications.remove(services.ctx, services.caller, "records", "Records")
    assert [row.key for row in services.rows(t.application)] == ["desk"]
    assert {item.application.key for item in user_detail.user(services.ctx, "ada").access} == {"desk"}


def test_the_value_of_a_role_reaches_the_accounts_and_takes_nothing_away(services: ServiceFixture) -> None:
    services.application("records", "viewer", "curator", attributes=[])
    services.user(services.source(), "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    with services.ctx.database.writing() as connection:
        account = t.account
        connection.execute(
            account.update().values(
                applied=account.c.desired, last_applied=account.c.desired, remote_id="7", applied_version=1
            )
        )
        connection.execute(t.task.update().values(status="done", closed_at="x"))
    urn = "urn:records:role:viewer"
    looked = roles.preview_change(services.ctx, "records", "viewer", RoleEdit(sent_value=urn)).shown()
    assert looked.effects[0] == f"Dravo sends '{urn}' for the role instead of 'viewer'."
    assert looked.access is not None and looked.access.accounts == 1
    changed = roles.change_role(services.ctx, services.caller, "records", "viewer", RoleEdit(sent_value=urn))
    assert {each.key: each.sent_value for each in changed.roles} == {"viewer": urn, "curator": None}
    [row] = services.rows(t.account)
    assert scim_body(row.desired)["roles"] == [{"value": urn, "display": "Viewer", "primary": True}]
    [task] = services.rows(t.task, closed_at=None)
    assert not task.removes, "another value of the same role is no removal"
    back = roles.change_role(services.ctx, services.caller, "records", "viewer", RoleEdit(sent_value=""))
    assert [each.sent_value for each in back.roles] == [None, None]
    assert scim_body(services.rows(t.account)[0].desired)["roles"][0]["value"] == "viewer"


@pytest.mark.parametrize(
    ("encoding", "said"),
    [
        ({"way": "groups"}, "The group of the role is called 'ROLE_V' instead of 'Viewer'."),
        ({"way": "entitlements"}, "Dravo sends 'ROLE_V' for the role instead of 'viewer'."),
        ({"way": "roles", "value": "label"}, None),
        ({"way": "nothing"}, None),
    ],
)
def test_a_preview_says_what_is_sent_for_a_role(
    services: ServiceFixture, encoding: dict[str, str], said: str | None
) -> None:
    services.application("records", "viewer", role_encoding=encoding)
    looked = roles.preview_change(services.ctx, "records", "viewer", RoleEdit(sent_value="ROLE_V"))
    assert [each for each in looked.sentences if "ROLE_V" in each] == ([] if said is None else [said])


def test_the_group_of_a_role_follows_its_name(services: ServiceFixture) -> None:
    services.application("records", "viewer", role_encoding={"way": "groups"})
    services.user(services.source(), "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    role = services.rows(t.role)[0].id
    with services.ctx.database.writing() as connection:
        provisioned_groups.follow(
            connection,
            services.rows(t.application)[0].id,
            services.rows(t.account)[0].id,
            [f"role:{role}"],
            "7",
            clock.now(),
        )
        connection.execute(t.provisioned_group.update().values(status="done"))
    for edit, name in ((RoleEdit("Reader"), "Reader"), (RoleEdit(sent_value="ROLE_V"), "ROLE_V")):
        roles.change_role(services.ctx, services.caller, "records", "viewer", edit)
        assert services.rows(t.provisioned_group)[0].status == "waiting"
        with services.ctx.database.writing() as connection:
            connection.execute(t.provisioned_group.update().values(status="done"))
            assert stored_groups.name_of_role_group(connection, role) == name


@pytest.mark.parametrize("value", ["curator", "urn:taken"])
def test_two_roles_are_not_sent_by_one_value(services: ServiceFixture, value: str) -> None:
    services.application("records", "viewer", "curator", "owner")
    change = roles.change_role
    change(services.ctx, services.caller, "records", "owner", RoleEdit(sent_value="urn:taken"))
    for doing in (
        lambda: change(services.ctx, services.caller, "records", "viewer", RoleEdit(sent_value=value)),
        lambda: roles.preview_change(services.ctx, "records", "viewer", RoleEdit(sent_value=value)),
        lambda: roles.add_role(
            services.ctx, services.caller, "records", "other", RoleEdit("Other", 1, sent_value=value)
        ),
    ):
        with pytest.raises(AlreadyExists, match=f"is already sent as '{value}'") as wrong:
            doing()
        assert wrong.value.field == "sent_value"


def test_a_description_recomputes_nobody(services: ServiceFixture) -> None:
    services.application()
    services.user(services.source(), "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    revision = services.rows(t.revision)
    edit = RoleEdit(description="May read all records.\nMay export them.")
    assert roles.preview_change(services.ctx, "records", "viewer", edit).access is None
    changed = roles.change_role(services.ctx, services.caller, "records", "viewer", edit)
    assert next(each for each in changed.roles if each.key == "viewer").description == edit.description
    assert services.rows(t.revision) == revision
    with pytest.raises(InvalidInput, match="control characters"):
        roles.change_role(services.ctx, services.caller, "records", "viewer", RoleEdit(description="a\x07"))


def test_a_role_needs_a_label(services: ServiceFixture) -> None:
    services.application()
    with pytest.raises(InvalidInput, match="1 to 200 characters"):
        roles.add_role(services.ctx, services.caller, "records", "other", RoleEdit(rank=3))


def test_a_deletion_lists_its_effects_and_changes_nothing(services: ServiceFixture) -> None:
    services.application()
    services.user(services.source(), "ada")
    made = assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    with pytest.raises(StillInUse, match="has assignments"):
        applications.preview_removal(services.ctx, "records")
    assignments.remove(services.ctx, services.caller, made.id)
    with services.ctx.database.writing() as connection:
        connection.execute(t.task.update().values(status="done", closed_at="x"))
        connection.execute(t.account.update().values(remote_id="7"))
    effects = applications.preview_removal(services.ctx, "records").shown().effects
    assert effects == [
        "The application keeps 1 account, which Dravo no longer manages.",
        "2 roles and 0 license plans are deleted, with all settings.",
        "The history is deleted: 1 period of access, 1 provisioning task, 0 review decisions.",
    ]
    assert services.rows(t.application)


def test_a_role_s_new_label_and_rank_reach_the_accounts(services: ServiceFixture) -> None:
    services.application()
    services.user(services.source(), "ada")
    for role in ("viewer", "curator"):
        assignments.add(services.ctx, services.caller, AssignmentRequest("records", role, user="ada"))
    roles.change_role(services.ctx, services.caller, "records", "viewer", RoleEdit("Reader", 99))
    due = services.rows(t.account)[0].desired
    assert [(role["value"], role["display"], role["primary"]) for role in due["roles"]] == [
        ("viewer", "Reader", True),
        ("curator", "Curator", False),
    ]


def test_every_change_is_in_the_log_with_before_and_after(services: ServiceFixture) -> None:
    services.application()
    applications.change(services.ctx, services.caller, "records", {}, {"on_leaving": "delete"})
    applications.change(services.ctx, services.caller, "records", {}, {"on_leaving": "delete"})
    with services.ctx.database.reading() as connection:
        entries = audit_log.entries(connection, PageRequest()).items
    assert [entry.action for entry in entries[:2]] == ["changed application", "created role"], (
        "what changes nothing is not logged"
    )
    assert entries[0].details["before"] == {"on_leaving": "deactivate"}
    assert entries[0].details["after"] == {"on_leaving": "delete"}


@pytest.mark.parametrize("damage", ["details", "operator_name", "removed", "personal", "hmac"])
def test_any_damage_to_the_log_is_found(services: ServiceFixture, damage: str) -> None:
    services.application()
    services.user(services.source(), "ada")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    rows = services.rows(t.audit)
    victim = rows[-1] if damage == "personal" else rows[2]
    with services.ctx.database.writing() as connection:
        if damage == "removed":
            connection.execute(t.audit.delete().where(t.audit.c.id == victim.id))
        else:
            value = {"other": 1} if damage in ("details", "personal") else "x"
            connection.execute(t.audit.update().where(t.audit.c.id == victim.id).values({damage: value}))
    with services.ctx.database.reading() as connection:
        found = audit_log.verify_chain(connection, services.ctx.keys)
    assert found == (rows[3].id if damage == "removed" else victim.id)


def test_a_user_can_be_erased_from_the_log_without_breaking_the_chain(services: ServiceFixture) -> None:
    services.application()
    services.user(services.source(), "ada", displayName="Ada Fern")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", user="ada"))
    entry = services.rows(t.audit)[-1]
    assert entry.personal == {"user": "Ada Fern"}
    assert "Ada" not in str(entry.details)
    with services.ctx.database.writing() as connection:
        connection.execute(t.audit.update().where(t.audit.c.id == entry.id).values(personal=None))
    with services.ctx.database.reading() as connection:
        assert audit_log.verify_chain(connection, services.ctx.keys) is None


def test_an_address_without_a_token_is_checked_as_far_as_possible(
    services: ServiceFixture, app: StandIn
) -> None:
    services.application()
    connections.connect(services.ctx, services.caller, "records", ConnectionSettings(app.base_url, None))
    result = connections.check(services.ctx, services.caller, "records")
    assert [(each.name, each.outcome) for each in result.steps] == [
        ("Address", "ok"),
        ("Service", "ok"),
        ("Token", "pending"),
        ("Reading", "skipped"),
    ]
    assert not result.ok and "Create a token in the application" in result.steps[2].hint
    connections.connect(services.ctx, services.caller, "records", ConnectionSettings(app.base_url, app.token))
    assert connections.check(services.ctx, services.caller, "records").ok
