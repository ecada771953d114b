"""The identifier of a user towards an application: NameID of SAML (core, section 8.3), `sub` of OpenID
Connect (Core, section 8).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.app_sign_in.claims import as_texts
from dravo.core.errors import InvalidInput, did_you_mean
from dravo.core.expressions import ExpressionError, compile_expression

PAIRWISE, EMAIL, USER_NAME, ATTRIBUTE, TRANSIENT = (
    "pairwise",
    "email",
    "user_name",
    "attribute",
    "transient",
)
KINDS = (PAIRWISE, EMAIL, USER_NAME, ATTRIBUTE, TRANSIENT)
LONGEST = 256


class NoSubject(InvalidInput):
    """The user has no value for the identifier."""

    code = "no_subject"


@dataclass(frozen=True)
class Subject:
    """How users are identified towards an application.

    Attributes:
        kind: `PAIRWISE`, an opaque identifier that stays and that no other application gets; the email
            address; the user name; an attribute by an expression; or `TRANSIENT`, another one for each
            session.
        expression: of an attribute, its expression.
    """

    kind: str = PAIRWISE
    expression: str = ""


def check_subject(subject: Subject) -> None:
    """Check a definition.

    Raises:
        InvalidInput.
    """
    if subject.kind not in KINDS:
        raise InvalidInput(
            f"'{subject.kind}' is not a kind of identifier.", did_you_mean(subject.kind, KINDS), "subject"
        )
    if subject.kind == ATTRIBUTE:
        try:
            compile_expression(subject.expression)
        except ExpressionError as wrong:
            raise InvalidInput(wrong.message, wrong.hint, "subject") from None


def identifier(
    subject: Subject,
    attributes: Mapping[str, Any],
    pairwise: Callable[[], str],
    transient: Callable[[], str],
) -> str:
    """Return the identifier of a user.

    Args:
        subject: the definition.
        attributes: the SCIM User, names as in the schema.
        pairwise: returns the identifier that belongs to this user and this application.
        transient: returns a new identifier.

    Raises:
        NoSubject: if the user has no such value.
    """
    if subject.kind == PAIRWISE:
        return pairwise()
    if subject.kind == TRANSIENT:
        return transient()
    text = {EMAIL: "emails then first", USER_NAME: "userName"}.get(subject.kind, subject.expression)
    values = as_texts(compile_expression(text).result(attributes))
    if not values:
        what = {EMAIL: "no email address", USER_NAME: "no user name"}.get(subject.kind)
        raise NoSubject(
            f"The user has {what or f'no value for the identifier ({text})'}.",
            "Give the user this value, or choose another identifier.",
            "subject",
        )
    if len(values) > 1 or len(values[0]) > LONGEST:
        raise NoSubject(
            f"The identifier has {len(values)} values or more than {LONGEST} characters.",
            "Use an expression with one short value, such as 'emails then first'.",
            "subject",
        )
    return values[0]
