"""Reads the stored policy of a source for each of its connection types."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection

from dravo.core.errors import NotFound
from dravo.core.identity import claims
from dravo.core.identity.policy_reading import read_policy
from dravo.core.identity.source_policy import SourcePolicy
from dravo.protocols.directory.connectors import kind_of
from dravo.services.lookups import pushing_source
from dravo.store.sources import settings as stored
from dravo.store.sources.settings import SourceImport, SourceSignIn
from dravo.store.sources.sources import Source


def import_of(connection: Connection, key: str) -> tuple[Source, SourceImport]:
    """Return the rows of a source and of how it is read.

    Raises:
        NotFound: if it is not read.
    """
    source = pushing_source(connection, key)
    row = stored.import_of(connection, source.id)
    if row is None:
        raise NotFound(f"'{source.label}' has no import.", "Choose a connector first: ldap, scim or csv.")
    return source, row


def import_policy(source: Source, kind: str) -> SourcePolicy:
    """Return the source policy for imports; without a saved one, the default of the connector."""
    reader = kind_of(kind)
    if source.policy is None:
        return SourcePolicy(attributes=reader.usual_attributes, reads=reader.reads)
    return read_policy(source.policy, reader.reads)


def sign_in_of(connection: Connection, key: str) -> tuple[Source, SourceSignIn]:
    """Return the rows of a source and of its sign-in settings.

    Raises:
        NotFound: if the source has no sign-in.
    """
    source = pushing_source(connection, key)
    row = stored.sign_in_of(connection, source.id)
    if row is None:
        raise NotFound(
            f"'{source.label}' has no sign-in.", "Choose a protocol first: saml, oidc or email_code."
        )
    return source, row


def sign_in_policy(row: Any) -> SourcePolicy:
    """Return the source policy for sign-in; without a saved one, the default of the protocol."""
    usual = claims.usual_policy(row.protocol)
    return read_policy(row.policy, usual.reads) if row.policy else usual
