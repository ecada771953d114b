"""Requests made up from the API's own document: whatever comes, the service answers, and never with an error of its own."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import httpx
import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings

from tests import harness

# Removing the token that asks, or the operator behind it, would end the test and not the service.
LEFT_OUT = ("/api/v1/operators/{id}/disable", "/api/v1/tokens/{id}", "/api/v1/session")


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[harness.Running]:
    """A service of its own, with a little in it."""
    with harness.service(tmp_path_factory.mktemp("generated")) as started:
        provider = started.provider("staff")
        started.application("records")
        with started.dravo as dravo:
            dravo.assignments.add("records", "viewer", group=provider.group("Herbarium", [provider.person("ada")]))
        yield started


@pytest.fixture(scope="module")
def document(own: harness.Running) -> Any:
    headers = {"Authorization": f"Bearer {own.api_token}"}
    found = httpx.get(f"{own.url}/api/v1/openapi.json", headers=headers, trust_env=False).json()
    found["paths"] = {path: each for path, each in found["paths"].items() if path not in LEFT_OUT}
    return schemathesis.openapi.from_dict(found)


def test_no_request_gets_an_error_of_the_services_own(own: harness.Running, document: Any) -> None:
    tried = 0
    for found in document.get_all_operations():
        operation = found.ok()

        @settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True, database=None)
        @given(case=operation.as_strategy())
        def answers(case: Any) -> None:
            answer = case.call(base_url=own.url, headers={"Authorization": f"Bearer {own.api_token}"})
            assert answer.status_code < 500, f"{case.method} {case.formatted_path}: {answer.text}"
            if answer.status_code >= 400:
                error = answer.json()["error"]
                assert error["code"] and error["message"]

        answers()
        tried += 1
    assert tried > 50
