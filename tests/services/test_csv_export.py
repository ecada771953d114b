"""Files of rows: whatever stands in a cell comes back as it was, and no cell is a formula for a
spreadsheet.
"""

from __future__ import annotations

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import text

from dravo.core.access.reasons import chain, named
from dravo.core.errors import StorageFailing
from dravo.services.access import assignments
from dravo.services.access.assignment_targets import AssignmentRequest
from dravo.services.access.matrix import View
from dravo.services.access.reviews import reviews as access_reviews
from dravo.services.changes import recompute
from dravo.services.csv_export import FORMULA, csv_line
from dravo.services.security import api_tokens, operators
from dravo.services.security.operator_kinds import NewOperator
from dravo.services.security.permissions import SUPER_ADMINISTRATOR, Caller
from dravo.web.app import create_app
from tests.service_fixture import ServiceFixture

cells = st.lists(
    st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=20),
    min_size=1,
    max_size=6,
)


@given(cells)
def test_cells_stay_unchanged_except_formulas(some: list[str]) -> None:
    line = csv_line(some).decode()
    assert line.endswith("\r\n")
    read = next(csv.reader(io.StringIO(line, newline="")), [])
    assert not any(cell.startswith(FORMULA) for cell in read)
    assert [
        cell.removeprefix("'") if original.startswith(FORMULA) else cell
        for cell, original in zip(read, some, strict=True)
    ] == some


def test_a_reason_is_said_with_the_way_to_it_or_by_what_it_names() -> None:
    group = {
        "kind": "group",
        "group": "g",
        "group_name": "Herbarium",
        "source_label": "Staff",
        "through_names": ["Apprentices"],
        "rule": None,
    }
    assert (named(group), chain(group)) == ("group Herbarium", "Staff > Apprentices > Herbarium")
    assert chain({**group, "group_name": None, "source_label": None, "through_names": []}) == "g"
    others = {
        "rule": 'rule title eq "Guide"',
        "everyone": "everyone",
        "fallback": "fallback role",
        "retained": "retained role",
        "direct": "direct assignment",
    }
    for kind, words in others.items():
        assert chain({"kind": kind, "group": None, "rule": 'title eq "Guide"'}) == words


@pytest.mark.parametrize("of", ["matrix", "review"])
@pytest.mark.parametrize("taken", [None, 0, 1, 3], ids=["HEAD", "nothing of it", "a piece", "some pieces"])
def test_an_abandoned_export_releases_its_connection(
    services: ServiceFixture, of: str, taken: int | None
) -> None:
    services.application()
    staff = services.source()
    for number in range(3):
        services.user(staff, f"p{number}")
    assignments.add(services.ctx, services.caller, AssignmentRequest("records", "viewer", everyone=True))
    recompute.process_marks(services.ctx)
    super_admin = _super_admin(services)
    review = access_reviews.start(services.ctx, super_admin, "Winter", "2099-01-31", View()).id
    token = api_tokens.create(services.ctx, super_admin, "Tests", "read").token
    http = create_app(services.ctx, "http://127.0.0.1:1").test_client()
    path = "/api/v1/access/matrix/export" if of == "matrix" else f"/api/v1/reviews/{review}/export"

    def out() -> int:
        return int(services.ctx.database._readers.pool.checkedout())  # type: ignore[attr-defined]

    http.get(path, headers={"Authorization": f"Bearer {token}"})
    before = out()
    for _ in range(20):
        method = "HEAD" if taken is None else "GET"
        answer = http.open(path, method=method, headers={"Authorization": f"Bearer {token}"}, buffered=False)
        assert answer.status_code == 200
        for _ in range(taken or 0):
            next(answer.response)  # type: ignore[call-overload]
        answer.close()
    assert out() == before


def _super_admin(services: ServiceFixture) -> Caller:
    made = operators.add(services.ctx, operators.SYSTEM, NewOperator("edmund.sallow", SUPER_ADMINISTRATOR))
    return Caller(made.id, made.name, SUPER_ADMINISTRATOR)


def test_unreadable_records_are_reported(services: ServiceFixture) -> None:
    with (
        pytest.raises(StorageFailing, match=r"cannot be read: .*no such table") as failing,
        services.ctx.database.reading() as connection,
    ):
        connection.execute(text("SELECT * FROM nothing_of_that_name"))
    assert "disk" not in failing.value.hint
