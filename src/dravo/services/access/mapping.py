"""The mapping table of an application: which groups, patterns and rules give which role, whom each row reaches, and what is amiss."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, func, select
from sqlalchemy.exc import IntegrityError

from dravo.core.access.patterns import GIVES, NO_MATCH, NO_SUCH_ROLE, NOT_CONFIRMED, Read, read_name
from dravo.core.errors import AlreadyExists, DravoError, InvalidInput
from dravo.core.planning import ConfigSnapshot
from dravo.services.access import assignment_changes, assignments, rule_matches
from dravo.services.access.assignment_targets import AssignmentRequest, resolve
from dravo.services.changes import preview as changes_preview
from dravo.services.changes.preview import UNCONFIRMED, Confirmation
from dravo.services.changes.recompute import USERS_PER_CHUNK, process_marks
from dravo.services.context import AppContext
from dravo.services.lookups import application_by_key
from dravo.services.security.permissions import Caller
from dravo.store import clock, groups
from dravo.store import tables as t
from dravo.store.pagination import Ask
from dravo.store.snapshots.config import capturing

MOST_LINES = 2_000
# A line for those who have a value in an attribute: person.department, Herbarium, recorder
PERSON = "person."
LINES = "Write each line as: source, group, role; or as: person.department, value, role."
MOST_NAMED = 10
_ATTRIBUTE = re.compile(r"[A-Za-z][\w.:-]*")
_LIKE_AN_ID = re.compile(r"[0-9a-fA-F]{8}-?([0-9a-fA-F]{4}-?){3}[0-9a-fA-F]{12}|[0-9a-fA-F]{24,}|S-1-[0-9-]{6,}|[0-9]{9,}")


def table(ctx: AppContext, key: str, ask: Ask) -> dict[str, Any]:
    """Return a page of an application's assignments to others than single people, each with whom it reaches and what is amiss.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        found = assignments.rows(connection, ask, t.assignment.c.application_id == application.id, t.assignment.c.user_id.is_(None))
        catalogue = ctx.catalogue.get(connection)
        rules = {each.id: each for each in catalogue.general if each.condition is not None}
        on_page = [rules[line["id"]] for line in found["items"] if line["id"] in rules]
        reached = rule_matches.count(connection, catalogue, on_page)
        for line in found["items"]:
            if line["kind"] == "rule":
                line["reach"], line["waiting"] = reached.get(line["id"], (0, 0))
            elif line["kind"] == "everybody":
                line["reach"] = rule_matches.active_people(connection)
            elif line["kind"] == "pattern":
                line["groups"] = _groups_of_pattern(connection, catalogue, application.id, line)
                giving = [each["group"]["id"] for each in line["groups"] if each["outcome"] == GIVES]
                line["reach"] = _listed(connection, giving)
            line["notes"] = _notes(line)
    return found


def _listed(connection: Connection, group_ids: Sequence[str]) -> int:
    return int(connection.execute(select(func.count(groups.listed(group_ids).c.user_id.distinct()))).scalar_one())


def try_pattern(ctx: AppContext, key: str, source: str, pattern: str, confirmed: Sequence[str]) -> dict[str, Any]:
    """Return what a pattern makes of the groups of a source; nothing is changed.

    Raises:
        InvalidInput, NotFound.
    """
    with ctx.database.reading() as connection:
        row, _ = resolve(connection, AssignmentRequest(key, None, source=source, pattern=pattern, confirmed=tuple(confirmed)), clock.now())
        line: dict[str, Any] = {
            "pattern": pattern,
            "confirmed": list(confirmed),
            "source": {"key": source},
            "kind": "pattern",
            "group": None,
            "reach": None,
        }
        read = _groups_of_pattern(connection, ctx.catalogue.get(connection), row["application_id"], line)
        giving = [each["group"]["id"] for each in read if each["outcome"] == GIVES]
        line |= {"groups": read, "reach": _listed(connection, giving)}
    return {"pattern": pattern, "reach": line["reach"], "groups": read, "notes": _notes(line)}


