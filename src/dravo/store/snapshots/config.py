"""The configuration as one value for planning, cached until its revision changes."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Any

import orjson
from sqlalchemy import Connection, Select, func, or_, select, update

from dravo.core.access.conditions import Condition, read_condition
from dravo.core.access.license_plans import Plan
from dravo.core.access.patterns import GIVES, Captured, read_name, texts_of
from dravo.core.access.role_expressions import RoleExpression
from dravo.core.access.types import PLAIN, Assignment, Policy
from dravo.core.errors import InvalidInput, StalePreview
from dravo.core.expressions import SCIM_USER, compile_expression
from dravo.core.expressions.functions import compiled
from dravo.core.identity.acceptance import DISABLED, InboundPolicy
from dravo.core.identity.membership_authority import ALL, MembershipAuthority
from dravo.core.identity.policy_reading import read_policy
from dravo.core.plan_types import Application, ConfigSnapshot, GroupLabel, Role
from dravo.core.provisioning.accounts import PLAN_PLAIN, Settings
from dravo.core.provisioning.attribute_mapping import RoleEncoding, read_target
from dravo.core.scim.extensions import read_schema
from dravo.core.scim.schemas import Schema
from dravo.store import tables as t
from dravo.store.database import CATALOGUE, Database
from dravo.store.membership_authority import inner_group_counts, own_authorities
from dravo.store.prepared_statements import PreparedStatement

# What the attribute for the origin of an account says.
ORIGIN = '"Dravo"'
NO_GROUPS, GIVING_ROLES, CHOSEN, BY_PATTERN = "none", "with_roles", "selected", "pattern"
# A deleted group counts as before while its deletion waits.
_COUNTS = or_(t.group.c.deleted_at.is_(None), t.group.c.waiting.is_not(None))
_REVISION = PreparedStatement(select(t.revision.c.value).where(t.revision.c.name == CATALOGUE))


def assignment_of(
    row: Any, condition: Condition | None = None, roles_of: RoleExpression | None = None
) -> Assignment:
    """Return a row of the assignment table for the core; of a pattern, before it is matched with groups."""
    by_attributes = row.rule is not None or row.expression is not None
    return Assignment(
        row.id,
        row.application_id,
        row.role_id,
        row.user_id,
        row.group_id,
        row.from_at,
        row.until_at,
        condition,
        row.pattern is not None,
        row.excludes,
        row.new_users_since,
        row.plan_id,
        source_id=row.source_id if by_attributes else None,
        only=frozenset(row.confirmed) if by_attributes and row.confirmed is not None else None,
        roles_of=roles_of,
    )


def role_expression_of(row: Any, roles: Iterable[Role]) -> RoleExpression | None:
    """Return the expression of an assignment whose values are roles; None for other assignments.

    Args:
        roles: all roles, or those of the application.
    """
    if row.expression is None:
        return None
    return RoleExpression(compile_expression(row.expression), capturing(roles, row.application_id))


def condition_of(text: str, extensions: tuple[Schema, ...]) -> Condition:
    """Return a rule's condition; one that is invalid because a schema was removed matches no user."""
    try:
        return read_condition(text, extensions)
    except InvalidInput:
        return Condition(text, lambda _: False)


def extensions(connection: Connection) -> tuple[Schema, ...]:
    """Return the schema extensions of all sources."""
    c = t.source_schema.c
    rows = connection.execute(select(c.id, c.document).where(c.kind == "User").order_by(c.id))
    return tuple(_read_once(row.id, orjson.dumps(row.document)) for row in rows)


@lru_cache(maxsize=256)
def _read_once(_: str, document: bytes) -> Schema:
    # One object per schema, because filters are cached by it.
    return read_schema(orjson.loads(document))


def revision(connection: Connection) -> int:
    """Return the current revision of the configuration."""
    return int(_REVISION.first(connection, {}).value)


def check_revision(connection: Connection, expected: int) -> None:
    """Check that the configuration has not changed since it was read.

    Raises:
        StalePreview: if it has.
    """
    if revision(connection) != expected:
        raise StalePreview("The configuration changed in the meantime.", "Try again.")


def raise_revision(connection: Connection) -> None:
    """Raise the revision, because this transaction changes the configuration."""
    connection.execute(
        update(t.revision).where(t.revision.c.name == CATALOGUE).values(value=t.revision.c.value + 1)
    )


