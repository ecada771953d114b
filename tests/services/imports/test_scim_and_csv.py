"""Another party's SCIM service, and files as users really have them, are read as a directory."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pytest

from dravo.core.errors import InvalidInput
from dravo.protocols.directory.csv_table import CsvSettings, read_table
from dravo.protocols.directory.reader import BadLine, DirectoryTrouble
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.changes.recompute import process_marks
from dravo.services.imports import config as import_config
from dravo.services.imports import refresh as import_refresh
from dravo.services.imports import run as import_run
from dravo.services.imports import runs as import_runs
from dravo.services.policies import preview as policy_preview
from dravo.store import tables as t
from tests.directories import Reading
from tests.harness import Running, StandIn
from tests.service_fixture import ServiceFixture

Fresh = Callable[[str], str]


def fill(app: StandIn, users: int) -> list[str]:
    ids = [
        app.create(
            userName=f"guide.{number}",
            displayName=f"Guide {number}",
            emails=[{"value": f"guide.{number}@fernhollow.example", "type": "work"}],
        )
        for number in range(users)
    ]
    body = {"displayName": "Guides", "members": [{"value": each} for each in ids[:5]]}
    httpx.post(f"{app.base_url}/Groups", json=body, headers=app.headers, trust_env=False).raise_for_status()
    return ids


@pytest.mark.parametrize(
    "faults",
    [{"page": 7}, {"page": 7, "cursor": True}, {"page": 7, "fail_every": 5}],
    ids=["by index", "Use cursor-based pagination.", "failing"],
)
def test_a_scim_service_is_read_whole_in_pages(
    services: ServiceFixture, app: StandIn, faults: dict[str, Any]
) -> None:
    fill(app, 25)
    app.faults(**faults)
    reading = Reading(services, "scim", {"address": app.base_url}, app.token)
    run = reading.run()
    assert (run["status"], run["new"], run["memberships_new"]) == ("done", 25, 5)
    assert reading.members("Guides") == {f"guide.{number}" for number in range(5)}
    assert reading.records()["guide.3"].data["emails"][0]["value"] == "guide.3@fernhollow.example"
    # It cannot tell what changed: asked for that, everyone is read, and nothing changes.
    run = reading.run()
    assert (run["status"], run["unchanged"]) == ("done", 25)


def test_a_scim_service_is_read_with_client_credentials(services: ServiceFixture, app: StandIn) -> None:
    fill(app, 3)
    settings = {
        "address": app.base_url,
        "sign_in": "client_credentials",
        "client_id": "dravo",
        "token_address": f"http://127.0.0.1:{app.port}/oauth/token",
    }
    reading = Reading(services, "scim", settings, app.token)
    checked = import_config.check(services.ctx, services.caller, "estates")
    assert [step.outcome for step in checked.steps][:4] == ["ok"] * 4
    assert {"userName", "displayName", "emails.value"} <= {each.name for each in checked.attributes}
    assert reading.run()["new"] == 3
    reading.change(secret="wrong")
    run = reading.run()
    assert run["status"] == "failed" and "The client secret is wrong." in run["message"]


def test_another_organization_of_our_own_is_read_by_cursor_and_only_what_changed(
    running: Running, services: ServiceFixture, fresh: Fresh
) -> None:
    source = fresh("staff")
    provider = running.provider(source)
    users = [provider.user(f"{source}.{number}", displayName=f"User {number}") for number in range(5)]
    provider.group("Botanists", users[:2])
    with running.dravo as dravo:
        token = dravo.sources.add_token(source, "Reader", access="read")["token"]
    reading = Reading(services, "scim", {"address": f"{running.url}/scim/v2/{source}"}, token)
    assert reading.run()["new"] == 5
    provider.patch(f"/Users/{users[3]}", {"op": "replace", "path": "displayName", "value": "Renamed"})
    run = reading.run()
    assert (run["whole"], run["changed"], run["progress"] <= 2) == (False, 1, True)
    assert reading.members("Botanists") == {f"{source}.0", f"{source}.1"}


def files(reading: Reading, **content: str | bytes) -> None:
    for name, text in content.items():
        import_config.put_file(
            reading.services.ctx,
            reading.services.caller,
            reading.key,
            f"{name}.csv",
            text if isinstance(text, bytes) else text.encode(),
        )


ANSWERS = {
    "attributes": [
        {"attribute": "userName", "expression": "login"},
        {"attribute": "displayName", "expression": 'attribute "Voller Name"'},
    ]
}


@pytest.mark.parametrize(
    "content",
    [
        "\ufeffid;Voller Name;login\n1;Zofia Wiśniarska;zofia\n2;Bruno Castellan;bruno\n".encode(),
        'id,Voller Name,login\r\n1,Zofia Wiśniarska,zofia\r\n\r\n2,"Bruno Castellan",bruno\r\n'.encode(),
        "id\tVoller Name\tlogin\n1\tZofia Wiśniarska\tzofia\n2\tBruno Castellan\tbruno\n".encode("utf-16"),
        "id|voller name|LOGIN|\n1| Zofia Wiśniarska |zofia|\n2|Bruno Castellan|bruno|\n".encode(),
    ],
    ids=[
        "byte order mark and semicolons",
        "commas and CRLF",
        "UTF-16 and tabs",
        "bars, blanks and an empty last column",
    ],
)
def test_files_are_read_as_they_are(services: ServiceFixture, content: bytes) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    files(reading, users=content)
    assert reading.run()["new"] == 2
    assert {name: row.data["displayName"] for name, row in reading.records().items()} == {
        "zofia": "Zofia Wiśniarska",
        "bruno": "Bruno Castellan",
    }


def test_latin_1_is_found_out(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    files(reading, users="id;Voller Name;login\n1;Joaquín Café;joaquin\n".encode("latin-1"))
    reading.run()
    assert reading.records()["joaquin"].data["displayName"] == "Joaquín Café"


def test_bad_lines_are_reported_by_number_and_stop_no_others(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    lines = [
        "id,Voller Name,login",
        "1,Una Kerrigan,una",
        "1,Una Again,una2",
        ",Nobody,none",
        "2,Ibrahim,Sow,ibrahim",
        "3,Grace Appleyard,",
        "4,Hedda,hedda",
    ]
    files(reading, users="\n".join(lines))
    run = reading.run()
    assert (run["new"], run["unreadable"], run["refused"]) == (2, 3, 1)
    assert [line.name for line in reading.lines(run, "unreadable")] == [
        "users.csv, line 3",
        "users.csv, line 4",
        "users.csv, line 5",
    ]
    assert run["status"] == "done" and run["message"] == "3 lines or entries could not be read."
    told = " ".join(
        line.message for line in (*reading.lines(run, "unreadable"), *reading.lines(run, "refused"))
    )
    assert (
        "already used in line 2" in told
        and "4 cells" in told
        and "The expression for userName has no value." in told
    )
    reading.change(settings={"stop_at_bad_line": True})
    run = reading.run()
    assert run["status"] == "failed" and "line 3" in run["message"]


CREW = [f"{number},User {number},user.{number},Guides" for number in range(12)]
HEAD = "id,Voller Name,login,teams"


@pytest.mark.parametrize("allow_removals", [False, True], ids=["by itself", "confirmed"])
def test_an_unreadable_line_removes_no_users(services: ServiceFixture, allow_removals: bool) -> None:
    reading = Reading(services, "csv", {"groups_column": "teams"}, policy=ANSWERS)
    files(reading, users="\n".join([HEAD, *CREW]))
    assert reading.run()["new"] == 12
    files(reading, users="\n".join([HEAD, "0,User, the first,user.0,Guides", *CREW[1:-1]]))
    run = reading.run(
        whole=True, allow_removals=allow_removals, confirmed="Estates" if allow_removals else None
    )
    assert run["status"] == "held"
    assert (
        run["message"]
        == "1 line or entry could not be read. Dravo removed nothing, although 2 users and 0 groups "
        "are missing."
    )
    assert len(reading.records()) == 12 and len(reading.members("Guides")) == 12
    assert {line.name for line in reading.lines(run, "missing")} == {"User 0", "User 11"}
    # Once it can be read, anyone who is missing leaves.
    files(reading, users="\n".join([HEAD, *CREW[:-1]]))
    run = reading.run()
    assert (run["status"], run["left"], len(reading.members("Guides"))) == ("done", 1, 11)


def test_an_unreadable_line_ends_no_membership_and_removes_no_group(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    files(
        reading,
        users="\n".join([HEAD, *CREW]),
        groups="id,name\ng1,Rota\ng2,Weeders\n",
        memberships="group,member\ng1,1\ng1,2\n",
    )
    reading.run()
    files(reading, memberships="group,member\ng1,1\n,2\ng1,3\n")
    run = reading.run()
    assert (run["status"], run["unreadable"], run["memberships_new"]) == ("done", 1, 1)
    assert "could not be read" in run["message"]
    assert reading.members("Rota") == {"user.1", "user.2", "user.3"}
    files(reading, groups="id,name\ng1,Rota\ng2,\n", memberships="group,member\ng1,1\n")
    run = reading.run()
    assert run["status"] == "held" and "0 users and 1 groups" in run["message"]
    assert reading.members("Weeders") == set() and reading.members("Rota") == {"user.1", "user.2", "user.3"}
    files(reading, groups="id,name\ng1,Rota\ng2,Weeders\n")
    assert reading.run()["status"] == "done" and reading.members("Rota") == {"user.1"}


def test_a_quotation_mark_that_is_never_closed_fails_the_file(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {"groups_column": "teams"}, policy=ANSWERS)
    files(reading, users="\n".join([HEAD, *CREW]))
    reading.run()
    files(reading, users="\n".join([HEAD, *CREW[:4], '4,"User 4,user.4,Guides', *CREW[5:]]))
    run = reading.run()
    assert run["status"] == "failed" and run["message"] == "users.csv, line 6: a quote is never closed."
    assert len(reading.records()) == 12 and len(reading.members("Guides")) == 12


def test_groups_and_memberships_are_read_from_files_or_a_column(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    users = "id,Voller Name,login,teams\n1,Una,una,Guides; Weeders\n2,Grace,grace,guides\n"
    files(
        reading, users=users, groups="id,name\ng1,Rota\n", memberships="group,member\ng1,1\ng1,nobody\ng1,2\n"
    )
    run = reading.run()
    assert (run["groups_new"], run["memberships_new"], run["members_unknown"]) == (1, 2, 1)
    reading.change(settings={"groups_column": "teams"})
    run = reading.run()
    assert (
        run["groups_new"] == 2
        and reading.members("Guides") == {"una", "grace"}
        and reading.members("Weeders") == {"una"}
    )
    assert reading.members("Rota") == {"una", "grace"}


def test_a_file_that_did_not_change_is_not_read_again_and_a_missing_column_is_named(
    services: ServiceFixture,
) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    files(reading, users="id,Voller Name,login\n1,Una,una\n")
    reading.run()
    assert reading.run()["progress"] == 0
    reading.change(settings={"id_column": "number"})
    run = reading.run()
    assert run["status"] == "failed" and "no column 'number'" in run["message"] and "login" in run["hint"]
    assert len(reading.records()) == 1


def test_a_file_is_refused_before_it_replaces_the_one_that_is_there(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    files(reading, users="id,Voller Name,login\n1,Una,una\n")
    for content in (b"", b"id,id\n1,1\n", b"\x00\x01\x02"):
        with pytest.raises(DirectoryTrouble):
            files(reading, users=content)
    with pytest.raises(InvalidInput, match="' is not a file of this connector"):
        import_config.put_file(services.ctx, services.caller, "estates", "../../keys", b"x")
    assert reading.run()["new"] == 1


def test_quoted_cells_hold_separators_lines_and_quotes(tmp_path: Path) -> None:
    table = read_table(b'id;name\n1;"a;b\nc ""d"""\n2;"no"body\n3;"open\n4;x\n', "users", CsvSettings())
    assert next(table.lines) == (2, {"id": ["1"], "name": ['a;b\nc "d"']})
    number, line = next(table.lines)
    assert number == 4 and isinstance(line, BadLine) and "line 4" in line.where
    with pytest.raises(DirectoryTrouble, match="users"):
        next(table.lines)


