"""Filters with fixed values: no row of a list is shown under two values of the same filter."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.harness import RunningDemo

DOCUMENT: dict[str, Any] = json.loads((Path(__file__).parents[2] / "console/openapi.json").read_text())
# Values that include others on purpose.
OVERLAPPING = {"form", "only", "whose"}
ALL_OPEN = ("/api/v1/provisioning/tasks", "open")
PLACES = {"/api/v1/applications/": "ticket-desk", "/api/v1/sources/": "estates"}


def values_of(parameter: dict[str, Any]) -> list[str]:
    schema = parameter["schema"]
    choices = [schema, *schema.get("anyOf", ())]
    return next((list(each["enum"]) for each in choices if "enum" in each), [])


def filters() -> Iterator[tuple[str, str, list[str]]]:
    """Yield the path, name and values of each filter of a list that needs no ID."""
    for path, operations in DOCUMENT["paths"].items():
        if "{id}" in path or path.endswith("/export"):
            continue
        for parameter in operations.get("get", {}).get("parameters", ()):
            values = [value for value in values_of(parameter) if (path, value) != ALL_OPEN]
            if parameter["in"] == "query" and values and parameter["name"] not in OVERLAPPING:
                yield path, parameter["name"], values


@pytest.mark.parametrize(("path", "name", "values"), list(filters()))
def test_no_row_is_shown_under_two_values_of_a_filter(
    demo: RunningDemo, path: str, name: str, values: list[str]
) -> None:
    shown: Counter[str] = Counter()
    place = next((key for start, key in PLACES.items() if path.startswith(start)), "")
    for value in values:
        answer = httpx.get(
            demo.url + path.replace("{key}", place),
            params={name: value, "count": 500},
            headers={"Authorization": f"Bearer {demo.ready['api_token']}"},
            timeout=60,
        )
        assert answer.status_code == 200, answer.text
        shown.update(json.dumps(item, sort_keys=True) for item in answer.json()["items"])
    assert [row for row, times in shown.items() if times > 1] == []


def test_users_of_each_status_are_listed_apart(demo: RunningDemo) -> None:
    with demo.dravo as dravo:
        for status in ("active", "inactive", "left"):
            assert {user["status"] for user in dravo.users.list(status=status)} == {status}