def _groups_of_pattern(connection: Connection, catalogue: ConfigSnapshot, application_id: str, line: Mapping[str, Any]) -> list[dict[str, Any]]:
    """Return the groups that a pattern fits, with what it makes of each."""
    captured, confirmed = capturing(catalogue.roles.values(), application_id), frozenset(line["confirmed"])
    g, s = t.group.c, t.source.c
    statement = (
        select(g.id, g.display_name, g.external_id).join(t.source, s.id == g.source_id).where(s.key == line["source"]["key"], g.gone_at.is_(None))
    )
    found = []
    for row in connection.execute(statement.order_by(g.display_name_key)):
        read: Read = read_name(line["pattern"], row.display_name, row.id, captured, confirmed)
        if read.outcome != NO_MATCH:
            group = {"id": row.id, "name": row.display_name, "external_id": row.external_id}
            found.append({"group": group, "outcome": read.outcome, "captured": read.captured, "role": read.role})
    return found


def _notes(line: Mapping[str, Any]) -> list[dict[str, str]]:
    """Return what is amiss with a row, each with the hint."""
    notes: list[dict[str, str]] = []

    def note(what: str, hint: str) -> None:
        notes.append({"what": what, "hint": hint})

    group = line["group"]
    if group and group["gone"]:
        note("The source has deleted this group.", "Map the group that took its place, or take the row away.")
    elif group and _LIKE_AN_ID.fullmatch(group["name"]):
        note("The group's name looks like an id.", "Have the source send the name as displayName; until then compare the id with its list of groups.")
    if line.get("waiting"):
        some = "1 user meets" if line["waiting"] == 1 else f"{line['waiting']:,} users meet"
        note(f"{some} the rule and waits for a confirmation: it gives the highest role.", "See who they are, and confirm them.")
    if line["kind"] == "rule" and not line["source"]:
        note("Any source can report the attributes of this rule.", "Add a rule that names the source, and remove this one.")
    if line["kind"] == "pattern":
        _notes_of_pattern(line, note)
    elif line["reach"] == 0 and not (group and group["gone"]):
        reasons = {"group": "Nobody is in this group.", "rule": "Nobody meets this condition.", "everybody": "There is nobody."}
        repairs = {"group": "Look at its members at the source, and whether they are sent.", "rule": "Try it on somebody who should meet it."}
        note(f"It reaches nobody. {reasons[line['kind']]}", repairs.get(line["kind"], ""))
    return notes


def _notes_of_pattern(line: Mapping[str, Any], note: Any) -> None:
    read = line["groups"]
    if not read:
        note("No group of this source has a name that fits.", "Compare the pattern with the names in the list of groups.")
    unknown = [each for each in read if each["outcome"] == NO_SUCH_ROLE]
    if unknown:
        named = ", ".join(f"'{each['group']['name']}' (no role '{each['captured']}')" for each in unknown[:MOST_NAMED])
        note(
            f"{len(unknown)} group{'s fit and give' if len(unknown) > 1 else ' fits and gives'} no role: {named}.",
            "Add a role with that key, or map these groups by themselves.",
        )
    unconfirmed = [each for each in read if each["outcome"] == NOT_CONFIRMED]
    if unconfirmed:
        named = ", ".join(f"'{each['group']['name']}'" for each in unconfirmed[:MOST_NAMED])
        note(
            f"{named} would give the highest role, and nobody has confirmed that.",
            "Confirm each such group; a name alone never gives the highest role.",
        )
    if not (line["pattern"].startswith("^") and line["pattern"].endswith("$")):
        note("It also fits names that only contain it.", "Begin it with ^ and end it with $.")


# Many at once


