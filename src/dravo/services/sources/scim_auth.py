"""Checks the bearer token of each inbound SCIM request (RFC 6750)."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

from dravo.core.instants import Instant
from dravo.core.scim.errors import ScimError
from dravo.core.scim.schemas import STANDARD, SchemaSet
from dravo.services.context import AppContext
from dravo.services.security.secrets import digest
from dravo.services.sources import schemas as source_schemas
from dravo.store import clock
from dravo.store.sources import tokens as stored
from dravo.store.sources.tokens import StoredToken


@dataclass(frozen=True)
class ScimCaller:
    """The source that a token belongs to, with its schemas and what the token allows."""

    source_id: str
    token_id: str
    shapes: SchemaSet = STANDARD
    kinds: str = "both"
    access: str = "write"

    def check(self, kind: str, *, writing: bool) -> None:
        """Check that the token allows a kind of resource, "User" or "Group".

        Raises:
            ScimError: 403.
        """
        if self.kinds != "both" and self.kinds != f"{kind.lower()}s":
            raise ScimError(
                403,
                f"This token allows {self.kinds} only. Use a token of this source that also allows "
                f"{kind.lower()}s.",
            )
        if writing and self.access != "write":
            raise ScimError(403, "This token is read-only. Use a token of this source with write access.")


class ScimAuthenticator:
    """Checks the SCIM tokens of sources.

    Checked tokens are cached for a moment. The cache is cleared when a token is created or revoked or a
    source is removed, all of which happens in this process.
    """

    MEMORY = 5.0

    def __init__(self, ctx: AppContext) -> None:
        self._ctx = ctx
        self._known: dict[tuple[str, str], tuple[float, int, Instant | None, ScimCaller]] = {}

    def admit(self, key: str, token: str | None) -> ScimCaller | str:
        """Return the caller of a SCIM token at a source's address, or a sentence with the reason for a
        refusal.

        A token works only at the address of its own source.
        """
        if not token:
            return "Send the token of the source in the header 'Authorization: Bearer TOKEN'."
        kept, present = digest(token), time.monotonic()
        known = self._known.get((key, kept))
        if (
            known
            and present - known[0] < self.MEMORY
            and known[1] == self._ctx.token_revision
            and not (known[2] and known[2] <= clock.now())
        ):
            return known[3]
        revision = self._ctx.token_revision
        with self._ctx.database.reading() as connection:
            row = stored.by_hash(connection, key, kept)
            visitor = _judge(row)
            if isinstance(visitor, ScimCaller):
                visitor = replace(
                    visitor, shapes=source_schemas.of_source(self._ctx, connection, visitor.source_id)
                )
        if row is not None and isinstance(visitor, ScimCaller):
            if len(self._known) > 1_000:
                self._known.clear()
            self._known[key, kept] = (present, revision, row.expires_at, visitor)
        return visitor


def _judge(row: StoredToken | None) -> ScimCaller | str:
    if row is None:
        return (
            "The token does not belong to this source. Check the token and the base URL on the "
            "setup checklist of the source."
        )
    if row.revoked_at:
        return f"The token was revoked at {row.revoked_at}. Use another token."
    if row.expires_at and row.expires_at <= clock.now():
        return f"The token expired at {row.expires_at}. Use another token."
    return ScimCaller(row.source_id, row.id, kinds=row.kinds, access=row.access)
