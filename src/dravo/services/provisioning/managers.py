"""Sends the accounts of reports again after the account or a record of their manager changed."""

from __future__ import annotations

from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.store.provisioning import managers as stored

# Users in one step, and accounts in one write.
CHUNK = 100
ACCOUNTS_PER_WRITE = 500


def follow(ctx: AppContext, now: Instant) -> int:
    """Open tasks for accounts that should name another manager than they do.

    Returns:
        The number of users whose reports were looked at; `CHUNK` if there may be more.
    """
    with ctx.database.reading() as connection:
        marks = stored.marked(connection, CHUNK)
        if not marks:
            return 0
        reports = stored.outdated_reports(connection, [user_id for user_id, _ in marks])
    for start in range(0, len(reports), ACCOUNTS_PER_WRITE):
        with ctx.database.writing() as connection:
            stored.send_again(connection, reports[start : start + ACCOUNTS_PER_WRITE], now)
    with ctx.database.writing() as connection:
        stored.remove_marks(connection, marks)
    return len(marks)