def test_a_record_of_a_file_and_a_pushed_one_of_the_same_source_are_one_user(
    services: ServiceFixture,
) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    services.user(reading.source_id, "una")
    files(reading, users="id,Voller Name,login\n1,Una Kerrigan,una\n")
    assert reading.run()["new"] == 1
    assert len(services.rows(t.user)) == 1 and len(services.rows(t.record)) == 2


MADE = {**ANSWERS, "groups_from": ["team"], "gives": ["Volunteers"], "groups": {"which": "none"}}


def test_groups_from_column_values_and_for_every_user(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=MADE)
    files(
        reading,
        users="id,Voller Name,login,team\n1,Zofia,zofia,Guides\n2,Bruno,bruno,Guides\n3,Una,una,Night "
        "watch\n4,Ada,ada,\n",
    )
    run = reading.run()
    assert (run["new"], run["groups_new"], run["memberships_new"]) == (4, 3, 7)
    assert reading.members("Guides") == {"zofia", "bruno"}
    assert reading.members("Volunteers") == {"zofia", "bruno", "una", "ada"}
    again = reading.run()
    assert (again["unchanged"], again.get("memberships_new", 0), again.get("groups_new", 0)) == (4, 0, 0)
    files(
        reading,
        users="id,Voller Name,login,team\n1,Zofia,zofia,Night "
        "watch\n2,Bruno,bruno,Guides\n3,Una,una,Night watch\n4,Ada,ada,\n",
    )
    reading.run()
    assert (reading.members("Guides"), reading.members("Night watch")) == ({"bruno"}, {"zofia", "una"})


