"""Files of rows: whatever stands in a cell comes back as it was, and no cell is a formula for a spreadsheet."""

from __future__ import annotations

import csv
import io

from hypothesis import given
from hypothesis import strategies as st

from dravo.core.reasons import chain, named
from dravo.services.exporting import FORMULA, csv_line

cells = st.lists(st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=20), min_size=1, max_size=6)


@given(cells)
def test_cells_come_back_as_they_were_but_for_what_would_be_a_formula(some: list[str]) -> None:
    line = csv_line(some).decode()
    assert line.endswith("\r\n")
    read = next(csv.reader(io.StringIO(line, newline="")), [])
    assert not any(cell.startswith(FORMULA) for cell in read)
    assert [cell.removeprefix("'") if original.startswith(FORMULA) else cell for cell, original in zip(read, some, strict=True)] == some


def test_a_reason_is_said_with_the_way_to_it_or_by_what_it_names() -> None:
    group = {"kind": "group", "group": "g", "group_name": "Herbarium", "source_label": "Staff", "through_names": ["Apprentices"], "rule": None}
    assert (named(group), chain(group)) == ("group Herbarium", "Staff > Apprentices > Herbarium")
    assert chain({**group, "group_name": None, "source_label": None, "through_names": []}) == "g"
    others = {
        "rule": 'rule title eq "Guide"',
        "everybody": "everybody",
        "default": "the default role",
        "kept": "kept",
        "direct": "assignment to the person",
    }
    for kind, words in others.items():
        assert chain({"kind": kind, "group": None, "rule": 'title eq "Guide"'}) == words
