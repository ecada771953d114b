"""How one group of an application is brought to what is due, without a network."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.account_sync import FullListQuery
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.group_members import NeedsWhole
from dravo.protocols.scim_client.group_sync import bring_group
from dravo.protocols.scim_client.group_types import Accounts, ReachedGroup, WantedGroup
from dravo.protocols.scim_client.responses import ConnectionPausedError, Refused, RetryableError

ALL = frozenset({"1", "2"})
NEW = WantedGroup("g1", "Herbarium", members=ALL, ours=ALL | {"3"})
KNOWN = replace(
    NEW,
    whole=False,
    members=frozenset(),
    ours=frozenset(),
    remote_id="9",
    applied_name="Herbarium",
    origin="made",
)


def answer(status: int, body: Any = None) -> Response:
    return Response(status, body, "", "application/scim+json")


def listed(*resources: dict[str, Any]) -> Response:
    return answer(200, {"totalResults": len(resources), "Resources": list(resources)})


def talk(
    wanted: WantedGroup, *answers: Any, accounts: set[str] | None = None
) -> tuple[ReachedGroup, list[Any]]:
    """Return what was reached and what was asked, given the answers in their order.

    Args:
        accounts: the ids of all accounts there; None if they cannot be listed.
    """
    conversation, asked, waiting = bring_group(wanted), [], list(answers)
    sent: Any = None
    while True:
        try:
            question = conversation.send(sent)
        except StopIteration as end:
            assert waiting == [], "not all was asked"
            return end.value, asked
        if isinstance(question, Accounts):
            sent = accounts
            continue
        asked.append(question if isinstance(question, Request) else "everyone")
        assert isinstance(question, Request | FullListQuery)
        sent = waiting.pop(0)


def operations(request: Request) -> list[Any]:
    assert request.body is not None
    return list(request.body["Operations"])


def test_a_group_is_looked_for_twice_then_made_with_its_members() -> None:
    reached, asked = talk(NEW, listed(), listed(), answer(201, {"id": "9"}))
    assert reached == ReachedGroup("9", "made")
    assert [each.params.get("filter") for each in asked[:2]] == [
        'externalId eq "g1"',
        'displayName eq "Herbarium"',
    ]
    assert (
        asked[2].body["members"] == [{"value": "1"}, {"value": "2"}] and asked[2].body["externalId"] == "g1"
    )


def test_many_members_are_sent_in_parts() -> None:
    many = frozenset(f"{number:04d}" for number in range(250))
    reached, asked = talk(
        replace(NEW, members=many, ours=many),
        listed(),
        listed(),
        answer(201, {"id": "9"}),
        answer(200, {}),
        answer(204),
    )
    assert reached.remote_id == "9"
    sent = {each["value"] for each in asked[2].body["members"]} | {
        each["value"] for part in asked[3:] for op in operations(part) for each in op["value"]
    }
    assert sent == many and all(len(operations(part)) == 1 for part in asked[3:])


def test_our_group_after_a_lost_reply_is_ours_and_only_what_differs_is_sent() -> None:
    there = {
        "id": "9",
        "displayName": "herbs",
        "externalId": "g1",
        "members": [{"value": "1"}, {"value": "3"}, {"value": "77"}],
    }
    reached, asked = talk(NEW, listed(there), answer(200, there), answer(204))
    assert reached == ReachedGroup("9", "made")
    assert operations(asked[2]) == [
        {"op": "replace", "path": "displayName", "value": "Herbarium"},
        {"op": "remove", "path": 'members[value eq "3"]'},
        {"op": "add", "path": "members", "value": [{"value": "2"}]},
    ], "77 is nobody of ours, and stays"


def test_a_group_of_that_name_is_taken_over_only_if_that_is_switched_on() -> None:
    theirs = {"id": "9", "displayName": "HERBARIUM", "members": [{"value": "1"}, {"value": "2"}]}
    with pytest.raises(Refused, match="' exists already and was not created by Dravo") as told:
        talk(NEW, listed(), listed(theirs))
    assert (
        "To manage this group with Dravo, enable adopting groups by name. Otherwise set another name "
        "for the provisioned group." in told.value.hint
    )
    reached, _ = talk(replace(NEW, adopt=True), listed(), listed(theirs), answer(200, theirs), answer(204))
    assert reached == ReachedGroup("9", "adopted")
    with pytest.raises(Refused, match="another system"):
        talk(replace(NEW, adopt=True), listed(), listed({**theirs, "externalId": "x"}))
    with pytest.raises(Refused, match="2 groups"):
        talk(NEW, listed(), listed(theirs, {**theirs, "id": "10"}))


def test_a_known_group_gets_the_differences_and_nothing_else() -> None:
    reached, asked = talk(replace(KNOWN, add=frozenset({"5"}), remove=frozenset({'6"7'})), answer(204))
    assert reached == ReachedGroup("9", "made") and asked[0].path == "/Groups/9"
    assert operations(asked[0])[0]["path"] == 'members[value eq "6\\"7"]', (
        "an id cannot break out of the path"
    )
    assert talk(KNOWN) == (ReachedGroup("9", "made"), [])
    assert operations(talk(replace(KNOWN, name="Moss"), answer(204))[1][0]) == [
        {"op": "replace", "path": "displayName", "value": "Moss"}
    ]


def test_where_the_differences_are_not_enough_the_whole_is_asked_for() -> None:
    change = replace(KNOWN, add=frozenset({"5"}))
    for answers in ((404, 404), (405,), (501,)):
        with pytest.raises(NeedsWhole):
            talk(change, *map(answer, answers))


def test_a_known_group_in_doubt_is_read_first() -> None:
    doubtful = replace(NEW, remote_id="9", look=True, origin="adopted", applied_name="Herbarium")
    there = {"id": "9", "displayName": "Herbarium", "members": [{"value": "2"}, {"value": "3"}]}
    reached, asked = talk(doubtful, answer(200, there), answer(204))
    assert reached == ReachedGroup("9", "adopted")
    assert [each["op"] for each in operations(asked[1])] == ["remove", "add"]
    reached, asked = talk(doubtful, answer(404), listed(), listed(), answer(201, {"id": "11"}))
    assert reached == ReachedGroup("11", "made")


def test_without_patch_the_whole_is_put_and_strangers_stay() -> None:
    put_only = replace(NEW, remote_id="9", applied_name="Moss", capabilities=Capabilities(patch=False))
    there = {
        "id": "9",
        "displayName": "Moss",
        "note": "theirs",
        "meta": {},
        "members": [{"value": "3"}, {"value": "77"}],
    }
    _, asked = talk(put_only, answer(200, there), answer(200, {}))
    body = asked[1].body
    assert asked[1].method == "PUT" and body["note"] == "theirs" and "meta" not in body
    assert body["members"] == [{"value": "1"}, {"value": "2"}, {"value": "77"}]


def test_without_filter_the_list_is_looked_through() -> None:
    blind = replace(NEW, capabilities=Capabilities(filter=False))
    _, asked = talk(blind, [], [], answer(201, {"id": "9"}))
    assert asked[:2] == ["everyone", "everyone"]
    _, asked = talk(NEW, answer(400, {"detail": "no filters"}), [], listed(), answer(201, {"id": "9"}))
    assert asked[1] == "everyone"
    with pytest.raises(Refused, match="The groups of the application can be neither searched nor listed"):
        talk(blind, None)


def test_a_group_is_deleted_only_if_dravo_created_it() -> None:
    going = replace(KNOWN, name=None)
    assert talk(going, answer(204))[1][0].method == "DELETE"
    assert talk(going, answer(404))[0] == ReachedGroup(None)
    reached, asked = talk(replace(going, origin="adopted", remove=frozenset({"1"})), answer(204))
    assert reached == ReachedGroup(None) and operations(asked[0])[0]["op"] == "remove"
    assert talk(replace(going, remote_id=None)) == (ReachedGroup(None), [])


@pytest.mark.parametrize(
    ("status", "kind"),
    [(401, ConnectionPausedError), (429, RetryableError), (503, RetryableError), (400, Refused)],
)
def test_directory_errors_are_distinguished(status: int, kind: type[Exception]) -> None:
    with pytest.raises(kind):
        talk(
            replace(KNOWN, name="Moss", add=frozenset() if status == 400 else frozenset({"5"})),
            answer(status, {"detail": "No."}),
        )


def test_a_409_without_a_visible_group_is_reported() -> None:
    with pytest.raises(Refused, match=r"exists \(409\), but returns none\."):
        talk(NEW, listed(), listed(), answer(409), listed(), listed(), answer(409, {"detail": "taken"}))


def said(status: int, text: str) -> Response:
    return Response(status, {"detail": text}, text, "application/scim+json")


class Known:
    """An application that knows some accounts, and takes no request in which another one stands."""

    def __init__(self, accounts: set[str], members: set[str], *, names: bool) -> None:
        self.accounts, self.members, self.names, self.asked = accounts, members, names, 0

    def answer(self, question: Any) -> Any:
        if isinstance(question, Accounts):
            # It cannot be listed: halving is all that is left.
            return None
        self.asked += 1
        if question.method == "GET":
            return answer(
                200,
                {
                    "id": "9",
                    "displayName": "Herbarium",
                    "members": [{"value": each} for each in self.members],
                },
            )
        after, unknown = set(self.members), set()
        for each in operations(question):
            if each["op"] == "add":
                named = {member["value"] for member in each["value"]}
                after |= named
            else:
                named = {each["path"].split('"')[1]}
                after -= named
            unknown |= named - self.accounts
        if unknown:
            return said(
                400, f"There is no user {sorted(unknown)[0]}." if self.names else "Some value is not valid."
            )
        self.members = after
        return answer(204)

    def take(self, wanted: WantedGroup) -> ReachedGroup:
        conversation, sent = bring_group(wanted), None
        while True:
            try:
                question = conversation.send(sent)
            except StopIteration as end:
                return end.value
            sent = self.answer(question)


@pytest.mark.parametrize(
    "names",
    [True, False],
    ids=["named in the answer", "NAME= sends no value. Expressions that are not listed are deleted"],
)
@pytest.mark.parametrize("dead", [["account-0007"], ["account-0000", "account-0099"], []])
def test_a_deleted_member_affects_no_other_member(names: bool, dead: list[str]) -> None:
    every = {f"account-{number:04d}" for number in range(100)}
    leaves = {f"leaving-{number:04d}" for number in range(3)}
    there = Known((every | leaves) - {*dead, "leaving-0001"}, leaves - {"leaving-0001"}, names=names)
    reached = there.take(replace(KNOWN, add=frozenset(every), remove=frozenset(leaves)))
    assert there.members == every - set(dead)
    assert (reached.remote_id, reached.left_out, bool(reached.refusal)) == ("9", frozenset(dead), bool(dead))
    assert there.asked <= 40


def test_a_member_that_the_application_does_not_remove_is_reported() -> None:
    there = Known({"account-0001"}, {"leaving-0001", "account-0001"}, names=False)
    with pytest.raises(Refused, match="did not remove members"):
        there.take(replace(KNOWN, remove=frozenset({"leaving-0001"})))


def test_a_group_is_created_although_a_member_is_missing() -> None:
    new = replace(NEW, members=frozenset({"account-0001", "account-0002"}), ours=frozenset())
    gone = said(400, "There is no user account-0002.")
    reached, asked = talk(new, listed(), listed(), gone, answer(201, {"id": "9"}), gone, answer(204))
    assert (reached.remote_id, reached.origin, reached.left_out) == ("9", "made", frozenset({"account-0002"}))
    assert "members" not in asked[3].body and operations(asked[5]) == [
        {"op": "add", "path": "members", "value": [{"value": "account-0001"}]}
    ]


def test_without_patch_the_member_named_by_the_error_is_left_out() -> None:
    new = replace(
        NEW,
        remote_id="9",
        applied_name="Moss",
        capabilities=Capabilities(patch=False),
        members=frozenset({"account-0001", "account-0002"}),
    )
    there = {"id": "9", "displayName": "Moss", "members": []}
    reached, asked = talk(new, answer(200, there), said(400, "no account-0002"), answer(200, {}))
    assert reached.left_out == frozenset({"account-0002"}) and asked[2].body["members"] == [
        {"value": "account-0001"}
    ]
    assert "id" not in asked[2].body, "what is read-only is not sent"
    with pytest.raises(Refused):
        talk(new, answer(200, there), said(400, "no"))


def test_members_without_an_account_are_left_out_at_once() -> None:
    many = frozenset(f"{number:04d}" for number in range(64))
    dead = {"0003", "0040"}
    reached, asked = talk(
        replace(KNOWN, add=many),
        answer(400, {"detail": "no such member"}),
        answer(204),
        accounts=set(many - dead),
    )
    assert reached.left_out == dead
    assert len(asked) == 2, "the list says what halving would take many requests to find"
    assert {each["value"] for each in operations(asked[1])[0]["value"]} == many - dead