def test_one_user_refreshed_moves_between_groups_of_values(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=MADE)
    files(reading, users="id,Voller Name,login,team\n1,Zofia,zofia,Guides\n2,Bruno,bruno,Night watch\n")
    reading.run()
    files(reading, users="id,Voller Name,login,team\n1,Zofia,zofia,Night watch\n2,Bruno,bruno,Guides\n")
    import_refresh.refresh(services.ctx, services.caller, reading.key, reading.records()["zofia"].user_id)
    assert (reading.members("Guides"), reading.members("Night watch")) == (set(), {"zofia", "bruno"})


def test_other_groups_of_values_are_tried_on_what_was_said_before(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy={**ANSWERS, "groups_from": ["team"]})
    files(
        reading,
        users="id,Voller Name,login,team\n1,Zofia,zofia,Guides\n2,Bruno,bruno,Guides\n3,Una,una,Night "
        "watch\n",
    )
    reading.run()
    tried = policy_preview.try_policy(
        services.ctx, reading.key, "import", {"groups_from": ['"Team {team}"'], "gives": ["Volunteers"]}
    )
    assert [(each.name, each.users) for each in tried.made_groups] == [
        ("Volunteers", 3),
        ("Team Guides", 2),
        ("Team Night watch", 1),
    ]
    assert tried.groups == [], "groups of values are none that the source lists"


