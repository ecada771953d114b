"""Application templates: preset roles, plans and settings, and questions that complete addresses."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import field
from typing import Any

import re2
from pydantic import ConfigDict
from pydantic.dataclasses import dataclass

from dravo.core.errors import InvalidInput

_PLACE = re.compile(r"<([a-z][a-z0-9_]*)>")
LONGEST_ANSWER = 500
_STRICT = ConfigDict(extra="forbid")


@dataclass(frozen=True, config=_STRICT)
class Question:
    """A question of a template; the answer replaces `<name>` in addresses and expressions.

    Attributes:
        name: the name in the places.
        hint: where the answer is found.
        example: an answer.
        pattern: what a whole answer looks like.
        extract: a pattern whose first group is the value: an ID that is cut from an address.
    """

    name: str
    label: str
    hint: str = ""
    example: str = ""
    pattern: str = ""
    extract: str = ""


@dataclass(frozen=True, config=_STRICT)
class PresetRole:
    """A role of a template."""

    key: str
    label: str
    rank: int = 1
    sent_value: str = ""
    description: str = ""


@dataclass(frozen=True, config=_STRICT)
class PresetPlan:
    """A license plan of a template; without `seats`, the number is not limited."""

    key: str
    label: str
    rank: int = 1
    sent_value: str = ""
    description: str = ""
    seats: int | None = None


@dataclass(frozen=True, config=_STRICT)
class ApplicationTemplate:
    """Preset values for a new application.

    Attributes:
        description: what tells it apart from the others, in a sentence.
        needs: which license level or right the other side needs.
        address: the SCIM base URL, with places for answers.
        start: the start URL for users, with places for answers.
        settings: presets of the provisioning settings, as the API takes them.
        policy: presets of the access policy, as the API takes them.
    """

    key: str
    label: str
    description: str = ""
    needs: str = ""
    tracked_only: bool = False
    address: str = ""
    start: str = ""
    questions: list[Question] = field(default_factory=list)
    roles: list[PresetRole] = field(default_factory=list)
    plans: list[PresetPlan] = field(default_factory=list)
    settings: dict[str, Any] = field(default_factory=dict)
    policy: dict[str, Any] = field(default_factory=dict)


def places_of(template: ApplicationTemplate, name: str) -> list[str]:
    """Return in words where the answer of a question is used."""
    used = {
        "SCIM base URL": template.address,
        "Start URL": template.start,
        "Attribute expressions": " ".join(
            str(each.get("expression", "")) for each in template.settings.get("attributes", ())
        ),
    }
    return [place for place, text in used.items() if f"<{name}>" in text]


def completed(template: ApplicationTemplate, answers: Mapping[str, str]) -> ApplicationTemplate:
    """Return a template with the answers in their places. An address without all its answers is left empty.

    Raises:
        InvalidInput: for an unknown question, or an answer of the wrong form.
    """
    known = {each.name: each for each in template.questions}
    for name in answers:
        if name not in known:
            raise InvalidInput(
                f"The template has no question '{name}'.",
                f"Answer: {', '.join(known) or 'nothing'}.",
                f"answers.{name}",
            )
    values = {name: _value(known[name], answer.strip()) for name, answer in answers.items() if answer.strip()}

    def fill(text: str) -> str:
        filled = _PLACE.sub(lambda match: values.get(match[1], match[0]), text)
        return "" if any(match in known for match in _PLACE.findall(filled)) else filled

    settings = dict(template.settings)
    if "attributes" in settings:
        rows = [{**each, "expression": fill(each["expression"])} for each in settings["attributes"]]
        settings["attributes"] = [each for each in rows if each["expression"]]
    return ApplicationTemplate(
        **{
            **vars(template),
            "address": fill(template.address),
            "start": fill(template.start),
            "settings": settings,
        }
    )


def _value(question: Question, answer: str) -> str:
    """Return the value of an answer.

    Raises:
        InvalidInput.
    """
    if len(answer) > LONGEST_ANSWER:
        raise InvalidInput(
            f"The answer to '{question.label}' has {len(answer):,} characters.",
            f"Enter at most {LONGEST_ANSWER:,} characters.",
            f"answers.{question.name}",
        )
    found = re2.fullmatch(question.extract, answer) if question.extract else None
    fits = found is not None if question.extract else True
    if question.pattern and re2.fullmatch(question.pattern, answer) is None:
        fits = False
    if not fits:
        example = f" Example: {question.example}" if question.example else ""
        raise InvalidInput(
            f"'{answer}' is not an answer to '{question.label}'.",
            f"{question.hint}{example}".strip() or "Enter a value of the form that the application shows.",
            f"answers.{question.name}",
        )
    return str(found.group(1)) if found is not None else answer
