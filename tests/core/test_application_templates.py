"""Templates of applications: questions have a form, and their answers complete addresses and expressions."""

from __future__ import annotations

import tomllib

import pytest

from dravo.core.application_templates import ApplicationTemplate, Question, completed, places_of
from dravo.core.errors import InvalidInput
from dravo.core.expressions import compile_expression
from dravo.protocols.http_client import repair_address
from dravo.services.applications import templates

SHIPPED = templates._shipped()
WORKSPACE = Question(
    "workspace", "Workspace", "See the address.", "ours", extract="^(?:https://)?([a-z]+)(?:\\.x)?$"
)
TEMPLATE = ApplicationTemplate(
    key="x",
    label="X",
    address="https://<workspace>.x/<region>/scim",
    start="https://<workspace>.x/",
    questions=[WORKSPACE, Question("region", "Region", pattern="^(north|south)$")],
    settings={"attributes": [{"attribute": "userType", "expression": '"<region>"'}]},
)


@pytest.mark.parametrize("key", SHIPPED)
def test_a_shipped_template_is_complete(key: str) -> None:
    template = SHIPPED[key]
    assert template.description.endswith(".") and template.label
    answers = {each.name: each.example for each in template.questions}
    assert all(answers.values()), "each question has an example"
    filled = completed(template, answers)
    for address in filter(None, (filled.address, filled.start)):
        assert repair_address(address) == address.rstrip("/")
    for each in filled.settings.get("attributes", ()):
        compile_expression(each["expression"])
    for question in template.questions:
        assert places_of(template, question.name), f"{question.name} is used"
        assert question.pattern or question.extract, f"{question.name} has a form"


def test_an_id_is_cut_from_an_address() -> None:
    for answer in ("ours", "https://ours", " https://ours.x "):
        filled = completed(TEMPLATE, {"workspace": answer, "region": "north"})
        assert (filled.address, filled.start) == ("https://ours.x/north/scim", "https://ours.x/")
        assert filled.settings["attributes"] == [{"attribute": "userType", "expression": '"north"'}]


def test_a_missing_answer_leaves_only_its_places_empty() -> None:
    filled = completed(TEMPLATE, {"workspace": "ours", "region": "  "})
    assert (filled.address, filled.start) == ("", "https://ours.x/")
    assert filled.settings["attributes"] == []
    assert places_of(TEMPLATE, "region") == ["SCIM base URL", "Attribute expressions"]


@pytest.mark.parametrize(
    ("answers", "words"),
    [
        ({"workspace": "Ours!"}, "'Ours!' is not an answer to 'Workspace'"),
        ({"region": "east"}, "'east' is not an answer to 'Region'"),
        ({"region": 'north"@evil.example/'}, "is not an answer"),
        ({"tenant": "1"}, "The template has no question 'tenant'"),
        ({"workspace": "x" * 501}, "has 501 characters"),
    ],
)
def test_an_answer_of_another_form_is_refused(answers: dict[str, str], words: str) -> None:
    with pytest.raises(InvalidInput, match=words) as told:
        completed(TEMPLATE, answers)
    assert told.value.hint and str(told.value.field).startswith("answers.")


def test_a_misspelled_entry_of_a_template_is_refused() -> None:
    with pytest.raises(ValueError, match="adress"):
        ApplicationTemplate(key="x", **tomllib.loads('label = "X"\nadress = "https://x"'))
