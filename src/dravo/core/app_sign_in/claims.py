"""Claims: what an application learns about a user at sign-in (SAML core, section 2.7.3; OpenID Connect Core,
section 5.1).

A claim is computed from attributes by an expression, or has the user's groups or roles.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from dravo.core.errors import InvalidInput, did_you_mean
from dravo.core.expressions import Expression, ExpressionError, compile_expression
from dravo.core.expressions.functions import Pattern, compiled

EXPRESSION, GROUPS, ROLES = "expression", "groups", "roles"
KINDS = (EXPRESSION, GROUPS, ROLES)
# Which groups: all of the user, those that give access to the application, or those whose names match.
ALL, GRANTING, PATTERN = "all", "granting", "pattern"
# How a group is written: its name, its ID here, or the ID of its source.
NAME, ID, SOURCE_ID = "name", "id", "source_id"
# Which roles, and how a role is written.
SEVERAL, HIGHEST = "several", "highest"
KEY, LABEL, VALUE = "key", "label", "value"
_CHOICES = {
    GROUPS: ((ALL, GRANTING, PATTERN), (NAME, ID, SOURCE_ID)),
    ROLES: ((SEVERAL, HIGHEST), (KEY, LABEL, VALUE)),
}
LONGEST_NAME, MOST_CLAIMS = 300, 60


@dataclass(frozen=True)
class Claim:
    """A claim as an operator defines it.

    Attributes:
        name: the name that the application expects, short or namespaced.
        kind: `EXPRESSION`, `GROUPS` or `ROLES`.
        expression: of an expression, its text.
        which: of groups `ALL`, `GRANTING` or `PATTERN`; of roles `SEVERAL` or `HIGHEST`.
        written_as: of groups `NAME`, `ID` or `SOURCE_ID`; of roles `KEY`, `LABEL` or `VALUE`.
        pattern: of groups by pattern, the pattern of their names.
    """

    name: str
    kind: str = EXPRESSION
    expression: str = ""
    which: str = ""
    written_as: str = ""
    pattern: str = ""


@dataclass(frozen=True)
class UserGroup:
    """A group of a user; `source_id` is its ID at the source, `grants` whether it gives access."""

    id: str
    name: str
    source_id: str | None = None
    grants: bool = False


@dataclass(frozen=True)
class UserRole:
    """A role of a user in the application; the largest `rank` is the highest role."""

    key: str
    label: str
    value: str
    rank: int


@dataclass(frozen=True)
class ClaimUser:
    """A user at sign-in.

    Attributes:
        attributes: the SCIM User, names as in the schema.
    """

    attributes: Mapping[str, Any]
    groups: Sequence[UserGroup] = ()
    roles: Sequence[UserRole] = ()


@dataclass(frozen=True)
class ClaimValues:
    """The values of a claim; none if the user has no value."""

    name: str
    values: tuple[str, ...]


class TooManyValues(InvalidInput):
    """A claim has more values than the application may get."""

    code = "too_many_values"


class ClaimSet:
    """The claims of an application, compiled once.

    Args:
        claims: the claims, in the order in which they are sent.

    Raises:
        InvalidInput: for a claim that cannot be computed, with the name of the claim.
    """

    def __init__(self, claims: Iterable[Claim]) -> None:
        self.claims = tuple(claims)
        if len(self.claims) > MOST_CLAIMS:
            raise InvalidInput(
                f"There are {len(self.claims)} claims.", f"Define at most {MOST_CLAIMS} claims.", "claims"
            )
        names: set[str] = set()
        for claim in self.claims:
            _check(claim)
            if claim.name in names:
                raise InvalidInput(
                    f"The claim '{claim.name}' is defined twice.", "Remove one of the two.", "claims"
                )
            names.add(claim.name)
        self._expressions = {each.name: _compiled(each) for each in self.claims if each.kind == EXPRESSION}
        self._patterns = {each.name: _pattern(each) for each in self.claims if each.which == PATTERN}

    @property
    def uses(self) -> frozenset[str]:
        """The attributes that the claims read."""
        return frozenset().union(*(each.uses for each in self._expressions.values()))

    def values(self, user: ClaimUser, most: int | None = None) -> list[ClaimValues]:
        """Return the values of every claim, also of those without a value.

        Args:
            user: the user.
            most: the largest number of values of one claim; None for any number.

        Raises:
            TooManyValues: with the name and the size of the claim.
        """
        found = [ClaimValues(claim.name, self._of(claim, user)) for claim in self.claims]
        for each in found:
            if most is not None and len(each.values) > most:
                raise TooManyValues(
                    f"The claim '{each.name}' has {len(each.values):,} values; the limit is {most:,}.",
                    "Send only the groups that give access, or raise the limit.",
                    "claims",
                )
        return found

    def _of(self, claim: Claim, user: ClaimUser) -> tuple[str, ...]:
        if claim.kind == GROUPS:
            return self._groups(claim, user.groups)
        if claim.kind == ROLES:
            return _roles(claim, user.roles)
        return as_texts(self._expressions[claim.name].result(user.attributes))

    def _groups(self, claim: Claim, groups: Sequence[UserGroup]) -> tuple[str, ...]:
        if claim.which == GRANTING:
            groups = [each for each in groups if each.grants]
        elif claim.which == PATTERN:
            pattern = self._patterns[claim.name]
            groups = [each for each in groups if pattern.search(each.name)]
        if claim.written_as == SOURCE_ID:
            written = [each.source_id or "" for each in groups]
        else:
            written = [each.id if claim.written_as == ID else each.name for each in groups]
        return tuple(sorted({each for each in written if each}))


def as_texts(value: object) -> tuple[str, ...]:
    """Return the result of an expression as texts: booleans as "true" and "false"."""
    values = value if isinstance(value, list) else [] if value is None else [value]
    return tuple(
        str(each).lower() if isinstance(each, bool) else str(each)
        for each in values
        if each not in ("", None)
    )


def _roles(claim: Claim, roles: Sequence[UserRole]) -> tuple[str, ...]:
    ordered = sorted(roles, key=lambda each: (-each.rank, each.key))
    some = ordered[:1] if claim.which == HIGHEST else ordered
    written = [
        each.key if claim.written_as == KEY else each.label if claim.written_as == LABEL else each.value
        for each in some
    ]
    return tuple(dict.fromkeys(written))


def _check(claim: Claim) -> None:
    if not claim.name.strip() or len(claim.name) > LONGEST_NAME or claim.name != claim.name.strip():
        raise InvalidInput(
            f"'{claim.name[:60]}' is not a claim name.",
            f"Enter 1 to {LONGEST_NAME} characters, without blanks around them.",
            "claims",
        )
    if claim.kind not in KINDS:
        raise InvalidInput(
            f"The claim '{claim.name}' has the unknown kind '{claim.kind}'.",
            did_you_mean(claim.kind, KINDS),
            "claims",
        )
    for value, known in zip((claim.which, claim.written_as), _CHOICES.get(claim.kind, ((), ())), strict=True):
        if known and value not in known:
            raise InvalidInput(
                f"'{value}' cannot be used for the claim '{claim.name}'.",
                did_you_mean(value, known),
                "claims",
            )


def _compiled(claim: Claim) -> Expression:
    try:
        return compile_expression(claim.expression)
    except ExpressionError as wrong:
        raise InvalidInput(f"Claim '{claim.name}': {wrong.message}", wrong.hint, "claims") from None


def _pattern(claim: Claim) -> Pattern:
    try:
        return compiled(claim.pattern)
    except ValueError as wrong:
        raise InvalidInput(
            f"Claim '{claim.name}': the pattern cannot be used: {wrong}.", "Use the syntax of RE2.", "claims"
        ) from None


# What most applications expect. Each claim can be removed.
DEFAULT_CLAIMS = (
    Claim("email", expression="emails then first"),
    Claim("given_name", expression="name.givenName"),
    Claim("family_name", expression="name.familyName"),
    Claim("display_name", expression="displayName"),
    Claim("user_name", expression="userName"),
    Claim("roles", kind=ROLES, which=SEVERAL, written_as=VALUE),
)