class ConfigCache:
    """Gives the configuration as of a transaction, reading it only for a new revision."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._held: ConfigSnapshot | None = None

    def latest(self, database: Database) -> ConfigSnapshot:
        """Return the last read configuration, for planning; its revision is checked before writing."""
        held = self._held
        if held is None:
            with database.reading() as connection:
                return self.get(connection)
        return held

    def get(self, connection: Connection) -> ConfigSnapshot:
        """Return the configuration as this transaction sees it."""
        current = revision(connection)
        held = self._held
        if held is None or held.revision != current:
            held = load(connection, current)
            with self._lock:
                self._held = held
        return held


def load(
    connection: Connection, current: int, changed_roles: Mapping[str, Role] | None = None
) -> ConfigSnapshot:
    """Read everything that operators declared.

    Args:
        connection: a connection.
        current: the revision of the configuration.
        changed_roles: roles by ID to use in place of the stored ones; for a preview.
    """
    rows = list(connection.execute(select(t.application)))
    applications = {
        row.id: Application(row.id, row.key, row.label, settings_of(row), row.tracked_only) for row in rows
    }
    roles = {
        row.id: Role(row.key, row.label, row.rank, row.id, row.application_id, sent_value=row.sent_value)
        for row in connection.execute(select(t.role))
    } | dict(changed_roles or {})
    by_group, general, pattern_sources = _load_assignments(connection, roles)
    parents = _load_parents(connection)
    s = t.source.c
    columns = (s.id, s.key, s.priority, s.deactivation_wins, s.updates, s.retired_at)
    sources = list(connection.execute(select(*columns, s.scim_policy, s.scim_status, s.members_from)))
    provisioned = {
        row.id: provisioned_groups(connection, row, by_group) for row in rows if row.provisioned_groups
    }
    key_of = {row.id: row.key for row in sources}
    named_for = {(row.provisioned_groups or {}).get("source") for row in rows}
    pattern_sources |= {source_id for source_id, key in key_of.items() if key in named_for}
    asks_groups = any(each.condition is not None and each.condition.asks_groups for each in general)
    named = labels(
        connection,
        None
        if asks_groups
        else {*by_group, *parents, *(outer for outers in parents.values() for outer in outers)},
    )
    return ConfigSnapshot(
        current,
        applications,
        roles,
        by_group,
        parents,
        {row.id: row.priority for row in sources},
        named,
        provisioned,
        tuple(general),
        {row.id: policy for row in rows if (policy := policy_of(row)) != PLAIN},
        key_of,
        pattern_sources,
        plans(connection),
        frozenset(row.id for row in sources if row.deactivation_wins),
        frozenset(row.id for row in sources if not row.updates),
        frozenset(row.id for row in sources if row.retired_at is not None),
        {
            row.id: inbound
            for row in sources
            if not (inbound := inbound_policy(row.scim_policy, row.scim_status)).is_plain
        },
        frozenset(connection.execute(select(t.erased_identifier.c.source_id).distinct()).scalars()),
        MembershipAuthority(
            {row.id: row.members_from for row in sources if row.members_from != ALL},
            own_authorities(connection),
        ),
    )


def inbound_policy(document: Mapping[str, Any] | None, status: str) -> InboundPolicy:
    """Return the policy of a source's inbound SCIM.

    A policy that became invalid, for example with a removed schema, changes nothing until it is corrected.
    """
    if not document:
        return InboundPolicy(status=status)
    domains = document.get("domains") or ("",)
    try:
        policy = read_policy(document, SCIM_USER, as_sent=True, owned=domains)
    except InvalidInput:
        return InboundPolicy(status=DISABLED)
    return InboundPolicy(policy, status)


def _load_assignments(
    connection: Connection, roles: Mapping[str, Role]
) -> tuple[dict[str, tuple[Assignment, ...]], list[Assignment], frozenset[str]]:
    """Return assignments by group ID (patterns included), those for rules and everyone, and the IDs of the
    sources with patterns.
    """
    by_group: dict[str, tuple[Assignment, ...]] = {}
    general: list[Assignment] = []
    patterns: list[Any] = []
    a = t.assignment.c
    known = extensions(connection)
    for row in connection.execute(
        select(t.assignment).where(a.removed_at.is_(None), a.user_id.is_(None)).order_by(a.id)
    ):
        if row.pattern is not None:
            patterns.append(row)
        elif row.group_id is not None:
            by_group[row.group_id] = (*by_group.get(row.group_id, ()), assignment_of(row))
        else:
            condition = condition_of(row.rule, known) if row.rule is not None else None
            general.append(assignment_of(row, condition, role_expression_of(row, roles.values())))
    for group_id, assignment in matched(connection, patterns, roles):
        by_group[group_id] = (*by_group.get(group_id, ()), assignment)
    return by_group, general, frozenset(row.source_id for row in patterns)


def _load_parents(connection: Connection) -> dict[str, tuple[str, ...]]:
    """Return the IDs of the outer groups of each nested group."""
    parents: dict[str, tuple[str, ...]] = {}
    m = t.membership.c
    nested = (
        select(m.inner_group_id, m.group_id)
        .join(t.group, t.group.c.id == m.group_id)
        .where(m.until_at.is_(None), m.inner_group_id.is_not(None), inner_group_counts())
    )
    for inner, outer in connection.execute(nested):
        parents[inner] = (*parents.get(inner, ()), outer)
    return parents


def plans(connection: Connection) -> dict[str, Plan]:
    """Return every plan by id."""
    return {
        row.id: Plan(*row) for row in connection.execute(select(*(t.license_plan.c[name] for name in _PLAN)))
    }


_PLAN = ("id", "application_id", "key", "label", "rank", "seats", "sent_value")


def policy_of(row: Any) -> Policy:
    """Return how an application decides; `row` has the columns of the application's table."""
    return Policy(row.eligibility, row.fallback, row.default_role_id, row.several, row.first)


