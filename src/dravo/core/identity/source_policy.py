"""The source policy: matching, scope, attributes and groups, priority, activation.

By the policy, an entry with the source's own attributes becomes a SCIM User, or is left out.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import orjson

from dravo.core.access.conditions import Condition, read_condition, seen
from dravo.core.errors import DravoError
from dravo.core.expressions import ENTRY, Expression, compile_expression
from dravo.core.expressions.functions import compiled, text_of
from dravo.core.identity.names import fold
from dravo.core.provisioning.attribute_mapping import Target, put, read_target
from dravo.core.scim.errors import ScimError
from dravo.core.scim.patches import element_from_filter
from dravo.core.scim.resources import read_resource, read_text
from dravo.core.scim.schemas import USER

# How a new record can be matched with an existing user.
ASK, BY_USER_NAME, BY_EMAIL = "ask", "user_name", "email"
MATCHES = (ASK, BY_USER_NAME, BY_EMAIL)
# Which groups are accepted.
EVERY, NONE, NAMED, PATTERN = "all", "none", "named", "pattern"
CHOICES = (EVERY, NONE, NAMED, PATTERN)
# Attributes that expressions cannot set.
LONGEST_NAME = 200
NOT_FILLED = ("id", "meta", "schemas", "groups", "password")


class Refused(DravoError):
    """An entry cannot become a user."""

    code = "refused"
    status = 422


@dataclass(frozen=True)
class GroupChoice:
    """The accepted groups of a source: all, none, some by name or ID, or those that match a pattern."""

    which: str = EVERY
    names: tuple[str, ...] = ()
    pattern: str = ""

    @cached_property
    def _keys(self) -> frozenset[str]:
        return frozenset(fold(each.strip()) for each in self.names)

    @cached_property
    def _compiled(self) -> Any:
        return compiled(self.pattern)

    def document(self) -> dict[str, Any]:
        """Return it as JSON."""
        return {"which": self.which, "names": list(self.names), "pattern": self.pattern}

    def takes(self, name: str, *ids: str) -> bool:
        """Whether a group with a name and some IDs is accepted."""
        if self.which == NAMED:
            return not self._keys.isdisjoint((fold(name), *(fold(each) for each in ids)))
        if self.which == PATTERN:
            return self._compiled.search(name) is not None
        return self.which == EVERY


@dataclass(frozen=True)
class SourcePolicy:
    """The policy of one source and connection type.

    Attributes:
        match: the match rule for existing users.
        domains: the folded email domains that the source owns; it links only within them.
        users: a SCIM filter on the mapped user; "" accepts everyone.
        groups: the accepted groups.
        makes: whether unknown users are created.
        attributes: (attribute, expression) in their order.
        reads: what the expressions read, `ENTRY` or `SCIM_USER`.
        pilot: the name or ID of the pilot group; only its members are imported while it is set.
        groups_from: expressions whose values are names of further groups of a user.
        gives: names of groups of all users of the source.
        member_of: groups of which a user must be a member; all means no such condition.
        as_sent: whether attributes without an expression stay as the source sent them (inbound SCIM).
    """

    match: str = ASK
    domains: tuple[str, ...] = ()
    users: str = ""
    groups: GroupChoice = field(default_factory=GroupChoice)
    makes: bool = True
    attributes: tuple[tuple[str, str], ...] = ()
    reads: str = ENTRY
    pilot: str = ""
    groups_from: tuple[str, ...] = ()
    gives: tuple[str, ...] = ()
    member_of: GroupChoice = field(default_factory=GroupChoice)
    as_sent: bool = False

    def document(self) -> dict[str, Any]:
        """Return it as JSON."""
        return {
            "match": self.match,
            "domains": list(self.domains),
            "users": self.users,
            "groups": self.groups.document(),
            "member_of": self.member_of.document(),
            "makes": self.makes,
            "pilot": self.pilot,
            "groups_from": list(self.groups_from),
            "gives": list(self.gives),
            "attributes": [
                {"attribute": attribute, "expression": expression}
                for attribute, expression in self.attributes
            ],
        }

    @cached_property
    def digest(self) -> str:
        """A digest of the parts of the policy that decide how an entry is mapped."""
        mapping = {name: value for name, value in self.document().items() if name != "member_of"}
        return hashlib.blake2b(orjson.dumps(mapping), digest_size=8).hexdigest()

    @cached_property
    def rows(self) -> tuple[tuple[Target, Expression], ...]:
        """The attributes that expressions make."""
        return tuple(
            (read_target(attribute, NOT_FILLED), compile_expression(text, self.reads))
            for attribute, text in self.attributes
        )

    @cached_property
    def _fillers(self) -> tuple[tuple[Callable[[dict[str, Any], Any], None], Expression], ...]:
        return tuple((_filler(target), expression) for target, expression in self.rows)

    @cached_property
    def _targets(self) -> tuple[Target, ...]:
        return tuple(target for target, _ in self.rows)

    @cached_property
    def _filled(self) -> tuple[str, ...]:
        """The top-level names that expressions fill."""
        return tuple(name for target in self._targets if (name := _top_name(target)) is not None)

    def _sent(self, attributes: Mapping[str, Any]) -> dict[str, Any]:
        """Return a copy of what the source sent, as far as a user has it."""
        kept = {name: value for name, value in attributes.items() if name not in NOT_FILLED}
        return orjson.loads(orjson.dumps(kept)) if self.rows else kept

    @cached_property
    def _is_text_only(self) -> bool:
        """Whether every attribute is a text, which is checked where it is filled in; others are checked as a
        pushed user is.
        """
        return all(_is_text(target) for target, _ in self.rows)

    @cached_property
    def uses(self) -> frozenset[str]:
        """The names of the source's attributes that the expressions read."""
        made_by = (*(expression for _, expression in self.rows), *self._groups_made_by)
        return frozenset(name for expression in made_by for name in expression.uses)

    @cached_property
    def _groups_made_by(self) -> tuple[Expression, ...]:
        return tuple(compile_expression(text, self.reads) for text in self.groups_from)

    @cached_property
    def groups_read(self) -> frozenset[str]:
        """The names of the source's attributes with names of groups."""
        return frozenset(name for expression in self._groups_made_by for name in expression.uses)

    @property
    def makes_groups(self) -> bool:
        """Whether attributes of users produce groups."""
        return bool(self.groups_from or self.gives)

    def made_groups(self, attributes: Mapping[str, Any]) -> list[str]:
        """Return the names of the groups that an entry's attributes and the policy give a user, each once."""
        found = list(self.gives)
        for expression in self._groups_made_by:
            value = expression.result(attributes)
            found += [
                text_of(each) for each in (value if isinstance(value, list) else [value]) if each is not None
            ]
        named: dict[str, str] = {}
        for each in found:
            if name := each.strip()[:LONGEST_NAME]:
                named.setdefault(fold(name), name)
        return list(named.values())

    @cached_property
    def condition(self) -> Condition | None:
        """The compiled scope."""
        return read_condition(self.users) if self.users else None

    def user(self, attributes: Mapping[str, Any]) -> dict[str, Any]:
        """Return the SCIM User of an entry.

        Raises:
            Refused: if the entry cannot become a user.
        """
        made: dict[str, Any] = self._sent(attributes) if self.as_sent else {}
        for target, (fill, expression) in zip(self._targets, self._fillers, strict=True):
            value = expression.result(attributes)
            if value is None and self.as_sent:
                _clear(made, target)
            elif value is not None:
                try:
                    fill(made, value)
                except ScimError as wrong:
                    raise Refused(
                        wrong.detail, "Correct the expression, for example with: at most 200."
                    ) from None
        if not str(made.get("userName") or "").strip():
            raise Refused(
                "The expression for userName has no value.", "Use an attribute that contains the user name."
            )
        try:
            if self._is_text_only:
                return made
            if not self.as_sent:
                return read_resource(made, USER)
            # What the source sent was checked when it arrived, also against schemas of its own.
            filled = {name: made[name] for name in (*self._filled, "userName") if name in made}
            return {**made, **read_resource(filled, USER)}
        except ScimError as wrong:
            raise Refused(
                wrong.detail, "Correct the expression, for example with: as boolean, first, trim."
            ) from None

    def lets_in(self, user: Mapping[str, Any], source_key: str) -> bool:
        """Whether a user is in scope."""
        return self.condition is None or self.condition.holds(seen(user, (), (source_key,)))

    def owns(self, address: str | None) -> bool:
        """Whether an email address is of a domain that the source owns."""
        return bool(address) and "@" in str(address) and fold(str(address).rpartition("@")[2]) in self.domains


