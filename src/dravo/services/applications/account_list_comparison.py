"""Compares a tracked-only application with a CSV export of its accounts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from dravo.core.errors import InvalidInput
from dravo.core.provisioning.accounts import PRESENT
from dravo.core.provisioning.manual import (
    CHANGE,
    KINDS,
    SAME,
    Comparison,
    DesiredAccount,
    action_of,
    compare_lists,
    read_columns,
    read_listed,
)
from dravo.protocols.directory.csv_table import CsvSettings, read_table
from dravo.protocols.directory.reader import BadLine, DirectoryTrouble
from dravo.services import jobs
from dravo.services.applications import manual_tasks
from dravo.services.context import AppContext
from dravo.services.security.permissions import Caller
from dravo.store.provisioning import manual as stored
from dravo.store.provisioning.manual import ManagedAccount

# The largest number of listed differences, and of reported lines.
SHOWN, MOST_BAD_LINES = 5_000, 100


@dataclass
class BadListLine:
    """A line of the list that cannot be read."""

    line: str
    message: str
    hint: str


@dataclass
class ListDifference:
    """An account that differs."""

    kind: str
    name: str
    line: int | None
    desired: str
    listed: str


@dataclass
class ListComparison:
    """The result of a comparison; `columns` are the headings that were used, by what they mean."""

    columns: dict[str, str]
    read: int
    counts: dict[str, int]
    items: list[ListDifference]
    bad_lines: list[BadListLine]
    can_be_marked: int
    marked: int


@dataclass(frozen=True)
class _ReadList:
    columns: dict[str, str]
    rows: list[tuple[int, dict[str, str]]]
    bad: list[BadListLine] = field(default_factory=list)


def compare(
    ctx: AppContext,
    caller: Caller,
    key: str,
    content: bytes,
    columns: Mapping[str, str],
    *,
    mark: bool = False,
) -> ListComparison:
    """Return how a list of an application's accounts differs from the desired accounts.

    Args:
        content: the CSV file: the encoding and the separator are detected.
        columns: by "user_name", "email", "roles" or "active" the heading of its column, where Dravo would not
            find it.
        mark: whether to mark the open manual tasks as done whose account is in the list as it should be.

    Raises:
        NotFound; InvalidInput: for a file that cannot be read, or without a column that names users, and for
            `mark` also without roles or with lines that cannot be read.
    """
    table = _read(content, columns)
    if mark and ("roles" not in table.columns or table.bad):
        raise InvalidInput(
            f"Line {table.bad[0].line} cannot be read."
            if table.bad
            else "The list has no column with roles.",
            "Correct the list first. Nothing was marked.",
            "mark_done",
        )
    with ctx.database.reading() as connection:
        application = manual_tasks.tracked(connection, key)
        rows = list(stored.every_account(connection, application.id))
    found = compare_lists([_desired(row) for row in rows], read_listed(table.rows, table.columns))
    jobs.report_progress(len(rows), len(rows))
    agreed = _agreeing(rows, found) if "roles" in table.columns else {}
    marked = _mark(ctx, caller, key, agreed) if mark and agreed else 0
    different = [each for each in found if each.kind != SAME]
    return ListComparison(
        columns=table.columns,
        read=len(table.rows),
        counts={kind: sum(each.kind == kind for each in found) for kind in KINDS},
        items=[
            ListDifference(each.kind, each.name, each.line, each.desired, each.listed)
            for each in different[:SHOWN]
        ],
        bad_lines=table.bad[:MOST_BAD_LINES],
        can_be_marked=0 if mark else len(agreed),
        marked=marked,
    )


def _mark(ctx: AppContext, caller: Caller, key: str, agreed: Mapping[str, dict[str, Any]]) -> int:
    """Mark tasks as done whose desired state is still the compared one; return their number."""
    with ctx.database.writing() as connection:
        application = manual_tasks.tracked(connection, key)
        found = stored.some_open(connection, application.id, list(agreed))
        tasks = [each for each in found.values() if each.desired == agreed[each.id]]
        manual_tasks.write_done(ctx, connection, caller, application, tasks)
    return len(tasks)


def _read(content: bytes, columns: Mapping[str, str]) -> _ReadList:
    try:
        table = read_table(content, "list", CsvSettings.model_validate({}))
        rows: list[tuple[int, dict[str, str]]] = []
        bad: list[BadListLine] = []
        for number, line in table.lines:
            if isinstance(line, BadLine):
                bad.append(BadListLine(str(number), line.message, line.hint))
            else:
                rows.append((number, {name: values[0] for name, values in line.items()}))
    except DirectoryTrouble as wrong:
        raise InvalidInput(wrong.message, wrong.hint, "content") from None
    return _ReadList(read_columns(table.columns, columns), rows, bad)


def _desired(row: ManagedAccount) -> DesiredAccount:
    wanted = row.desired["want"] == PRESENT
    roles = {
        str(role.get("key", role["value"])): frozenset(
            {str(role.get("key", role["value"])), str(role["value"]), str(role["display"])}
        )
        for role in row.desired.get("roles", ())
    }
    return DesiredAccount(
        row.account_id,
        row.display_name,
        str(row.desired.get("user", {}).get("userName") or row.user_name),
        row.email or "",
        roles,
        ", ".join(str(role["display"]) for role in row.desired.get("roles", ())),
        wanted and bool(row.desired["active"]),
    )


def _agreeing(rows: Sequence[ManagedAccount], found: Sequence[Comparison]) -> dict[str, dict[str, Any]]:
    """Return the open tasks whose account is in the list as it should be, or is rightly missing: by ID the
    desired state.

    A task that changes other attributes than roles and activity stays open: the list does not show those.
    """
    same = {each.account_id for each in found if each.kind == SAME}
    listed = {each.account_id for each in found if each.line is not None}
    agreed: dict[str, dict[str, Any]] = {}
    for row in rows:
        if row.task_id is None:
            continue
        is_active = row.desired["want"] == PRESENT and bool(row.desired["active"])
        fits = row.account_id in same or (not is_active and row.account_id not in listed)
        if fits and not _changes_more(row.last_applied, row.desired):
            agreed[row.task_id] = row.desired
    return agreed


def _changes_more(last: dict[str, Any] | None, desired: dict[str, Any]) -> bool:
    return (
        last is not None
        and action_of(last, desired) == CHANGE
        and any(last.get(name) != desired.get(name) for name in ("user", "plan"))
    )
