"""Tries things out on a real user, and changes nothing: an expression while it is typed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from dravo.core.expressions import ENTRY, compile_expression
from dravo.core.identity.claims import read_claims
from dravo.core.identity.source_policy import NOT_FILLED
from dravo.core.provisioning.attribute_mapping import read_target
from dravo.protocols.directory.connectors import kind_of
from dravo.services.context import AppContext
from dravo.services.lookups import find_user, pushing_source
from dravo.services.sources.policy import import_of
from dravo.store.imports import records as imported_records
from dravo.store.queries.references import UserRef, user_ref
from dravo.store.sign_in import traces as sign_in_traces
from dravo.store.sources import settings as source_settings
from dravo.store.sources.sources import Source


@dataclass
class ExpressionResult:
    """The result of an expression."""

    result: Any
    words: str
    uses: list[str]
    user: UserRef | None


def try_on_source(
    ctx: AppContext, text: str, key: str, user: str | None, attribute: str | None
) -> ExpressionResult:
    """Evaluate an expression over attributes of a source for one of its users, or for the first one.

    Raises:
        ExpressionError, NotFound, InvalidInput.
    """
    with ctx.database.reading() as connection:
        known = pushing_source(connection, key)
        if source_settings.import_of(connection, known.id) is None:
            return _on_sign_in(connection, known, text, attribute)
        source, row = import_of(connection, key)
        wanted = find_user(connection, user).id if user else None
        found = imported_records.first_reported(connection, source.id, wanted)
    if attribute:
        read_target(attribute.strip(), NOT_FILLED)
    expression = compile_expression(text, kind_of(row.kind).reads)
    result = expression.result(found.reported) if found is not None else None
    return ExpressionResult(
        result=result,
        words=expression.words,
        uses=sorted(expression.uses),
        user=found.user if found is not None else None,
    )


def _on_sign_in(connection: Connection, source: Source, text: str, attribute: str | None) -> ExpressionResult:
    """Evaluate an expression over the claims of the last sign-in."""
    rows = sign_in_traces.last_of_source(connection, source.id, 20)
    last = next((row for row in rows if row.received), None)
    if attribute:
        read_target(attribute.strip(), NOT_FILLED)
    expression = compile_expression(text, ENTRY)
    result, user = None, None
    if last is not None:
        result = expression.result(
            read_claims(last.received["attributes"], last.received["subject"]).attributes
        )
        user = UserRef(last.user_id or "", last.name, last.received["subject"])
    return ExpressionResult(result=result, words=expression.words, uses=sorted(expression.uses), user=user)


def try_expression(ctx: AppContext, text: str, user: str | None, attribute: str | None) -> ExpressionResult:
    """Evaluate an expression for a user.

    Args:
        text: the expression.
        user: by ID, user name, email or external ID; without a user the expression is only checked.
        attribute: the account attribute that the expression is for; checked, if given.

    Raises:
        ExpressionError: with the position of the error.
        NotFound: for an unknown user.
    """
    if attribute:
        read_target(attribute.strip())
    expression = compile_expression(text)
    found, result = None, None
    if user:
        with ctx.database.reading() as connection:
            row = find_user(connection, user)
        found = user_ref(row)
        result = expression.result(row.attributes)
    return ExpressionResult(result=result, words=expression.words, uses=sorted(expression.uses), user=found)
