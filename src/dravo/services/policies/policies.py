"""The source policy of each connection type of a source, with its status."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import InvalidInput
from dravo.core.identity.acceptance import DISABLED, ENABLED, PILOT
from dravo.core.identity.policy_reading import read_policy
from dravo.core.identity.records import IMPORT, INBOUND_SCIM, SIGN_IN
from dravo.core.identity.source_policy import SourcePolicy
from dravo.core.instants import Instant
from dravo.services.context import AppContext
from dravo.services.imports import config as import_config
from dravo.services.ingest.inbound.matching import owned_domains
from dravo.services.lookups import pushing_source
from dravo.services.policies import inbound
from dravo.services.security.permissions import Caller
from dravo.services.sign_in import traces as sign_in_traces
from dravo.services.sign_in.settings import rollout
from dravo.services.sign_in.settings import settings as sign_in_settings
from dravo.services.sources import policy as source_policies
from dravo.store.pagination import ItemList
from dravo.store.received import records as received
from dravo.store.sources import settings as stored
from dravo.store.sources.sources import Source

SCHEDULED = "scheduled"
CONNECTION_TYPES = (INBOUND_SCIM, IMPORT, SIGN_IN)


@dataclass
class SourcePolicyDetail:
    """The policy of one connection type of a source.

    Attributes:
        status: "disabled", "pilot", "scheduled" or "enabled".
        reads: what expressions use, "entry" or "user".
        owned_domains: all email domains that the source owns, in any of its settings.
        left_out, waiting: of inbound SCIM, the numbers of records that count for no user, by reason, and of
            those of which something waits, by kind.
        pending: of inbound SCIM, the number of records to which the policy is being applied.
    """

    connection_type: str
    status: str
    enabled_from: Instant | None
    reads: str
    policy: dict[str, Any]
    owned_domains: list[str]
    attributes: list[str]
    accepted: int = 0
    left_out: dict[str, int] = field(default_factory=dict)
    waiting: dict[str, int] = field(default_factory=dict)
    pending: int = 0


def list_policies(ctx: AppContext, key: str) -> ItemList[SourcePolicyDetail]:
    """Return the policies of the connection types that a source uses.

    Raises:
        NotFound.
    """
    with ctx.database.reading() as connection:
        source = pushing_source(connection, key)
        found = [shown(connection, source, each) for each in _types(connection, source)]
    return ItemList(found)


def one(ctx: AppContext, key: str, connection_type: str) -> SourcePolicyDetail:
    """Return the policy of one connection type.

    Raises:
        NotFound: if there is no such source, or it does not use the connection type.
    """
    check_type(connection_type)
    with ctx.database.reading() as connection:
        return shown(connection, pushing_source(connection, key), connection_type)


def _types(connection: Connection, source: Source) -> list[str]:
    found = [INBOUND_SCIM] if received.uses_inbound(connection, source.id) else []
    if stored.import_of(connection, source.id) is not None:
        found.append(IMPORT)
    if stored.sign_in_of(connection, source.id) is not None:
        found.append(SIGN_IN)
    return found


def check_type(connection_type: str) -> None:
    """Check a connection type.

    Raises:
        InvalidInput.
    """
    if connection_type not in CONNECTION_TYPES:
        raise InvalidInput(
            f"'{connection_type}' is not a connection type.",
            f"Use one of: {', '.join(CONNECTION_TYPES)}.",
            "connection_type",
        )


def shown(connection: Connection, source: Source, connection_type: str) -> SourcePolicyDetail:
    """Return the policy of one connection type of a source; raises as `one`."""
    owned = owned_domains(connection, source.id)
    if connection_type == INBOUND_SCIM:
        policy, numbers = inbound.policy_of(source), received.numbers(connection, source.id)
        return SourcePolicyDetail(
            INBOUND_SCIM,
            _status(source.scim_status, source.scim_enabled_from),
            source.scim_enabled_from,
            policy.reads,
            policy.document(),
            owned,
            inbound.known_attributes(connection, source),
            numbers.accepted,
            numbers.left_out,
            numbers.waiting,
            received.how_many_marked(connection, source.id),
        )
    if connection_type == IMPORT:
        _, reading = source_policies.import_of(connection, source.key)
        policy = source_policies.import_policy(source, reading.kind)
        status = (PILOT if policy.pilot else ENABLED) if reading.enabled else DISABLED
        names = list((reading.checked or {}).get("attributes", []))
        from_at = reading.enabled_from
    else:
        _, signs_in = source_policies.sign_in_of(connection, source.key)
        policy = source_policies.sign_in_policy(signs_in)
        status, from_at = signs_in.status, signs_in.enabled_from
        names = [each.name for each in sign_in_traces.attributes_seen_in(connection, source.id)]
    return SourcePolicyDetail(
        connection_type,
        _status(status, from_at),
        from_at,
        policy.reads,
        policy.document(),
        owned,
        names,
        received.how_many(connection, source.id, connection_type),
    )


def _status(status: str, enabled_from: Instant | None) -> str:
    return SCHEDULED if enabled_from is not None and status == DISABLED else status


def wanted(
    connection: Connection, key: str, connection_type: str, given: Mapping[str, Any]
) -> tuple[Source, SourcePolicy]:
    """Return a source and its policy with some values replaced.

    Raises:
        NotFound, InvalidInput.
    """
    check_type(connection_type)
    source = pushing_source(connection, key)
    if connection_type == INBOUND_SCIM:
        return source, inbound.wanted(connection, source, given)
    if connection_type == IMPORT:
        _, reading = source_policies.import_of(connection, key)
        kept = source_policies.import_policy(source, reading.kind)
    else:
        _, signs_in = source_policies.sign_in_of(connection, key)
        kept = source_policies.sign_in_policy(signs_in)
    owned = owned_domains(connection, source.id)
    return source, read_policy({**kept.document(), **given}, kept.reads, owned=owned)


def change(
    ctx: AppContext, caller: Caller, key: str, connection_type: str, given: dict[str, Any]
) -> SourcePolicyDetail:
    """Change the policy of one connection type.

    For inbound SCIM, it is applied to all stored records in the background; for imports from the next run,
    for sign-ins from the next sign-in.

    Args:
        given: the changed values, as in `SourcePolicy.document`.

    Raises:
        NotFound, InvalidInput.
    """
    check_type(connection_type)
    if not given:
        raise InvalidInput("The request changes nothing.", "Set at least one field of the policy.")
    if connection_type == INBOUND_SCIM:
        inbound.change(ctx, caller, key, given)
    elif connection_type == IMPORT:
        import_config.change(ctx, caller, key, {"policy": given})
    else:
        sign_in_settings.change(ctx, caller, key, {"policy": given})
    return one(ctx, key, connection_type)


@dataclass(frozen=True)
class StatusChange:
    """A new status; `enabled_from` for a later start, `confirm` the typed label of the source."""

    status: str
    enabled_from: str | None = None
    confirm: str | None = None


def set_status(
    ctx: AppContext, caller: Caller, key: str, connection_type: str, wish: StatusChange
) -> SourcePolicyDetail:
    """Change the status of one connection type: disabled, pilot, enabled, or enabled from a later time.

    Raises:
        NotFound; InvalidInput: if a setting is missing, such as the pilot group; NeedsConfirmation: for a
            sign-in that was not tested.
    """
    check_type(connection_type)
    inbound.check_status(wish.status)
    if connection_type == INBOUND_SCIM:
        inbound.set_status(ctx, caller, key, wish.status, wish.enabled_from)
    elif connection_type == SIGN_IN:
        rollout.set_status(ctx, caller, key, wish.status, wish.enabled_from, wish.confirm)
    else:
        _set_import_status(ctx, caller, key, wish)
    return one(ctx, key, connection_type)


def _set_import_status(ctx: AppContext, caller: Caller, key: str, wish: StatusChange) -> None:
    with ctx.database.reading() as connection:
        source, reading = source_policies.import_of(connection, key)
        policy = source_policies.import_policy(source, reading.kind)
    inbound.check_pilot(policy, wish.status)
    given: dict[str, Any] = {"enabled": wish.status != DISABLED}
    if wish.enabled_from:
        given["enabled_from"] = wish.enabled_from
    if wish.status == ENABLED and policy.pilot:
        # Without a pilot group, the import changes everyone.
        given["policy"] = {"pilot": ""}
    import_config.change(ctx, caller, key, given)
