"""Tries things out on a real person, and changes nothing: an expression while it is typed."""

from __future__ import annotations

from typing import Any

from dravo.core.carrying import read_target
from dravo.core.expressions import compile_expression
from dravo.services.house import House
from dravo.services.subjects import find_person
from dravo.store.views import person_ref


def try_expression(house: House, text: str, person: str | None, attribute: str | None) -> dict[str, Any]:
    """Return what an expression makes for a person.

    Args:
        text: the expression.
        person: by id, user name, e-mail or external id; without one the expression is only read.
        attribute: the attribute of accounts that it is for; checked, if given.

    Raises:
        ExpressionError: with the place of the mistake.
        NotFound: if there is no such person.
    """
    if attribute:
        read_target(attribute.strip())
    expression = compile_expression(text)
    found, result = None, None
    if person:
        with house.database.reading() as connection:
            row = find_person(connection, person)
        found = person_ref(row)
        result = expression.result(row.attributes)
    return {"result": result, "words": expression.words, "uses": sorted(expression.uses), "person": found}
