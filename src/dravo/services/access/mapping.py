"""The role mapping of an application: which groups, patterns and rules give which role, to how many users,
with warnings.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from dravo.core.access.patterns import (
    GIVES,
    NO_MATCH,
    NO_SUCH_ROLE,
    NOT_CONFIRMED,
    SEVERAL_ROLES,
    Read,
    read_name,
)
from dravo.core.errors import AlreadyExists, DravoError, InvalidInput
from dravo.core.plan_types import ConfigSnapshot
from dravo.services.access import assignment_changes, assignments, rule_matches
from dravo.services.access.assignment_targets import AssignmentRequest, resolve
from dravo.services.access.assignments import AssignmentLine, Note, PatternGroup
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation, Preview
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.security.permissions import Caller
from dravo.store import clock
from dravo.store.access import assignments as stored
from dravo.store.access import rules as stored_rules
from dravo.store.access.assignments import AssignmentFilter
from dravo.store.pagination import Page, PageRequest
from dravo.store.queries.references import GroupRef
from dravo.store.snapshots.config import capturing

MOST_LINES = 2_000
# A line that assigns users with a value of an attribute: user.department, Herbarium, recorder
SCIM_USER = "user."
LINES = "Write each line as: source, group, role; or as: user.department, value, role."
MOST_NAMED = 10
_ATTRIBUTE = re.compile(r"[A-Za-z][\w.:-]*")
_LIKE_AN_ID = re.compile(
    r"[0-9a-fA-F]{8}-?([0-9a-fA-F]{4}-?){3}[0-9a-fA-F]{12}|[0-9a-fA-F]{24,}|S-1-[0-9-]{6,}|[0-9]{9,}"
)


@dataclass
class PatternTried:
    """The groups that match a pattern."""

    pattern: str
    matching_users: int
    groups: list[PatternGroup]
    notes: list[Note]


@dataclass
class BulkLine:
    """One line of a bulk mapping."""

    number: int
    source: str
    group: str
    role: str
    status: str
    message: str


@dataclass
class BulkMapping:
    """The result of a bulk mapping, with a preview."""

    lines: list[BulkLine]
    preview: Preview | None
    done: int


def table(ctx: AppContext, key: str, page_request: PageRequest) -> Page[AssignmentLine]:
    """Return a page of an application's assignments to groups, rules and everyone, each with its users and
    warnings.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        only = AssignmentFilter(application_id=application.id, direct=False)
        found = assignments.rows(connection, page_request, only)
        catalogue = ctx.catalogue.get(connection)
        rules = {each.id: each for each in catalogue.general if each.kind in ("rule", "expression")}
        on_page = [rules[line.id] for line in found.items if line.id in rules]
        reached = rule_matches.count(connection, catalogue, on_page)
        for line in found.items:
            if line.kind in ("rule", "expression"):
                line.matching_users, line.waiting = reached.get(line.id, (0, 0))
            elif line.kind == "everyone":
                line.matching_users = stored_rules.number_of_active_users(connection)
            elif line.pattern is not None and line.source is not None:
                wanted = _Pattern(line.source.key, line.pattern, frozenset(line.confirmed))
                line.groups = _groups_of_pattern(connection, catalogue, application.id, wanted)
                line.matching_users = _reached(connection, line.groups)
            line.notes = _notes(line)
    return found


@dataclass(frozen=True)
class _Pattern:
    """A pattern over the groups of a source, with the confirmed groups."""

    source: str
    text: str
    confirmed: frozenset[str]


def _reached(connection: Connection, read: Sequence[PatternGroup]) -> int:
    """Return how many users are in the groups of a pattern that give a role."""
    group_ids = [each.group.id for each in read if each.outcome == GIVES]
    return stored.number_of_direct_members(connection, group_ids)


def try_pattern(
    ctx: AppContext, key: str, source: str, pattern: str, confirmed: Sequence[str]
) -> PatternTried:
    """Preview a pattern on the groups of a source; nothing is changed.

    Raises:
        InvalidInput, NotFound.
    """
    with ctx.database.reading() as connection:
        row = resolve(
            connection,
            AssignmentRequest(key, None, source=source, pattern=pattern, confirmed=tuple(confirmed)),
            clock.now(),
        ).row
        wanted = _Pattern(source, pattern, frozenset(confirmed))
        read = _groups_of_pattern(connection, ctx.catalogue.get(connection), row["application_id"], wanted)
        reach = _reached(connection, read)
    return PatternTried(
        pattern=pattern, matching_users=reach, groups=read, notes=_notes_of_pattern(pattern, read)
    )


