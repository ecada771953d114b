"""Signing out: here, at the provider as well where it offers that, and here when the provider asks for it."""

from __future__ import annotations

import secrets
from datetime import datetime
from typing import Any
from urllib.parse import urlencode

from sqlalchemy import delete, select

from dravo.protocols.saml.names import REDIRECT
from dravo.protocols.saml.signing_out import read_sign_out_request, sign_out_request, sign_out_response
from dravo.protocols.signing_in import SignInRefused
from dravo.services import operators, sign_in_keys, sign_in_settings, visiting
from dravo.services.house import House
from dravo.services.permissions import Caller
from dravo.services.proving import addresses
from dravo.services.sign_in_settings import MAIL, SAML
from dravo.services.visiting import Visitor
from dravo.store import clock
from dravo.store import tables as t


def leave(house: House, visitor: Visitor, base: str) -> str:
    """End a visit; returns the address at which the browser signs out at the provider too, "" if the provider offers none."""
    visit = visiting.end(house, visitor)
    return _onward(house, visitor.source_id, (visit.subject, visit.subject_format, visit.session), base) if visit is not None else ""


def leave_as_operator(house: House, caller: Caller, base: str) -> str:
    """End an operator's session; returns the same, "" if they came by their password."""
    row = operators.end_session(house, caller)
    if row is None or row.source_id is None or row.subject is None:
        return ""
    return _onward(house, row.source_id, (row.subject, row.subject_format, row.provider_session), base)


def _onward(house: House, source_id: str, named: tuple[str, str | None, str | None], base: str) -> str:
    """Return where somebody signs out at a source's provider, who is known there by (subject, its format, session)."""
    with house.database.reading() as connection:
        source = connection.execute(select(t.source).where(t.source.c.id == source_id)).one()
        row = connection.execute(select(t.source_sign_in).where(t.source_sign_in.c.source_id == source.id)).first()
        keys = sign_in_keys.of_source(house, connection, source.id) if row is not None else []
    if row is None or row.protocol == MAIL:
        return ""
    ours = addresses(base, source.key)
    if row.protocol == SAML:
        at = row.provider.get("sign_out", {}).get(REDIRECT)
        if not at or not keys:
            return ""
        identifier, relay = f"_{secrets.token_hex(20)}", secrets.token_urlsafe(8)
        return sign_out_request(identifier, at, ours["entity_id"], *named, relay, clock.now(), keys[0].key)
    at = row.provider.get("end_session")
    if not at:
        return ""
    # RP-Initiated Logout 1.0, section 2: by the client id, for tokens are not kept.
    query = {"client_id": row.settings["client_id"], "post_logout_redirect_uri": ours["signed_out"], "logout_hint": named[0]}
    return f"{at}{'&' if '?' in at else '?'}{urlencode(query)}"


def asked_by_provider(house: House, key: str, base: str, query: bytes) -> str:
    """Sign somebody out whom the provider wants to be; returns the address at which the browser goes on, "" if there is none.

    Raises:
        NotFound; SignInRefused: if it is not the provider that asks.
    """
    with house.database.reading() as connection:
        source, row = sign_in_settings.of_source(connection, key)
        keys = sign_in_keys.of_source(house, connection, source.id)
    if row.protocol != SAML:
        raise SignInRefused("protocol", f"'{source.label}' does not speak SAML.")
    ours = addresses(base, key)
    now = clock.now()
    seconds = datetime.fromisoformat(now).timestamp()
    asked = read_sign_out_request(query, row.provider.get("entity_id", ""), sign_in_settings.certificates_of(row), ours["sign_out"], seconds)
    v = t.visit.c
    where: list[Any] = [v.source_id == source.id, v.subject == asked.subject]
    if asked.sessions:
        where.append(v.session.in_(asked.sessions))
    with house.database.writing() as connection:
        connection.execute(delete(t.visit).where(*where))
        s = t.operator_session.c
        theirs: list[Any] = [s.source_id == source.id, s.subject == asked.subject]
        if asked.sessions:
            theirs.append(s.provider_session.in_(asked.sessions))
        connection.execute(delete(t.operator_session).where(*theirs))
    at = row.provider.get("sign_out", {}).get(REDIRECT)
    if not at or not keys:
        return ""
    return sign_out_response(f"_{secrets.token_hex(20)}", at, ours["entity_id"], asked, now, keys[0].key)
