"""Many changes in one request, without a network: made out of single ones, and taken apart."""

from __future__ import annotations

from typing import Any

import pytest

from dravo.protocols.http_client import Request, Response
from dravo.protocols.scim_client.bulk import MOST, apart, is_not_taken, joined, most_together, parts
from dravo.protocols.scim_client.capabilities import Capabilities, understand, without_bulk

MADE = Request("POST", "/Users", body={"userName": "ada"})
CHANGED = Request("PATCH", "/Users/7", body={"Operations": []})
GONE = Request("DELETE", "/Users/8")


def answer(*operations: dict[str, Any], status: int = 200) -> Response:
    return Response(
        status,
        {"Operations": list(operations)},
        "",
        "application/scim+json",
        retry_after=3.0 if status == 429 else None,
    )


def test_each_operation_has_its_own_bulk_id() -> None:
    request = joined([MADE, CHANGED, GONE])
    assert (request.method, request.path) == ("POST", "/Bulk")
    assert request.body is not None
    assert request.body["Operations"] == [
        {"method": "POST", "path": "/Users", "bulkId": "0", "data": {"userName": "ada"}},
        {"method": "PATCH", "path": "/Users/7", "bulkId": "1", "data": {"Operations": []}},
        {"method": "DELETE", "path": "/Users/8", "bulkId": "2"},
    ]


def test_a_created_account_is_identified_by_its_location() -> None:
    own = apart(
        [MADE],
        answer(
            {
                "method": "POST",
                "bulkId": "0",
                "status": "201",
                "location": "https://rota.example/scim/v2/Users/a%2Fb",
            }
        ),
    )[0]
    assert own is not None and (own.status, own.body) == (201, {"id": "a/b"})


def test_results_are_found_by_their_id_in_any_order_and_what_is_missing_is_not_guessed() -> None:
    told = answer(
        {"bulkId": "2", "status": "204"}, {"bulkId": "0", "status": "409", "response": {"detail": "taken"}}
    )
    first, second, third = apart([MADE, CHANGED, GONE], told)
    assert first is not None and (first.status, first.body) == (409, {"detail": "taken"})
    assert second is None
    assert third is not None and third.status == 204


@pytest.mark.parametrize("status", [{"code": "200"}, 200, "200"])
def test_results_without_bulk_ids_are_matched_by_order(status: Any) -> None:
    own = apart([CHANGED, GONE], answer({"status": status}, {"status": "404"}))
    assert [each.status if each else None for each in own] == [200, 404]


@pytest.mark.parametrize(
    "operation",
    [
        {"bulkId": "0", "status": "soon"},
        {"bulkId": "0"},
        {"bulkId": "0", "status": "7"},
        {"bulkId": "9", "status": "201"},
    ],
)
def test_a_result_that_cannot_be_read_leaves_doubt(operation: dict[str, Any]) -> None:
    assert apart([MADE, CHANGED], answer(operation)) == [None, None]


def test_an_error_for_the_whole_bulk_request_applies_to_every_operation() -> None:
    whole = answer(status=429)
    assert apart([MADE, CHANGED], whole) == [whole, whole]
    assert not is_not_taken(whole)


@pytest.mark.parametrize("offered, most", [(None, MOST), (7, 7), (100_000, MOST)])
def test_bulk_requests_respect_the_offered_maximum(offered: int | None, most: int) -> None:
    capabilities = Capabilities(bulk=True, bulk_operations=offered)
    assert most_together(capabilities) == most
    cut = list(parts([GONE] * (most + 1), capabilities))
    assert [len(each) for each in cut] == [most, 1]
    assert [place for each in cut for place in each] == list(range(most + 1))


def test_no_request_is_larger_than_is_taken_unless_one_change_is_that_alone() -> None:
    large = Request("POST", "/Users", body={"userName": "x" * 2_000})
    assert list(parts([MADE, MADE, large, MADE], Capabilities(bulk=True, bulk_payload=1_000))) == [
        [0, 1],
        [2],
        [3],
    ]


def test_offered_capabilities_are_read_and_reported() -> None:
    found = understand(
        {"bulk": {"supported": True, "maxOperations": 50, "maxPayloadSize": 1_048_576}}, None, None
    )
    assert (found.bulk, found.bulk_operations, found.bulk_payload) == (True, 50, 1_048_576)
    assert any("50" in note for note in found.notes)
    after = without_bulk(found)
    assert most_together(after) == 1 and any(
        "The application reports bulk support, but refused a bulk request. Dravo sends single requests."
        in note
        for note in after.notes
    )
    assert most_together(understand({"bulk": {"supported": True, "maxOperations": True}}, None, None)) == MOST