def _groups_of_pattern(
    connection: Connection, catalogue: ConfigSnapshot, application_id: str, wanted: _Pattern
) -> list[PatternGroup]:
    """Return the groups that match a pattern, with their roles."""
    captured = capturing(catalogue.roles.values(), application_id)
    found = []
    for group_id, name, external_id in stored.groups_of_source(connection, wanted.source):
        read: Read = read_name(wanted.text, name, group_id, captured, wanted.confirmed)
        if read.outcome != NO_MATCH:
            found.append(
                PatternGroup(
                    group=GroupRef(group_id, name, external_id),
                    outcome=read.outcome,
                    captured=read.captured,
                    role=read.role,
                    by=read.by,
                )
            )
    return found


def _notes(line: AssignmentLine) -> list[Note]:
    """Return the warnings of a row, each with a hint."""
    if line.groups is not None:
        return _notes_of_pattern(line.pattern or "", line.groups)
    notes: list[Note] = []

    def note(what: str, hint: str) -> None:
        notes.append(Note(what, hint))

    group = line.group
    if group and group.gone:
        note("The source has deleted this group.", "Map the group that replaces it, or unassign this one.")
    elif group and _LIKE_AN_ID.fullmatch(group.name):
        note("The group name looks like an ID.", "Configure the source to send the name as displayName.")
    if line.waiting:
        some = "1 user matches" if line.waiting == 1 else f"{line.waiting:,} users match"
        note(
            f"{some} the {line.kind} and waits for confirmation, because it assigns the highest role.",
            "Confirm the users.",
        )
    if line.kind in ("rule", "expression") and not line.source:
        note(
            f"Every source can report the attributes of this {line.kind}.",
            f"Create one that names the source, then delete this {line.kind}.",
        )
    if line.matching_users == 0 and not (group and group.gone):
        reasons = {
            "group": "The group has no members.",
            "rule": "No user matches the rule.",
            "expression": "The expression names a role for no user.",
            "everyone": "There are no users.",
        }
        repairs = {
            "group": "Check the members of the group at the source.",
            "rule": "Compare the rule with the attributes of a user who should match.",
            "expression": "Compare its values with the keys, labels and sent values of the roles.",
        }
        note(f"The assignment matches no users. {reasons[line.kind]}", repairs.get(line.kind, ""))
    return notes


def _notes_of_pattern(pattern: str, read: Sequence[PatternGroup]) -> list[Note]:
    """Return the warnings of a pattern, each with a hint."""
    notes: list[Note] = []

    def note(what: str, hint: str) -> None:
        notes.append(Note(what, hint))

    if not read:
        note("No group name of this source matches.", "Compare the pattern with the list of groups.")
    unknown = [each for each in read if each.outcome == NO_SUCH_ROLE]
    if unknown:
        named = ", ".join(f"'{each.group.name}' (no role '{each.captured}')" for each in unknown[:MOST_NAMED])
        note(
            f"{len(unknown)} group{'s match' if len(unknown) > 1 else ' matches'}, but the role does "
            f"not exist: {named}.",
            "Create a role with this key or label, or map the groups one by one.",
        )
    double = [each for each in read if each.outcome == SEVERAL_ROLES]
    if double:
        named = ", ".join(f"'{each.captured}'" for each in double[:MOST_NAMED])
        note(
            f"Several roles have the label or value {named}, so the pattern gives none of them.",
            "Change the label or value of one of these roles.",
        )
    unconfirmed = [each for each in read if each.outcome == NOT_CONFIRMED]
    if unconfirmed:
        named = ", ".join(f"'{each.group.name}'" for each in unconfirmed[:MOST_NAMED])
        note(
            f"{named} would assign the highest role and is not confirmed.",
            "Confirm the groups. A group name alone never assigns the highest role.",
        )
    if not (pattern.startswith("^") and pattern.endswith("$")):
        note(
            "The pattern also matches names that only contain it.",
            "Start the pattern with ^ and end it with $.",
        )
    return notes


# Bulk mapping


