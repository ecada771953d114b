"""Requests made up from the API's own document: whatever comes, the service answers, and never with an error
of its own.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings

from tests import harness
from tests.scale import sized

# As the service gives it; `make lint` compares them.
DOCUMENT: dict[str, Any] = json.loads((Path(__file__).parents[2] / "console/openapi.json").read_text())


def part_of(path: str) -> str:
    """Return the resource that a path is about."""
    return path.removeprefix("/api/v1/").partition("/")[0]


PARTS = sorted({part_of(path) for path in DOCUMENT["paths"]})


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[harness.Running]:
    """A service of its own, with a little in it."""
    with harness.service(tmp_path_factory.mktemp("generated")) as started:
        provider = started.provider("staff")
        started.application("records")
        with started.dravo as dravo:
            dravo.assignments.add(
                "records", "viewer", group=provider.group("Herbarium", [provider.user("ada")])
            )
        yield started


@pytest.mark.parametrize("part", PARTS)
def test_no_request_gets_an_error_of_the_services_own(own: harness.Running, part: str) -> None:
    paths = {path: each for path, each in DOCUMENT["paths"].items() if part_of(path) == part}
    tried = 0
    for found in schemathesis.openapi.from_dict({**DOCUMENT, "paths": paths}).get_all_operations():
        operation = found.ok()

        @settings(
            max_examples=sized(4, 100),
            suppress_health_check=list(HealthCheck),
            derandomize=sized(True, False),
            database=None,
        )
        @given(case=operation.as_strategy())
        def answers(case: Any) -> None:
            answer = case.call(base_url=own.url, headers={"Authorization": f"Bearer {own.api_token}"})
            assert answer.status_code < 500, f"{case.method} {case.formatted_path}: {answer.text}"
            if answer.status_code >= 400:
                error = answer.json()["error"]
                assert error["code"] and error["message"]

        answers()
        tried += 1
    assert tried == sum(len(each) for each in paths.values())


def test_no_route_is_left_out_by_mistake() -> None:
    assert len(PARTS) > 15
