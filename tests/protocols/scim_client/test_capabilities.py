"""What applications say of themselves, as it comes, and lists read page by page."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.capabilities import Capabilities, discover, read_capabilities, understand
from dravo.protocols.scim_client.listing import TooMany, everything
from dravo.protocols.scim_client.responses import ConnectionPausedError, RetryableError

USER = "urn:ietf:params:scim:schemas:core:2.0:User"


def answer(status: int, body: Any = None, text: str = "", kind: str = "application/scim+json") -> Response:
    return Response(status, body, text, kind)


def drive(conversation: Any, *answers: Response) -> tuple[Any, list[Request]]:
    asked: list[Request] = []
    waiting, sent = list(answers), None
    while True:
        try:
            asked.append(conversation.send(sent))
        except StopIteration as end:
            return end.value, asked
        sent = waiting.pop(0)


def schemas(**attributes: str) -> dict[str, Any]:
    return {
        "Resources": [
            {"id": USER, "attributes": [{"name": name, "type": kind} for name, kind in attributes.items()]}
        ]
    }


def test_an_application_that_says_nothing_can_do_what_the_standard_has() -> None:
    found, asked = drive(discover(), answer(404), answer(404), answer(404))
    assert found == Capabilities()
    assert [each.path for each in asked] == ["/ServiceProviderConfig", "/ResourceTypes", "/Schemas"]
    assert found.takes("anything") and found.active and found.page == 100


@pytest.mark.parametrize(
    ("config", "expected"),
    [
        ({}, {"patch": False, "filter": False, "bulk": False, "max_results": None}),
        (
            {"patch": {"supported": True}, "filter": {"supported": True, "maxResults": 20}},
            {"patch": True, "filter": True, "max_results": 20},
        ),
        (
            {"patch": True, "filter": {"supported": "yes", "maxResults": -1}},
            {"patch": False, "filter": False, "max_results": None},
        ),
        (
            {"pagination": {"cursor": True}, "sort": {"supported": True}, "etag": {"supported": True}},
            {"cursor": True, "sort": True, "etag": True},
        ),
        ({"filter": {"supported": True, "maxResults": True}}, {"max_results": None}),
    ],
)
def test_error_responses_are_understood_in_every_form(
    config: dict[str, Any], expected: dict[str, Any]
) -> None:
    document = understand(config, None, None).document()
    assert {name: document[name] for name in expected} == expected


def test_attributes_roles_and_groups_are_read_from_its_schemas() -> None:
    types = {"Resources": [{"name": "User", "schemaExtensions": [{"schema": "urn:x:User"}]}]}
    found = understand(
        {"patch": {"supported": True}},
        types,
        schemas(userName="string", roles="string", displayName="string"),
    )
    assert found.attributes == ("displayname", "roles", "urn:x:user", "username")
    assert (found.roles, found.groups, found.active) == ("strings", False, False)
    assert (
        found.takes("externalId")
        and found.takes("userNAME")
        and found.takes("urn:x:User")
        and not found.takes("title")
    )
    notes = " ".join(found.notes)
    assert "No group support" in notes and "No inactive accounts" in notes and "title" in notes
    assert read_capabilities(found.document()) == found
    assert read_capabilities({"patch": False, "filter": True, "unknown": 1}).patch is False


@pytest.mark.parametrize(
    ("types", "described"),
    [
        ({"Resources": "x"}, {"Resources": None}),
        ({"Resources": [1]}, {"Resources": [{"id": 7}]}),
        (None, {"Resources": [{"id": USER, "attributes": []}]}),
        ({}, {}),
    ],
)
def test_documents_of_a_strange_form_say_nothing(types: Any, described: Any) -> None:
    found = understand(None, types, described)
    assert found.attributes is None and found.groups


def test_a_refused_token_or_an_html_page_is_reported_at_once() -> None:
    with pytest.raises(ConnectionPausedError):
        drive(discover(), answer(401, {"detail": "no"}))
    with pytest.raises(ConnectionPausedError):
        drive(discover(), answer(200, None, "<!doctype html>", "text/html"))
    with pytest.raises(RetryableError):
        drive(discover(), answer(503))


def page(total: int, *ids: str, **more: Any) -> Response:
    return answer(200, {"totalResults": total, "Resources": [{"id": each} for each in ids], **more})


def test_a_list_is_read_by_index_or_by_cursor() -> None:
    found, asked = drive(everything("/Users", Capabilities(max_results=2)), page(3, "1", "2"), page(3, "3"))
    assert [each["id"] for each in found] == ["1", "2", "3"]
    assert [(each.params["startIndex"], each.params["count"]) for each in asked] == [("1", "2"), ("3", "2")]
    found, asked = drive(
        everything("/Users", Capabilities(cursor=True)), page(3, "1", "2", nextCursor="c"), page(3, "3")
    )
    assert len(found) == 3 and [each.params["cursor"] for each in asked] == ["", "c"]
    assert drive(everything("/Users", Capabilities()), page(0))[0] == []


def test_half_a_list_is_none() -> None:
    with pytest.raises(RetryableError, match="The list has 5 entries, but the application returned 2"):
        drive(everything("/Users", Capabilities(max_results=2)), page(5, "1", "2"), page(5))
    with pytest.raises(RetryableError, match="twice"):
        drive(everything("/Users", Capabilities(max_results=2)), page(5, "1", "2"), page(5, "1", "2"))
    with pytest.raises(TooMany):
        drive(everything("/Users", Capabilities(), most=10), page(11, "1"))


def test_a_page_that_fails_in_passing_is_asked_for_again() -> None:
    found, asked = drive(everything("/Users", Capabilities()), answer(503), answer(502), page(1, "1"))
    assert len(found) == 1 and len(asked) == 3
    with pytest.raises(RetryableError):
        drive(everything("/Users", Capabilities()), *[answer(503)] * 4)