def bulk(ctx: AppContext, caller: Caller, key: str, text: str, *, apply: bool, sure: Confirmation = UNCONFIRMED) -> dict[str, Any]:
    """Map many groups at once: one line each, `source, group, role`; the group by name or id.

    Args:
        text: lines with commas, semicolons or tabs between; a first line of headings is left out.
        apply: whether to do it; nothing is done as long as one line is wrong.

    Returns:
        {"lines": [{"number", "source", "group", "role", "state": "new", "there already" or "wrong", "message"}], "preview", "done"}.

    Raises:
        InvalidInput: if there is nothing in it, or too much, or it is to be done and a line is wrong.
    """
    now = clock.now()
    lines: list[dict[str, Any]] = []
    wishes: list[tuple[dict[str, Any], dict[str, Any]]] = []
    with ctx.database.reading() as connection:
        application = application_by_key(connection, key)
        a = t.assignment.c
        known = select(a.group_id, a.rule, a.role_id).where(a.application_id == application.id, a.removed_at.is_(None))
        there = {(row.group_id, row.rule, row.role_id) for row in connection.execute(known)}
        for number, source, group, role in _read(text):
            line = {"number": number, "source": source, "group": group, "role": role, "state": "new", "message": ""}
            lines.append(line)
            try:
                wish = _wish(key, source, group, role)
                row, named = resolve(connection, wish, now)
            except DravoError as wrong:
                line |= {"state": "wrong", "message": str(wrong)}
                continue
            same = (row["group_id"], row["rule"], row["role_id"])
            if same in there:
                line["state"] = "there already"
                continue
            there.add(same)
            wishes.append((rule_matches.confirmed(connection, ctx.catalogue.get(connection), row), named))
        rows = [row for row, _ in wishes]
        change = assignment_changes.adding(connection, ctx.catalogue.get(connection), rows) if rows else None
        preview = changes_preview.shown(connection, change) if change else None
    unusable = [line for line in lines if line["state"] == "wrong"]
    if apply and unusable:
        raise InvalidInput(
            f"Line {unusable[0]['number']} cannot be used: {unusable[0]['message']}", "Hint it or take it out; nothing was done.", "text"
        )
    if apply and change:
        with ctx.database.reading() as connection:
            cleared = changes_preview.check(connection, change, caller, sure)
        try:
            with ctx.database.writing() as connection:
                for row, named in wishes:
                    assignments.write(ctx, connection, caller, row, named, cleared)
        except IntegrityError:
            raise AlreadyExists("One of these was mapped meanwhile.", "Look at it again; nothing was done.") from None
        process_marks(ctx, USERS_PER_CHUNK)
    return {"lines": lines, "preview": preview, "done": len(wishes) if apply else 0}


def _wish(key: str, source: str, group: str, role: str) -> AssignmentRequest:
    """Return what a line asks for: a group of a source, or, after "person.", those who have a value in an attribute."""
    if source.startswith(PERSON):
        attribute, value = _attribute(source.removeprefix(PERSON)), group.replace("\\", "\\\\").replace('"', '\\"')
        return AssignmentRequest(key, role, rule=f'{attribute} eq "{value}"')
    return AssignmentRequest(key, role, source=source or None, group=group)


def _attribute(name: str) -> str:
    if not _ATTRIBUTE.fullmatch(name):
        raise InvalidInput(f"'{name}' is no attribute of a person.", "Write it as SCIM does, such as person.department.", "text")
    return name


def _read(text: str) -> list[tuple[int, str, str, str]]:
    """Return (line number, source, group, role) of what was pasted."""
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
                f"Line {number} does not have three values.", "Write each line as: source, group, role; or person.department, value, role.", "text"
            )
        found.append((number, values[0], values[1], values[2]))
        if len(found) > MOST_LINES:
            raise InvalidInput(f"There are more than {MOST_LINES:,} lines.", "Give them in parts.", "text")
    if not found:
        raise InvalidInput("There is nothing in it.", LINES, "text")
    return found