def bulk(
    ctx: AppContext, caller: Caller, key: str, text: str, *, apply: bool, sure: Confirmation = UNCONFIRMED
) -> BulkMapping:
    """Map many groups at once, by lines of `source, group, role`; the group by name or ID.

    Args:
        ctx: the data folder.
        caller: who maps them.
        key: the key of the application.
        text: lines with commas, semicolons or tabs; a heading is skipped.
        apply: whether to apply the lines; nothing is applied if one line is invalid.

    Returns:
        the lines; `status` is "new", "exists" or "invalid".

    Raises:
        InvalidInput: for no lines, too many lines, or with `apply` an invalid line.
    """
    now = clock.now()
    lines: list[BulkLine] = []
    wishes: list[tuple[dict[str, Any], dict[str, Any]]] = []
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        there = stored.group_targets(connection, application.id)
        for number, source, group, role in _read(text):
            line = BulkLine(number=number, source=source, group=group, role=role, status="new", message="")
            lines.append(line)
            try:
                wish = _wish(key, source, group, role)
                wanted = resolve(connection, wish, now)
                row, named = wanted.row, wanted.target
            except DravoError as wrong:
                line.status, line.message = "invalid", str(wrong)
                continue
            same = (row["group_id"], row["rule"], row["role_id"])
            if same in there:
                line.status = "exists"
                continue
            there.add(same)
            wishes.append((rule_matches.confirmed(connection, ctx.catalogue.get(connection), row), named))
        rows = [row for row, _ in wishes]
        change = assignment_changes.adding(connection, ctx.catalogue.get(connection), rows) if rows else None
        preview = changes_preview.shown(connection, change) if change else None
    unusable = [line for line in lines if line.status == "invalid"]
    if apply and unusable:
        raise InvalidInput(
            f"Line {unusable[0].number} is invalid: {unusable[0].message}",
            "Correct or delete the line. Nothing was changed.",
            "text",
        )
    if apply and change:
        with ctx.database.reading() as connection:
            cleared = changes_preview.check(connection, change, caller, sure)
        try:
            with ctx.database.writing() as connection:
                for row, named in wishes:
                    assignments.write(ctx, connection, caller, row, named, cleared)
        except IntegrityError:
            raise AlreadyExists(
                "One of these groups was mapped in the meantime.", "Preview again. Nothing was changed."
            ) from None
        process_marks(ctx, USERS_PER_CHUNK)
    return BulkMapping(lines=lines, preview=preview, done=len(wishes) if apply else 0)


def _wish(key: str, source: str, group: str, role: str) -> AssignmentRequest:
    """Return the assignment of a line: to a group of a source, or after "user." to users with a value in an
    attribute.
    """
    if source.startswith(SCIM_USER):
        attribute, value = (
            _attribute(source.removeprefix(SCIM_USER)),
            group.replace("\\", "\\\\").replace('"', '\\"'),
        )
        return AssignmentRequest(key, role, rule=f'{attribute} eq "{value}"')
    return AssignmentRequest(key, role, source=source or None, group=group)


def _attribute(name: str) -> str:
    if not _ATTRIBUTE.fullmatch(name):
        raise InvalidInput(
            f"'{name}' is not a user attribute.", "Use a SCIM name, such as user.department.", "text"
        )
    return name


def _read(text: str) -> list[tuple[int, str, str, str]]:
    """Return (line number, source, group, role) of pasted lines."""
    sample = next((line for line in text.splitlines() if line.strip()), "")
    sign = max(",;\t", key=sample.count)
    found: list[tuple[int, str, str, str]] = []
    for number, cells in enumerate(csv.reader(io.StringIO(text), delimiter=sign, skipinitialspace=True), 1):
        values = [cell.strip() for cell in cells]
        if not any(values):
            continue
        if not found and [value.casefold() for value in values[:3]] == ["source", "group", "role"]:
            continue
        if len(values) != 3 or not all(values[1:]):
            raise InvalidInput(
                f"Line {number} does not have three values.",
                "Write each line as: source, group, role; or user.department, value, role.",
                "text",
            )
        found.append((number, values[0], values[1], values[2]))
        if len(found) > MOST_LINES:
            raise InvalidInput(f"The input has more than {MOST_LINES:,} lines.", "Split the input.", "text")
    if not found:
        raise InvalidInput("The input is empty.", LINES, "text")
    return found
