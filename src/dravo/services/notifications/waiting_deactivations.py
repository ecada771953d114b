"""Notices to super administrators about deactivations that wait at a disabled source, or at its pilot."""

from __future__ import annotations

from typing import Any

import structlog
from sqlalchemy import Connection

from dravo.core.instants import Instant, later
from dravo.services.context import AppContext
from dravo.services.notifications import mail_queue
from dravo.services.security.permissions import SUPER_ADMINISTRATOR
from dravo.store.operators import operators as operator_rows
from dravo.store.organization import settings as stored_settings
from dravo.store.sources import listing
from dravo.store.sources.listing import WaitingSource

# What is stored: by source ID, when a notice was sent and for how many users.
SENT = "notified_waiting_deactivations"
# A growing number is sent again after this time; a notice is worth sending for three days.
AGAIN_SECONDS = 86_400

log = structlog.get_logger("notices")


def notify(ctx: AppContext, now: Instant) -> int:
    """Queue an email to each super administrator with an address about sources where deactivations wait.

    A source is reported once. If more users wait, it is reported again, a day later at the earliest. Without
    an email server or an address, nothing counts as reported.

    Returns:
        The number of sources that were reported.
    """
    with ctx.database.reading() as connection:
        due = _due(connection, now)
        if not due and not _stale(connection):
            return 0
    with ctx.database.writing() as connection:
        waiting = listing.waiting_sources(connection)
        due = _due(connection, now)
        for address in operator_rows.addresses_of_kinds(connection, SUPER_ADMINISTRATOR) if due else ():
            for source in due:
                subject, text = notice(source)
                mail_queue.write_letter(ctx, connection, address, subject, text)
        sent = {each.id: {"at": now, "number": each.number} for each in due}
        still = {each.id for each in waiting}
        former = {key: value for key, value in _sent(connection).items() if key in still}
        stored_settings.replace_value(connection, SENT, former | sent)
    for source in due:
        log.info("sent a notice of waiting deactivations", source=source.key, users=source.number)
    return len(due)


def notice(source: WaitingSource) -> tuple[str, str]:
    """Return the subject and the text of a notice."""
    users = "1 user waits" if source.number == 1 else f"{source.number:,} users wait"
    subject = f"Deactivations wait at the source '{source.label}'"
    text = (
        f"{users} to be deactivated. The source '{source.label}' reported this, but the source is disabled "
        "or in its pilot.\n\n"
        "Until the source is enabled, these users keep their access and their accounts.\n\n"
        f"Open the source '{source.label}' in the console and preview what enabling the source changes. To "
        "deactivate single users now, mark them as left or inactive under Users.\n"
    )
    return subject, text


def _due(connection: Connection, now: Instant) -> list[WaitingSource]:
    if not mail_queue.is_set_up(connection):
        return []
    if not operator_rows.addresses_of_kinds(connection, SUPER_ADMINISTRATOR):
        return []
    sent = _sent(connection)
    return [each for each in listing.waiting_sources(connection) if _is_news(sent.get(each.id), each, now)]


def _is_news(sent: dict[str, Any] | None, source: WaitingSource, now: Instant) -> bool:
    if sent is None:
        return True
    return source.number > sent["number"] and later(sent["at"], AGAIN_SECONDS) <= now


def _stale(connection: Connection) -> bool:
    """Return whether a reported source has no waiting deactivations any more."""
    return bool(_sent(connection).keys() - {each.id for each in listing.waiting_sources(connection)})


def _sent(connection: Connection) -> dict[str, dict[str, Any]]:
    kept = stored_settings.value(connection, SENT)
    return kept if isinstance(kept, dict) else {}
