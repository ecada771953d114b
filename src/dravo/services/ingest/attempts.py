"""Applies a plan in one short write, and plans again if the data changed meanwhile."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from typing import Any

from sqlalchemy.exc import IntegrityError

from dravo.core.errors import StalePreview
from dravo.core.identity.records import INBOUND_SCIM, searchable
from dravo.core.plan_types import ConfigSnapshot
from dravo.core.scim.errors import ScimError
from dravo.core.scim.resources import unique_values
from dravo.core.scim.schemas import SchemaSet
from dravo.services.ingest.types import Result
from dravo.services.security.secrets import Keys
from dravo.store import (
    records,
)
from dravo.store.database import Database
from dravo.store.snapshots.config import ConfigCache

# How long a request is retried when concurrent requests change the same data first.
PATIENCE_SECONDS = 20.0


class IngestAttempts:
    """What the intakes of users and groups share: one connection type, and repeated attempts."""

    def __init__(
        self,
        database: Database,
        catalogue: ConfigCache,
        connection_type: str = INBOUND_SCIM,
        keys: Keys | None = None,
        *,
        run_id: str | None = None,
    ) -> None:
        self.database = database
        self.catalogue = catalogue
        self.connection_type = connection_type
        self.keys = keys
        # The import run that counts roles and accounts that end.
        self.run_id = run_id

    def _check_not_retired(self, catalogue: ConfigSnapshot, source_id: str) -> None:
        """Refuse a request that was in progress while its source was retired.

        Raises:
            ScimError: 403.
        """
        if source_id in catalogue.retired:
            raise ScimError(403, "This source is retired. An administrator of Dravo can restore it.")

    def _check_unique(
        self, source_id: str, data: dict[str, Any], own_id: str | None, shapes: SchemaSet
    ) -> None:
        key = searchable(data).user_name_key
        with self.database.reading() as connection:
            taken = records.has_user_name(connection, source_id, self.connection_type, key, own_id or "")
            other = records.whose(connection, source_id, unique_values(data, shapes.user), own_id or "")
        if taken:
            raise ScimError(
                409,
                f"This source already has a user with the userName '{data.get('userName')}'. Find this "
                "user with a filter on userName "
                "and update the existing user.",
                "uniqueness",
            )
        if other:
            raise ScimError(
                409, f"Another user of this source already has '{other[1]}' as {other[0]}.", "uniqueness"
            )

    def _apply(self, attempt: Callable[[], Result], explain: Callable[[], None] | None = None) -> Result:
        """Try until the plan is still valid when it is written.

        Args:
            attempt: reads, plans and writes.
            explain: raises the error for a violated constraint; returns if there is no reason for it.
        """
        until = time.monotonic() + PATIENCE_SECONDS
        with contextlib.ExitStack() as turn:
            waits = False
            while True:
                try:
                    return attempt()
                except StalePreview:
                    if time.monotonic() > until:
                        raise
                    with self.database.reading() as connection:
                        self.catalogue.get(connection)
                except IntegrityError:
                    if explain is not None:
                        explain()
                    if time.monotonic() > until:
                        raise
                if not waits:
                    # From the second attempt on, requests wait for each other: otherwise they could conflict
                    # again and again.
                    turn.enter_context(self.database.overtaken)
                    waits = True
