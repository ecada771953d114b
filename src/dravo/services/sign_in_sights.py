"""What real traffic has shown of signing in by a source, for the ticks of its exchange sheet."""

from __future__ import annotations

from sqlalchemy import Connection

from dravo.services.house import House
from dravo.services.sources import SIGNED_IN
from dravo.store import clock, sights

STARTED, ANSWERED, PROVED, GROUPS = (f"sign-in {each}" for each in ("started", "answered", "proved", "groups"))
PERSON = SIGNED_IN
SIGHTS = (
    (STARTED, "First browser sent to the provider"),
    (ANSWERED, "First answer of the provider arrived"),
    (PROVED, "First answer that proved who somebody is"),
    (GROUPS, "First groups in the claims"),
    (PERSON, "First person signed in"),
)
# Where a code is mailed in place of a provider's answer.
SIGHTS_BY_MAIL = ((STARTED, "First code asked for"), (PROVED, "First code that came back"), (PERSON, "First person signed in"))


def note(connection: Connection, source_id: str, what: str) -> None:
    """Note that something was seen, the first time and the last."""
    sights.note(connection, source_id, what, clock.now())


def note_apart(house: House, source_id: str, what: str) -> None:
    """Note it in a transaction of its own."""
    with house.database.writing() as connection:
        note(connection, source_id, what)
