"""The task's conversation, without a network: what it asks and what it concludes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from dravo.core.provisioning.accounts import scim_body, with_manager
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.account_sync import (
    AccountResult,
    AccountTarget,
    CachedListQuery,
    FullListQuery,
    IsLinkedQuery,
    sync_account,
)
from dravo.protocols.scim_client.capabilities import Capabilities
from dravo.protocols.scim_client.responses import (
    ConnectionPausedError,
    HeldBySettings,
    Refused,
    RetryableError,
    Unknown,
)

ROLE = {"value": "viewer", "display": "Viewer", "primary": True}
DUE = {
    "want": "present",
    "active": True,
    "roles": [ROLE],
    "user": {"userName": "ada", "externalId": "u1", "displayName": "Ada"},
}
OFF = {**DUE, "active": False, "roles": []}
WANTED = AccountTarget("u1", DUE)


def answer(
    status: int, body: Any = None, text: str = "", kind: str = "application/scim+json", **more: Any
) -> Response:
    return Response(status, body, text, kind, **more)


def listed(*resources: dict[str, Any]) -> Response:
    return answer(200, {"totalResults": len(resources), "Resources": list(resources)})


def talk(wanted: AccountTarget, *answers: Any) -> tuple[AccountResult, list[str]]:
    """Return what was reached and what was asked, given the answers in their order."""
    conversation, asked, waiting = sync_account(wanted), [], list(answers)
    sent: Any = None
    while True:
        try:
            question = conversation.send(sent)
        except StopIteration as end:
            assert waiting == [], "not all was asked"
            return end.value, asked
        if isinstance(question, CachedListQuery):
            sent = None
            continue
        asked.append(told(question))
        sent = waiting.pop(0)


def told(question: Any) -> str:
    if isinstance(question, IsLinkedQuery):
        return f"bound {question.remote_id}"
    if isinstance(question, FullListQuery):
        return "everyone"
    assert isinstance(question, Request)
    return f"{question.method} {question.path} {question.params.get('filter', '')}".strip()


BY_ID, BY_NAME = 'GET /Users externalId eq "u1"', 'GET /Users userName eq "ada"'


def test_it_looks_twice_before_it_creates() -> None:
    reached, asked = talk(WANTED, listed(), listed(), answer(201, {"id": "7"}))
    assert (reached, asked) == (AccountResult("7", "made"), [BY_ID, BY_NAME, "POST /Users"])


def test_an_account_that_carries_our_id_is_ours_after_a_lost_reply() -> None:
    reached, asked = talk(WANTED, listed({"id": "7", **scim_body(DUE)}))
    assert (reached, asked) == (AccountResult("7", "made"), [BY_ID])


def test_a_service_that_overlooks_the_filter_does_not_make_another_user_ours() -> None:
    others = listed({"id": "1", "userName": "bob", "externalId": "u2"}, {"id": "2", "userName": "eve"})
    reached, _ = talk(WANTED, others, others, answer(201, {"id": "7"}))
    assert reached == AccountResult("7", "made")


def test_an_account_of_the_same_name_is_adopted_only_if_allowed_and_unlinked() -> None:
    free = {"id": "7", "userName": "ADA"}
    with pytest.raises(Refused, match="exists"):
        talk(WANTED, listed(), listed(free))
    adopting = replace(WANTED, adopt_by=("userName",))
    reached, asked = talk(adopting, listed(), listed(free), False, answer(200, {"id": "7"}))
    assert (reached, asked[2:]) == (AccountResult("7", "adopted"), ["bound 7", "PATCH /Users/7"])
    with pytest.raises(Refused, match="' belongs to another user"):
        talk(adopting, listed(), listed(free), True)
    with pytest.raises(Refused, match="till-9"):
        talk(adopting, listed(), listed({**free, "externalId": "till-9"}), False)
    # An external id that is one of ours is no other system's.
    with pytest.raises(Refused, match="' belongs to another user"):
        talk(adopting, listed(), listed({**free, "externalId": "u2"}), True)


MAIL = "ada@fernhollow.example"
WITH_MAIL = {**DUE, "user": {**DUE["user"], "emails": [{"value": MAIL, "primary": True}]}}
BY_MAIL = f'GET /Users emails.value eq "{MAIL}"'


def by_mail(*attributes: str) -> AccountTarget:
    return replace(WANTED, desired=WITH_MAIL, adopt_by=attributes)


def test_an_account_is_adopted_by_its_email_address() -> None:
    free = {"id": "7", "userName": "a.birch", "emails": [{"value": MAIL.upper()}]}
    found = (listed(), listed(), listed(free), False, answer(200, {"id": "7"}))
    reached, asked = talk(by_mail("emails"), *found)
    assert reached == AccountResult("7", "adopted")
    assert BY_MAIL in asked and asked[-1] == "PATCH /Users/7"
    # Without the setting, nobody searches by it.
    reached, asked = talk(by_mail(), listed(), listed(), answer(201, {"id": "8"}))
    assert reached == AccountResult("8", "made") and BY_MAIL not in asked


def test_accounts_of_others_with_the_same_email_address_are_left_alone() -> None:
    foreign = {"id": "6", "userName": "x", "externalId": "till-9", "emails": [{"value": MAIL}]}
    another = {"id": "7", "userName": "y", "emails": [{"value": MAIL}]}
    reached, _ = talk(
        by_mail("emails"), listed(), listed(), listed(foreign, another), True, answer(201, {"id": "8"})
    )
    assert reached == AccountResult("8", "made")
    free = [{**another, "id": "9"}, {**another, "id": "10"}]
    with pytest.raises(Refused, match="2 accounts without an external ID have the emails"):
        talk(by_mail("emails"), listed(), listed(), listed(*free), False, False)


def test_an_account_of_the_same_name_is_adopted_if_another_attribute_allows_it() -> None:
    free = {"id": "7", "userName": "ada", "emails": [{"value": MAIL}]}
    reached, _ = talk(
        by_mail("emails"), listed(), listed(free), listed(free), False, answer(200, {"id": "7"})
    )
    assert reached == AccountResult("7", "adopted")
    with pytest.raises(Refused, match="was not created by Dravo"):
        talk(by_mail("emails"), listed(), listed({**free, "emails": []}), listed())


def test_an_account_is_adopted_by_an_attribute_of_an_extension() -> None:
    number = f"{ENTERPRISE_URN}:employeeNumber"
    due = {**DUE, "user": {**DUE["user"], ENTERPRISE_URN: {"employeeNumber": "4711"}}}
    free = {"id": "7", "userName": "x", ENTERPRISE_URN: {"employeeNumber": "4711"}}
    wanted = replace(WANTED, desired=due, adopt_by=(number,))
    reached, asked = talk(wanted, listed(), listed(), listed(free), False, answer(200, {"id": "7"}))
    assert reached == AccountResult("7", "adopted")
    assert f'GET /Users {number} eq "4711"' in asked


def test_two_accounts_with_our_id_are_left_to_a_user() -> None:
    with pytest.raises(Refused, match="2 accounts"):
        talk(WANTED, listed({"id": "1", "externalId": "u1"}, {"id": "2", "externalId": "u1"}))


def test_where_the_filter_is_overlooked_everyone_is_read() -> None:
    first_page = answer(200, {"totalResults": 250, "Resources": [{"id": "1", "userName": "zoe"}]})
    mine = {"id": "7", **scim_body(DUE), "externalId": "u1"}
    reached, asked = talk(WANTED, first_page, [{"id": "1", "userName": "zoe"}, mine])
    assert (reached, asked) == (AccountResult("7", "made"), [BY_ID, "everyone"])
    # One who is not among all of them is made.
    reached, asked = talk(
        WANTED, first_page, [{"id": "1", "userName": "zoe"}], first_page, [], answer(201, {"id": "8"})
    )
    assert (reached, asked[-1]) == (AccountResult("8", "made"), "POST /Users")


def test_who_is_to_be_deleted_and_cannot_be_found_or_is_there_twice_is_left_to_a_user() -> None:
    gone = {"want": "absent"}
    doubt = replace(WANTED, desired=gone, doubt=True, capabilities=Capabilities(filter=False))
    with pytest.raises(
        Unknown, match="The outcome is unknown: the response was lost, and the application cannot be searched"
    ):
        talk(doubt, None)
    assert talk(replace(doubt, doubt=False), None)[0] == AccountResult(None)
    with pytest.raises(Refused, match="2 accounts"):
        talk(
            replace(WANTED, desired=gone),
            listed({"id": "1", "externalId": "u1"}, {"id": "2", "externalId": "u1"}),
        )
    reached, asked = talk(replace(WANTED, desired=gone), listed({"id": "1", "externalId": "u1"}), answer(204))
    assert (reached, asked[-1]) == (AccountResult(None), "DELETE /Users/1")


def test_after_a_conflict_it_looks_again() -> None:
    reached, asked = talk(WANTED, listed(), listed(), answer(409), listed({"id": "7", **scim_body(DUE)}))
    assert (reached, asked[-1]) == (AccountResult("7", "made"), BY_ID)
    with pytest.raises(Refused, match="409"):
        talk(WANTED, listed(), listed(), answer(409), listed(), listed(), answer(409))


def test_an_account_listed_and_deleted_is_no_conflict() -> None:
    shown = listed({"id": "7", **scim_body(OFF), "externalId": "u1"})
    with pytest.raises(RetryableError, match="disappeared from the application"):
        talk(WANTED, shown, answer(404), shown, answer(404))


def test_only_what_differs_is_sent() -> None:
    before = {**DUE, "user": {**DUE["user"], "displayName": "Ida", "title": "Gone"}}
    conversation = sync_account(replace(WANTED, remote_id="7", applied=before))
    request = next(conversation)
    assert isinstance(request, Request)
    assert (request.method, request.path) == ("PATCH", "/Users/7")
    assert request.body is not None
    assert request.body["Operations"] == [
        {"op": "replace", "path": "displayName", "value": "Ada"},
        {"op": "remove", "path": "title"},
    ]


def test_nothing_is_sent_where_nothing_differs() -> None:
    assert talk(replace(WANTED, remote_id="7", applied=DUE)) == (AccountResult("7"), [])


def test_a_missing_account_is_searched_and_created_again() -> None:
    known = replace(WANTED, remote_id="7", applied=OFF)
    reached, asked = talk(known, answer(404), listed(), listed(), answer(201, {"id": "8"}))
    assert (reached, asked) == (AccountResult("8", "made"), ["PATCH /Users/7", BY_ID, BY_NAME, "POST /Users"])
    with pytest.raises(
        HeldBySettings,
        match="The user has no account, and creating accounts is disabled for this application",
    ):
        talk(replace(known, may_create=False), answer(404), listed(), listed())


def test_a_listed_account_that_is_missing_is_searched_again() -> None:
    for known in ({"id": "7", **scim_body(DUE)}, {"id": "7", "userName": "ada"}):
        conversation = sync_account(replace(WANTED, adopt_by=("userName",)))
        assert isinstance(next(conversation), CachedListQuery)
        question = conversation.send([known])
        if isinstance(question, IsLinkedQuery):
            question = conversation.send(False)
        assert told(question) == "GET /Users/7"
        # It is not there: what the list says of it counts no more, and neither does the list.
        assert told(conversation.send(answer(404))) == BY_ID
        assert told(conversation.send(listed())) == BY_NAME
        assert told(conversation.send(listed())) == "POST /Users"


def test_who_has_no_access_is_not_made_in_order_to_be_inactive() -> None:
    assert talk(replace(WANTED, desired=OFF), listed()) == (AccountResult(None), [BY_ID])


def test_where_there_is_no_patch_the_whole_is_put_and_what_is_not_ours_is_kept() -> None:
    current = {"id": "7", "userName": "ada", "nickName": "theirs", "phone": "1", "meta": {}, "groups": []}
    conversation = sync_account(
        replace(WANTED, remote_id="7", applied=OFF, capabilities=Capabilities(patch=False))
    )
    assert told(next(conversation)) == "GET /Users/7"
    put = conversation.send(answer(200, current))
    assert isinstance(put, Request)
    assert put.method == "PUT"
    assert put.body is not None
    assert (put.body["phone"], put.body["active"], put.body["roles"]) == ("1", True, [ROLE])
    assert "id" not in put.body, "what is read-only is not sent"
    reached, asked = talk(
        replace(WANTED, remote_id="7", applied=OFF),
        answer(501),
        answer(200, current),
        answer(200, {"id": "7"}),
    )
    assert (reached, asked) == (AccountResult("7"), ["PATCH /Users/7", "GET /Users/7", "PUT /Users/7"])


def test_a_put_removes_what_the_user_lost_and_keeps_what_is_not_ours() -> None:
    user = {**DUE["user"], "title": "Guide", ENTERPRISE_URN: {"department": "Gardens", "division": "South"}}
    lost = {**DUE["user"], ENTERPRISE_URN: {"division": "South"}}
    current = {**user, "id": "7", "phone": "1", ENTERPRISE_URN: {**user[ENTERPRISE_URN], "badge": "12"}}
    conversation = sync_account(
        replace(
            WANTED,
            remote_id="7",
            applied={**DUE, "user": user},
            desired={**DUE, "user": lost},
            capabilities=Capabilities(patch=False),
        )
    )
    assert told(next(conversation)) == "GET /Users/7"
    put = conversation.send(answer(200, current))
    assert isinstance(put, Request) and put.body is not None
    assert "title" not in put.body and put.body["phone"] == "1"
    assert put.body[ENTERPRISE_URN] == {"division": "South", "badge": "12"}


def manager(account: str | None = None) -> dict[str, Any]:
    return with_manager({**DUE, "manager": {"source": "s", "value": "m"}}, account)


def test_a_manager_is_sent_by_the_account_and_left_out_without_one() -> None:
    held = replace(WANTED, remote_id="7", applied=DUE)
    assert talk(replace(held, desired=manager())) == (AccountResult("7"), [])
    conversation = sync_account(replace(held, desired=manager("9")))
    patch = next(conversation)
    assert isinstance(patch, Request) and patch.body is not None
    path = f"{ENTERPRISE_URN}:manager"
    assert patch.body["Operations"] == [{"op": "replace", "path": path, "value": {"value": "9"}}]
    conversation = sync_account(replace(held, applied=manager("9"), desired=manager()))
    patch = next(conversation)
    assert isinstance(patch, Request) and patch.body is not None
    assert patch.body["Operations"] == [{"op": "remove", "path": path}]


def test_an_account_that_names_the_manager_already_is_not_changed() -> None:
    found = {**DUE["user"], "id": "7", "active": True, "roles": [ROLE]}
    found[ENTERPRISE_URN] = {"manager": {"value": "9", "displayName": "Una"}, "badge": "12"}
    reached, asked = talk(replace(WANTED, remote_id="7", desired=manager("9")), answer(200, found))
    assert (reached, asked) == (AccountResult("7"), ["GET /Users/7"])


def test_an_application_without_managers_gets_none() -> None:
    held = replace(WANTED, remote_id="7", applied=DUE, capabilities=Capabilities(manager=False))
    assert talk(replace(held, desired=manager("9"))) == (AccountResult("7"), [])


def test_without_updates_only_deactivations_are_sent() -> None:
    held = replace(WANTED, remote_id="7", may_update=False)
    with pytest.raises(HeldBySettings):
        talk(replace(held, applied=OFF))
    conversation = sync_account(
        replace(held, applied=DUE, desired={**OFF, "user": {**DUE["user"], "displayName": "New"}})
    )
    request = next(conversation)
    assert isinstance(request, Request)
    assert request.body is not None
    assert {operation["path"] for operation in request.body["Operations"]} == {"active", "roles"}


def test_deleting_a_missing_account_succeeds() -> None:
    gone = replace(WANTED, desired={"want": "absent"})
    assert talk(replace(gone, remote_id="7"), answer(204)) == (AccountResult(None), ["DELETE /Users/7"])
    assert talk(replace(gone, remote_id="7"), answer(404)) == (AccountResult(None), ["DELETE /Users/7"])
    assert talk(gone, listed()) == (AccountResult(None), [BY_ID])
    assert talk(gone, listed({"id": "7", "externalId": "u1"}), answer(204))[1] == [BY_ID, "DELETE /Users/7"]


@pytest.mark.parametrize(
    ("response", "trouble", "words"),
    [
        (answer(503, text="down"), RetryableError, "down"),
        (answer(429, retry_after=7.0), RetryableError, "429"),
        (answer(401, {"detail": "Bad token."}), ConnectionPausedError, "Bad token."),
        (answer(403), ConnectionPausedError, "403"),
        (answer(302, location="https://elsewhere.example/"), ConnectionPausedError, "elsewhere.example"),
        (answer(200, None, "<html><title>Welcome</title>", "text/html"), ConnectionPausedError, "web page"),
        (answer(404, None, "not found"), ConnectionPausedError, "not found"),
        (answer(400, {"detail": "No seats left."}), Refused, "No seats left."),
    ],
)
def test_an_answer_leads_to_the_right_conclusion(
    response: Response, trouble: type[Exception], words: str
) -> None:
    with pytest.raises(trouble, match=words):
        talk(WANTED, listed(), listed(), response) if trouble is not ConnectionPausedError else talk(
            WANTED, response
        )


def test_an_application_s_wish_to_be_left_alone_is_kept() -> None:
    with pytest.raises(RetryableError) as told_:
        talk(WANTED, answer(429, retry_after=7.0))
    assert told_.value.after == 7.0


def test_ids_and_names_cannot_break_out_of_path_or_filter() -> None:
    conversation = sync_account(
        replace(WANTED, desired={**DUE, "user": {**DUE["user"], "userName": 'a" or userName pr'}})
    )
    assert isinstance(next(conversation), CachedListQuery)
    conversation.send(None)
    by_name = conversation.send(listed())
    assert isinstance(by_name, Request)
    assert by_name.params["filter"] == 'userName eq "a\\" or userName pr"'
    request = next(sync_account(replace(WANTED, remote_id="../Groups/1?x#y", applied=OFF)))
    assert isinstance(request, Request)
    assert request.path == "/Users/..%2FGroups%2F1%3Fx%23y"