def test_a_run_that_was_stopped_before_it_began_stays_stopped(services: ServiceFixture) -> None:
    reading = Reading(services, "csv", {}, policy=ANSWERS)
    files(reading, users="id,Voller Name,login\n1,Zofia,zofia\n")
    run = import_runs.request_run(services.ctx, services.caller, reading.key)
    assert import_runs.next_requested(services.ctx, set()) is not None
    import_runs.stop(services.ctx, services.caller, reading.key, run.id)
    # The worker had it in hand already.
    import_run.carry_out(services.ctx, run.id)
    assert import_runs.one_run(services.ctx, run.id).status == "stopped" and reading.records() == {}


def test_a_run_counts_roles_and_accounts_that_end_also_after_it(services: ServiceFixture) -> None:
    services.unguarded()
    services.application()
    reading = Reading(services, "csv", {})
    head, lines = "id,userName,displayName", [f"{n},user.{n},User {n}" for n in range(8)]
    members = [f"{group},{n}" for group in ("g1", "g2") for n in range(8)]

    def put(users: list[str], groups: list[str], memberships: list[str]) -> None:
        files(
            reading,
            users="\n".join([head, *users]),
            groups="\n".join(["id,name", *groups]),
            memberships="\n".join(["group,member", *memberships]),
        )

    put(lines, ["g1,Rota", "g2,Weeders"], members)
    reading.run()
    for group, role in (("Rota", "viewer"), ("Weeders", "curator")):
        assignments.add(services.ctx, services.caller, AssignmentRequest("records", role, group=group))
    process_marks(services.ctx)
    # One user leaves, one leaves a group, and a group of seven ends.
    put(lines[1:], ["g1,Rota"], [f"g1,{n}" for n in range(2, 8)])
    run = reading.run(allow_removals=True, confirmed="Estates")
    assert (run["left"], run["roles_ended"], run["accounts_ended"]) == (1, 2 + 1 + 7, 1 + 1)
    process_marks(services.ctx)
    # A user who leaves a group loses the role when the user is computed again, after the run.
    put(lines[1:], ["g1,Rota"], [f"g1,{n}" for n in range(3, 8)])
    run = reading.run()
    assert run["memberships_ended"] == 1 and "roles_ended" not in run
    process_marks(services.ctx)
    ended = {each.name: each.number for each in import_runs.one_run(services.ctx, run["id"]).counts}
    assert (ended["roles_ended"], ended["accounts_ended"]) == (1, 1)
    again = reading.run()
    assert "roles_ended" not in again and "accounts_ended" not in again