def matched(
    connection: Connection, patterns: Sequence[Any], roles: Mapping[str, Role]
) -> Iterator[tuple[str, Assignment]]:
    """Yield (group ID, assignment) of the groups whose names match patterns, each with its role.

    Args:
        patterns: rows of the assignment table with a pattern.
        roles: all roles by ID.
    """
    for row in patterns:
        captured = capturing(roles.values(), row.application_id)
        confirmed = frozenset(row.confirmed or ())
        for group_id, name in connection.execute(_named_groups(row.source_id)):
            read = read_name(row.pattern, name, group_id, captured, confirmed)
            if read.outcome == GIVES:
                yield (
                    group_id,
                    replace(assignment_of(row), group_id=group_id, role_id=captured.ids[read.role]),
                )


def capturing(roles: Iterable[Role], application_id: str) -> Captured:
    """Return the roles of an application, as patterns capture them."""
    own = sorted(
        (role for role in roles if role.application_id == application_id), key=lambda role: role.order
    )
    return Captured(
        texts_of((role.key, role.label, role.sent_value) for role in own),
        own[0].key if own else None,
        {role.key: role.id for role in own},
    )


def settings_of(row: Any) -> Settings:
    """Return the settings of an application for the core; `row` has the columns of its table."""
    attributes = tuple(
        (
            read_target(each["attribute"]),
            compile_expression(each["expression"]) if each["expression"].strip() else None,
        )
        for each in row.attributes or ()
    )
    if row.origin_attribute:
        attributes += ((read_target(row.origin_attribute), compile_expression(ORIGIN)),)
    return Settings(
        row.on_losing_access,
        row.on_inactive,
        row.on_leaving,
        attributes,
        RoleEncoding(**(row.role_encoding or {})),
        plans_as_of(row),
    )


def plans_as_of(row: Any) -> RoleEncoding:
    """Return how the plans of an application are sent."""
    return RoleEncoding(**row.plan_encoding) if row.plan_encoding else PLAN_PLAIN


def provisioned_groups(
    connection: Connection, row: Any, by_group: Mapping[str, Iterable[Assignment]]
) -> frozenset[str]:
    """Return the ids of the groups that are sent to an application."""
    chosen = row.provisioned_groups or {}
    if chosen.get("which") == GIVING_ROLES:
        return frozenset(
            group_id
            for group_id, given in by_group.items()
            if any(each.application_id == row.id and each.role_id is not None for each in given)
        )
    if chosen.get("which") == CHOSEN:
        return frozenset(each["group"] for each in chosen.get("groups", ()))
    if chosen.get("which") == BY_PATTERN:
        matches = compiled(chosen["pattern"]).search
        source = select(t.source.c.id).where(t.source.c.key == chosen["source"]).scalar_subquery()
        return frozenset(
            group_id for group_id, name in connection.execute(_named_groups(source)) if matches(name)
        )
    return frozenset()


def _named_groups(source_id: Any) -> Select[Any]:
    """Return the select of (ID, name) of the groups of a source that count."""
    g = t.group.c
    return (
        select(g.id, func.coalesce(g.name_in_use, g.display_name))
        .where(g.source_id == source_id, _COUNTS, g.left_out.is_(None))
        .order_by(g.id)
    )


def labels(connection: Connection, group_ids: set[str] | None) -> dict[str, GroupLabel]:
    """Return the labels of groups by ID; None for all present groups."""
    name = func.coalesce(t.group.c.name_in_use, t.group.c.display_name)
    found = select(t.group.c.id, name, t.source.c.key, t.source.c.label).outerjoin(
        t.source, t.source.c.id == t.group.c.source_id
    )
    if group_ids is None:
        return {row[0]: GroupLabel(*row) for row in connection.execute(found.where(_COUNTS))}
    found_labels: dict[str, GroupLabel] = {}
    for start in range(0, len(wanted := sorted(group_ids)), 500):
        rows = connection.execute(found.where(t.group.c.id.in_(wanted[start : start + 500])))
        found_labels.update({row[0]: GroupLabel(*row) for row in rows})
    return found_labels
