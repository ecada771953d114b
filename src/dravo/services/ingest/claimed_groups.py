"""Groups that claims name and that do not exist yet: offered for the role mapping, and created before the
first sign-in with them.
"""

from __future__ import annotations

from dataclasses import dataclass

from dravo.core.errors import AlreadyExists, InvalidInput
from dravo.core.identity import claims
from dravo.core.identity.names import fold
from dravo.core.identity.records import SIGN_IN
from dravo.services.context import AppContext
from dravo.services.security.audit_log import AuditEvent, record_change
from dravo.services.security.permissions import Caller
from dravo.services.sources import policy as source_policies
from dravo.store import clock
from dravo.store.ids import new_id
from dravo.store.imports import groups as imported_groups
from dravo.store.pagination import ItemList
from dravo.store.queries import groups as group_queries
from dravo.store.queries.references import KeyAndLabel
from dravo.store.sign_in import settings as sign_in_rows
from dravo.store.sign_in import traces as sign_in_traces
from dravo.store.snapshots.config import raise_revision

# Number of recent traces that are searched, and of groups that are offered.
TRACES, MOST = 50, 20


@dataclass
class GroupInClaims:
    """A group in claims that does not exist yet."""

    source: KeyAndLabel
    name: str


class _Claimed:
    """A group of which only the name is known."""

    reference: str | None = None

    def __init__(self, name: str) -> None:
        self.native_id = self.name = name


def seen(ctx: AppContext, words: str = "") -> ItemList[GroupInClaims]:
    """Return groups in the claims of recent sign-ins that do not exist yet, by a part of their name."""
    wanted = fold(words.strip())
    found: list[GroupInClaims] = []
    with ctx.database.reading() as connection:
        for source in sign_in_rows.list_sign_ins(connection):
            traces = sign_in_traces.last_of_source(connection, source.source_id, TRACES)
            names = {
                fold(each["group"]["name"]): each["group"]["name"]
                for trace in traces
                for each in trace.result.get("groups", ())
                if each["outcome"] == claims.GROUP_CREATED and wanted in fold(each["group"]["name"])
            }
            here = group_queries.name_keys_in_use(connection, source.source_id, names)
            named = KeyAndLabel(source.key, source.label)
            found += [
                GroupInClaims(source=named, name=name)
                for key, name in sorted(names.items())
                if key not in here
            ]
    return ItemList(found[:MOST])


@dataclass(frozen=True)
class GroupMadeAhead:
    """A group that was created before the first sign-in."""

    id: str
    name: str


def make(ctx: AppContext, caller: Caller, key: str, name: str) -> GroupMadeAhead:
    """Create a group of a source with its name in the claims, to map it before the first sign-in; return its
    ID and name.

    Raises:
        NotFound: if the source has no sign-in.
        InvalidInput, AlreadyExists.
    """
    name = name.strip()
    if not name or len(name) > 200:
        raise InvalidInput(
            "A group name must have 1 to 200 characters.", "Enter the name exactly as in the claim.", "name"
        )
    now, own_id = clock.now(), new_id()
    with ctx.database.writing() as connection:
        source, _ = source_policies.sign_in_of(connection, key)
        if group_queries.name_keys_in_use(connection, source.id, [fold(name)]):
            raise AlreadyExists(
                f"'{source.label}' has a group '{name}' already.", "Use the existing group.", "name"
            )
        imported_groups.make_groups(connection, source.id, [(own_id, _Claimed(name))], now, SIGN_IN)
        raise_revision(connection)
        record_change(
            connection,
            ctx.keys,
            caller,
            now,
            AuditEvent("created group from claims", "group", own_id, details={"name": name, "source": key}),
        )
    return GroupMadeAhead(own_id, name)