def _is_text(target: Target) -> bool:
    path = target.path
    if path is None or path.at.attribute is None:
        return False
    at, attribute = path.at, path.at.attribute
    if attribute.multi_valued:
        return path.element is not None and (at.sub is None or at.sub.type == "string")
    return (at.sub or attribute).type == "string"


def _top_name(target: Target) -> str | None:
    path = target.path
    if path is None or path.at.attribute is None:
        return None
    return path.at.urn or path.at.attribute.name


def _clear(made: dict[str, Any], target: Target) -> None:
    """Remove the attribute of a target whose expression has no value; an element of a list stays."""
    path = target.path
    if path is None or path.at.attribute is None or path.element is not None:
        return
    holder, name = (made.get(path.at.urn) if path.at.urn else made), path.at.attribute.name
    if not isinstance(holder, dict):
        return
    if path.at.sub is None:
        holder.pop(name, None)
    elif isinstance(holder.get(name), dict):
        holder[name].pop(path.at.sub.name, None)


def _filler(target: Target) -> Callable[[dict[str, Any], Any], None]:
    """Return a function that sets an attribute: quickly for a plain text, as most are."""
    if not _is_text(target) or target.path is None or target.path.at.attribute is None:
        return lambda made, value: put(made, target, value)
    at, element = target.path.at, target.path.element
    name, sub = target.path.at.attribute.name, at.sub.name if at.sub else None
    described = element_from_filter(element) if element is not None else {}

    def text(value: Any) -> str:
        single = value[0] if isinstance(value, list) else value
        return read_text(name, text_of(single))

    def fill(made: dict[str, Any], value: Any) -> None:
        if element is not None:
            if name in made:
                put(made, target, text(value))
            else:
                made[name] = [{**described, sub or "value": text(value)}]
            return
        holder = made.setdefault(at.urn, {}) if at.urn else made
        if sub is not None:
            holder.setdefault(name, {})[sub] = text(value)
        else:
            holder[name] = text(value)

    return fill


def reworked(
    policy: SourcePolicy, entries: Sequence[Mapping[str, Any]], name: Callable[[Mapping[str, Any]], str]
) -> list[dict[str, Any]]:
    """Return the mapped users of some entries, for operators: each {"name", "user" or None, "groups",
    "accepted", "message"}.
    """
    found: list[dict[str, Any]] = []
    for entry in entries:
        try:
            user = policy.user(entry)
        except Refused as wrong:
            found.append(
                {
                    "name": name(entry),
                    "user": None,
                    "groups": [],
                    "accepted": False,
                    "message": f"{wrong.message} {wrong.hint}",
                }
            )
            continue
        accepted = policy.lets_in(user, "")
        message = "" if accepted else "Outside the scope."
        found.append(
            {
                "name": name(entry),
                "user": user,
                "groups": policy.made_groups(entry),
                "accepted": accepted,
                "message": message,
            }
        )
    return found
