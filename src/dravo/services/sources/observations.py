"""What real traffic of a source has shown, for its setup checklist: the first and last time of each
observation.
"""

from __future__ import annotations

import threading
import time

from sqlalchemy import Connection

from dravo.services.context import AppContext
from dravo.store import clock
from dravo.store.sources import observations, sources, tokens

STARTED, ANSWERED, PROVED, GROUPS = (
    f"sign-in {each}" for each in ("started", "answered", "proved", "groups")
)
SCIM_USER = "sign-in user"
SIGN_IN_CHECKLIST = (
    (STARTED, "First browser sent to the provider"),
    (ANSWERED, "First response from the provider"),
    (PROVED, "First verified response"),
    (GROUPS, "First groups in claims"),
    (SCIM_USER, "First user signed in"),
)
# For emailed codes.
EMAIL_CODE_CHECKLIST = (
    (STARTED, "First code requested"),
    (PROVED, "First code entered"),
    (SCIM_USER, "First user signed in"),
)


def note(connection: Connection, source_id: str, what: str) -> None:
    """Note an observation, with its first and last time."""
    observations.note(connection, source_id, what, clock.now())


def note_apart(ctx: AppContext, source_id: str, what: str) -> None:
    """Note it in a transaction of its own."""
    with ctx.database.writing() as connection:
        note(connection, source_id, what)


# Steps of the setup checklist in their usual order.
CALL, USER, CHANGE, DEACTIVATION, GROUP, MEMBERSHIP = (
    "call",
    "user",
    "change",
    "deactivation",
    "group",
    "membership",
)
SCIM_CHECKLIST = (
    (CALL, "First request with a valid token"),
    (USER, "First user created"),
    (CHANGE, "First user updated"),
    (DEACTIVATION, "First user deactivated"),
    (GROUP, "First group created"),
    (MEMBERSHIP, "First member added to a group"),
)
REFUSED, LOST, WRONG = "refused", "lost", "wrong"
PROBLEMS = (REFUSED, LOST, WRONG)


class TrafficObserver:
    """Notes what real traffic shows, for the setup checklist: at the first time, and seldom after that."""

    PAUSE = 20.0
    TROUBLE_PAUSE = 1.0

    def __init__(self, ctx: AppContext) -> None:
        self._ctx = ctx
        self._noted: dict[tuple[str, str, str | None], float] = {}
        self._lock = threading.Lock()

    def note(self, source_id: str, what: str, detail: str | None = None, token_id: str | None = None) -> None:
        """Note an observation; one noted a moment ago is not written again."""
        # For each token, so that the first use of a new one is shown at once.
        key, present = (source_id, what, token_id), time.monotonic()
        pause = self.TROUBLE_PAUSE if what in PROBLEMS else self.PAUSE
        with self._lock:
            if present - self._noted.get(key, -pause) < pause:
                return
            self._noted[key] = present
        now = clock.now()
        with self._ctx.database.writing() as connection:
            observations.note(connection, source_id, what, now, detail)
            if token_id:
                tokens.note_use(connection, token_id, now)

    def note_refusal(self, key: str, detail: str) -> None:
        """Note a refused request at a source's address, if the source exists."""
        with self._ctx.database.reading() as connection:
            source = sources.by_key(connection, key)
        if source is not None:
            self.note(source.id, REFUSED, detail)
