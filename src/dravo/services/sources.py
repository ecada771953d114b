"""Sources: the places that know people, their tokens, and the exchange sheet of their push channel."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, and_, bindparam, delete, func, insert, or_, select, update
from sqlalchemy.exc import IntegrityError

from dravo.core.endings import ending, told_from
from dravo.core.errors import AlreadyThere, InvalidInput, NotFound, StillInUse
from dravo.core.instants import Instant, later
from dravo.core.scim.errors import ScimError
from dravo.core.scim.schemas import STANDARD, Shapes
from dravo.core.source_policy import read_domains
from dravo.services import shapes
from dravo.services.auditing import record_change
from dravo.services.house import House
from dravo.services.named import pushing_source, source_by_key
from dravo.services.permissions import Caller
from dravo.services.secrets import digest, new_token
from dravo.store import clock, pulled, sights
from dravo.store import tables as t
from dravo.store.catalogue import raise_revision
from dravo.store.identifiers import new_id
from dravo.store.pages import Ask, page

# What belongs to signing in by a source.
SIGNING_IN = (t.visit, t.sign_in_begun, t.sign_in_seen, t.sign_in_key, t.sign_in_trial, t.sign_in_trace, t.source_sign_in)
# A token counts as in use for so long after it was used last.
USED_LATELY_SECONDS = 7 * 86_400
KEY = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,62}[a-z0-9])?")

# What the exchange sheet ticks, in the order in which it happens.
CALL, USER, CHANGE, DEACTIVATION, GROUP, MEMBERSHIP = "call", "user", "change", "deactivation", "group", "membership"
SIGHTS = (
    (CALL, "First call with a valid token"),
    (USER, "First person created"),
    (CHANGE, "First person changed"),
    (DEACTIVATION, "First person deactivated"),
    (GROUP, "First group created"),
    (MEMBERSHIP, "First member added to a group"),
)
TOKEN_KINDS, TOKEN_ACCESS = ("users", "groups", "both"), ("read", "write")
SIGNED_IN = "sign-in person"
REFUSED, LOST, WRONG = "refused", "lost", "wrong"
TROUBLES = (REFUSED, LOST, WRONG)


def check_key(key: str) -> str:
    """Return a key that may stand in addresses.

    Raises:
        InvalidInput: if it may not.
    """
    if not KEY.fullmatch(key):
        raise InvalidInput(
            f"'{key}' cannot be a key.",
            "Use lower-case letters, digits and hyphens, up to 64 of them; a key stands in addresses and never changes.",
            "key",
        )
    return key


def check_label(label: str) -> str:
    """Return a name for people, without blanks around it.

    Raises:
        InvalidInput: if nothing is left, or it is too long.
    """
    label = label.strip()
    if not label or len(label) > 200:
        raise InvalidInput("A label has between 1 and 200 characters.", "Give a name that people will recognise.", "label")
    return label


def add(house: House, caller: Caller, key: str, label: str) -> dict[str, Any]:
    """Add a source that pushes.

    Raises:
        InvalidInput, AlreadyThere.
    """
    now, source_id = clock.now(), new_id()
    row = {
        "id": source_id,
        "key": check_key(key),
        "label": check_label(label),
        "channel": "push",
        "precedence": 100,
        "created_at": now,
    }
    try:
        with house.database.writing() as connection:
            connection.execute(insert(t.source).values(**row))
            raise_revision(connection)
            record_change(connection, house.keys, caller, "added source", "source", source_id, now, {"key": key, "label": label})
    except IntegrityError:
        raise AlreadyThere(f"There is a source with the key '{key}' already.", "Take another key.", "key") from None
    return one(house, key)


def change(house: House, caller: Caller, key: str, label: str | None = None, domains: Sequence[str] | None = None) -> dict[str, Any]:
    """Change a source's label or the email domains that it owns; the key stays.

    Args:
        domains: all domains that it owns. Other sources link records to its users by email only within these.

    Raises:
        NotFound, InvalidInput.
    """
    given: dict[str, Any] = {}
    if label is not None:
        given["label"] = check_label(label)
    if domains is not None:
        given["domains"] = read_domains(domains)
    if not given:
        raise InvalidInput("There is nothing to change.", "Give a label or the domains that the source owns.")
    with house.database.writing() as connection:
        row = source_by_key(connection, key)
        before = {"label": row.label, "domains": list(row.domains or ())}
        connection.execute(update(t.source).where(t.source.c.id == row.id).values(**given))
        raise_revision(connection)
        details = {"key": key, "before": {name: before[name] for name in given}, "after": given}
        record_change(connection, house.keys, caller, "changed source", "source", row.id, clock.now(), details)
    return one(house, key)


def remove(house: House, caller: Caller, key: str) -> None:
    """Remove a source that has brought nobody.

    Raises:
        StillInUse: if it has brought people or groups, a pattern is for its groups, or a rule asks for one of its schemas.
    """
    with house.database.writing() as connection:
        row = source_by_key(connection, key)
        for table in (t.record, t.group):
            if connection.execute(select(table.c.id).where(table.c.source_id == row.id).limit(1)).first():
                raise StillInUse(
                    f"'{row.label}' has brought people or groups.", "Revoke its tokens to keep it from calling; its people stay as they are."
                )
        _check_patterns(connection, row)
        i = t.source_sign_in.c
        if connection.execute(select(i.source_id).where(i.source_id == row.id, i.serves != "people")).first():
            raise StillInUse(f"Operators come in by '{row.label}'.", "Have it let in people only first.")
        urns = connection.execute(select(t.source_schema.c.urn).where(t.source_schema.c.source_id == row.id)).scalars().all()
        its_runs = select(t.run.c.id).where(t.run.c.source_id == row.id)
        connection.execute(delete(t.run_line).where(t.run_line.c.run_id.in_(its_runs)))
        for table in (t.source_token, t.source_sight, t.source_schema, t.trace, t.source_pull, t.conflict, t.run, *SIGNING_IN):
            connection.execute(delete(table).where(table.c.source_id == row.id))
        for urn in urns:
            shapes.check_rules(connection, urn)
        connection.execute(delete(t.source).where(t.source.c.id == row.id))
        raise_revision(connection)
        record_change(connection, house.keys, caller, "removed source", "source", row.id, clock.now(), {"key": key, "label": row.label})
    house.doors += 1


def _check_patterns(connection: Connection, source: Any) -> None:
    """Make sure that no pattern is for a source's groups; those that were taken away forget it."""
    a, p = t.assignment.c, t.application.c
    present = select(a.pattern, p.label).join(t.application, p.id == a.application_id).where(a.source_id == source.id, a.removed_at.is_(None))
    found = connection.execute(present.limit(1)).first()
    if found is not None:
        raise StillInUse(f"'{found.label}' maps its groups by the pattern {found.pattern}.", "Take that mapping away first.")
    connection.execute(update(t.assignment).where(a.source_id == source.id).values(source_id=None))


def id_of(house: House, key: str) -> str:
    """Return a source's id; raises as `source_by_key`."""
    with house.database.reading() as connection:
        return str(source_by_key(connection, key).id)


def _statement() -> Any:
    s = t.source.c

    def count(table: Any, *where: Any) -> Any:
        return select(func.count()).select_from(table).where(table.c.source_id == s.id, *where).scalar_subquery()

    return select(
        s.id,
        s.key,
        s.label,
        s.channel,
        s.created_at,
        s.domains,
        s.precedence,
        s.veto,
        s.updates,
        count(t.record, t.record.c.gone_at.is_(None)).label("people"),
        count(t.group, t.group.c.gone_at.is_(None)).label("groups"),
        select(func.max(t.source_sight.c.last_at))
        .where(t.source_sight.c.source_id == s.id, t.source_sight.c.what == CALL)
        .scalar_subquery()
        .label("last_call"),
        t.source_pull.c.kind.label("read_as"),
        t.source_pull.c.in_force,
        last_run(t.run.c.state, s.id).label("run_state"),
        last_run(t.run.c.ended_at, s.id).label("run_ended_at"),
        select(func.count())
        .select_from(t.conflict)
        .where(t.conflict.c.source_id == s.id, t.conflict.c.state == "open")
        .scalar_subquery()
        .label("conflicts"),
        token_ends(s.id).label("token_ends_at"),
        t.source_sign_in.c.state.label("sign_in_state"),
        t.source_sign_in.c.provider,
        t.source_sign_in.c.waiting,
        t.source_sign_in.c.trouble,
        select(func.max(t.source_sight.c.last_at))
        .where(t.source_sight.c.source_id == s.id, t.source_sight.c.what == SIGNED_IN)
        .scalar_subquery()
        .label("signed_in_at"),
    ).select_from(
        t.source.outerjoin(t.source_pull, t.source_pull.c.source_id == s.id).outerjoin(t.source_sign_in, t.source_sign_in.c.source_id == s.id)
    )


def sign_in_needs(state: str | None, provider: Any, waiting: Any, trouble: str | None) -> dict[str, Any]:
    """Return what needs a person about signing in by a source: a provider's certificate that ends, another one that waits, a trouble."""
    if state is None or state == "off":
        return {"certificate_ends_at": None, "sign_in_needs": None}
    told = "Its provider has another certificate now, which waits to be taken over." if waiting else trouble
    return {"certificate_ends_at": ending((provider or {}).get("ends_at"), clock.now()), "sign_in_needs": told}


def token_ends(source_id: Any) -> Any:
    """Return when the first of a source's tokens ends that it lately used, if that is to be told; `source_id` is a column of the query around it."""
    k, now = t.source_token.c, clock.now()
    used = (k.source_id == source_id, k.revoked_at.is_(None), k.last_used_at > later(now, -USED_LATELY_SECONDS), k.expires_at < told_from(now))
    return select(func.min(k.expires_at)).where(*used).correlate(source_id.table).scalar_subquery()


def last_run(column: Any, source_id: Any) -> Any:
    """Return what a column says of a source's last run that was not only a look; `source_id` is a column of the query around it."""
    r = t.run.c
    real = (r.source_id == source_id, r.source_id.is_not(None), r.look_only.is_(False), r.ended_at.is_not(None))
    return select(column).where(*real).order_by(r.id.desc()).limit(1).correlate(source_id.table).scalar_subquery()


def _lines(connection: Connection, rows: Sequence[Any]) -> list[dict[str, Any]]:
    """Return sources as they are shown, each with the domains that it shares with others: there no email tells which source is meant."""
    owned = pulled.domains(connection)
    s = t.source.c
    named = {row.id: {"key": row.key, "label": row.label} for row in connection.execute(select(s.id, s.key, s.label).where(s.id.in_(list(owned))))}

    def shared(source_id: str) -> list[dict[str, Any]]:
        others = {
            domain: [named[other] for other, theirs in owned.items() if other != source_id and domain in theirs]
            for domain in sorted(owned.get(source_id, ()))
        }
        return [{"domain": domain, "sources": sharing} for domain, sharing in others.items() if sharing]

    return [{**_line(row), "shared_domains": shared(row.id)} for row in rows]


def _line(row: Any) -> dict[str, Any]:
    return {
        "key": row.key,
        "label": row.label,
        "domains": list(row.domains or ()),
        "channel": "pull" if row.read_as else "sign-in" if row.sign_in_state else row.channel,
        "sign_in_state": row.sign_in_state,
        "signed_in_at": row.signed_in_at,
        **sign_in_needs(row.sign_in_state, row.provider, row.waiting, row.trouble),
        "read_as": row.read_as,
        "in_force": row.in_force,
        "run_state": row.run_state,
        "run_ended_at": row.run_ended_at,
        "conflicts": row.conflicts,
        "precedence": row.precedence,
        "veto": row.veto,
        "updates": row.updates,
        "created_at": row.created_at,
        "people": row.people,
        "groups": row.groups,
        "last_call_at": row.last_call,
        "last_activity_at": max((at for at in (row.last_call, row.run_ended_at, row.signed_in_at) if at is not None), default=None),
        "token_ends_at": row.token_ends_at,
    }


def listing(house: House, ask: Ask) -> dict[str, Any]:
    """Return a page of sources by label."""
    with house.database.reading() as connection:
        found = page(connection, _statement(), [t.source.c.label, t.source.c.id], ask, lambda row: row)
        return {**found, "items": _lines(connection, found["items"])}


def one(house: House, key: str) -> dict[str, Any]:
    """Return one source.

    Raises:
        NotFound.
    """
    with house.database.reading() as connection:
        source_by_key(connection, key)
        return _lines(connection, [connection.execute(_statement().where(t.source.c.key == key)).one()])[0]


# Tokens


def add_token(
    house: House, caller: Caller, key: str, label: str, expires_at: Instant | None = None, kinds: str = "both", access: str = "write"
) -> dict[str, Any]:
    """Add a token; the answer carries its text, the only time that it is shown.

    Args:
        kinds: what it opens: "users", "groups" or "both".
        access: "read", or "write", which reads as well.

    Raises:
        InvalidInput, NotFound.
    """
    if kinds not in TOKEN_KINDS or access not in TOKEN_ACCESS:
        raise InvalidInput(f"A token cannot be for '{kinds}', '{access}'.", "It is for users, groups or both, and to read or to write.", "kinds")
    now = clock.now()
    if expires_at is not None and expires_at <= now:
        raise InvalidInput("The token would have expired already.", "Give a time to come, or none.", "expires_at")
    token = new_token("push")
    with house.database.writing() as connection:
        source = pushing_source(connection, key)
        row = {
            "id": new_id(),
            "source_id": source.id,
            "label": check_label(label),
            "prefix": token.prefix,
            "hash": token.hash,
            "created_at": now,
            "expires_at": expires_at,
            "kinds": kinds,
            "access": access,
        }
        connection.execute(insert(t.source_token).values(**row))
        record_change(connection, house.keys, caller, "added push token", "source", source.id, now, {"label": label, "prefix": token.prefix})
        made = connection.execute(select(t.source_token).where(t.source_token.c.id == row["id"])).one()
    house.doors += 1
    return {**_token_line(made), "token": token.text}


def revoke_token(house: House, caller: Caller, key: str, token_id: str) -> None:
    """Make a token worthless from now on.

    Raises:
        NotFound.
    """
    now = clock.now()
    with house.database.writing() as connection:
        source = source_by_key(connection, key)
        where = (t.source_token.c.id == token_id, t.source_token.c.source_id == source.id)
        row = connection.execute(select(t.source_token).where(*where)).first()
        if row is None:
            raise NotFound(f"'{source.label}' has no token with the id '{token_id}'.")
        if row.revoked_at is None:
            connection.execute(update(t.source_token).where(*where).values(revoked_at=now))
            record_change(connection, house.keys, caller, "revoked push token", "source", source.id, now, {"label": row.label, "prefix": row.prefix})
    house.doors += 1


def tokens(house: House, key: str, ask: Ask) -> dict[str, Any]:
    """Return a page of a source's tokens, newest first; never their texts."""
    with house.database.reading() as connection:
        source = source_by_key(connection, key)
        statement = select(t.source_token).where(t.source_token.c.source_id == source.id)
        return page(connection, statement, [t.source_token.c.id], ask, _token_line, newest_first=True)


def _token_line(row: Any) -> dict[str, Any]:
    return {
        "id": row.id,
        "label": row.label,
        "prefix": row.prefix,
        "kinds": row.kinds,
        "access": row.access,
        "created_at": row.created_at,
        "expires_at": row.expires_at,
        "last_used_at": row.last_used_at,
        "revoked_at": row.revoked_at,
    }


# At the door


@dataclass(frozen=True)
class Visitor:
    """Whom a token let in: a source, with the schemas that hold for it, and what the token opens."""

    source_id: str
    token_id: str
    shapes: Shapes = STANDARD
    kinds: str = "both"
    access: str = "write"

    def check(self, kind: str, *, writing: bool) -> None:
        """Make sure that the token opens a kind of resource, "User" or "Group".

        Raises:
            ScimError: 403 if it does not.
        """
        if self.kinds != "both" and self.kinds != f"{kind.lower()}s":
            raise ScimError(403, f"This token is for {self.kinds} only; take one of this source that is for {kind.lower()}s too.")
        if writing and self.access != "write":
            raise ScimError(403, "This token may only read; take one of this source that may write.")


_BY_TOKEN = (
    select(
        t.source.c.id, t.source_token.c.id.label("token_id"), t.source_token.c.expires_at, t.source_token.c.revoked_at,
        t.source_token.c.kinds, t.source_token.c.access,
    )
    .join(t.source, t.source.c.id == t.source_token.c.source_id)
    .where(t.source_token.c.hash == bindparam("hash"), t.source.c.key == bindparam("key"))
)  # fmt: skip


class Door:
    """Lets sources in by their tokens.

    Who was let in is remembered for a moment, and forgotten at once when a token is made, revoked or a source removed here (all of
    which happens in this very process).
    """

    MEMORY = 5.0

    def __init__(self, house: House) -> None:
        self._house = house
        self._known: dict[tuple[str, str], tuple[float, int, Instant | None, Visitor]] = {}

    def admit(self, key: str, token: str | None) -> Visitor | str:
        """Return whom a push token lets in at a source's address, or a sentence that says why nobody.

        A token opens only the source that it was made for.
        """
        if not token:
            return "Send the source's token in the header 'Authorization: Bearer TOKEN'."
        kept, present = digest(token), time.monotonic()
        known = self._known.get((key, kept))
        if known and present - known[0] < self.MEMORY and known[1] == self._house.doors and not (known[2] and known[2] <= clock.now()):
            return known[3]
        doors = self._house.doors
        with self._house.database.reading() as connection:
            row = connection.execute(_BY_TOKEN, {"hash": kept, "key": key}).first()
            visitor = _judge(row)
            if isinstance(visitor, Visitor):
                visitor = replace(visitor, shapes=shapes.of_source(self._house, connection, visitor.source_id))
        if row is not None and isinstance(visitor, Visitor):
            if len(self._known) > 1_000:
                self._known.clear()
            self._known[key, kept] = (present, doors, row.expires_at, visitor)
        return visitor


def _judge(row: Any) -> Visitor | str:
    if row is None:
        return "This token is not one of this source's; take the token from the source's exchange sheet, and its address too."
    if row.revoked_at:
        return f"This token was revoked at {row.revoked_at}; take another."
    if row.expires_at and row.expires_at <= clock.now():
        return f"This token expired at {row.expires_at}; take another."
    return Visitor(row.id, row.token_id, kinds=row.kinds, access=row.access)


class Sightings:
    """Notes what real traffic shows, for the exchange sheet; each thing at its first time, and seldom after that."""

    PAUSE = 20.0
    TROUBLE_PAUSE = 1.0

    def __init__(self, house: House) -> None:
        self._house = house
        self._noted: dict[tuple[str, str, str | None], float] = {}
        self._lock = threading.Lock()

    def note(self, source_id: str, what: str, detail: str | None = None, token_id: str | None = None) -> None:
        """Note that something was seen; what was noted a moment ago is not written again."""
        # Each token by itself, so that the first use of a new one is known at once.
        key, present = (source_id, what, token_id), time.monotonic()
        pause = self.TROUBLE_PAUSE if what in TROUBLES else self.PAUSE
        with self._lock:
            if present - self._noted.get(key, -pause) < pause:
                return
            self._noted[key] = present
        now = clock.now()
        with self._house.database.writing() as connection:
            sights.note(connection, source_id, what, now, detail)
            if token_id:
                connection.execute(update(t.source_token).where(t.source_token.c.id == token_id).values(last_used_at=now))

    def note_refusal(self, key: str, detail: str) -> None:
        """Note that somebody was turned away at a source's address, if there is such a source."""
        with self._house.database.reading() as connection:
            source_id = connection.execute(select(t.source.c.id).where(t.source.c.key == key)).scalar()
        if source_id:
            self.note(source_id, REFUSED, detail)


def sheet(house: House, key: str, base: str) -> dict[str, Any]:
    """Return the exchange sheet of a source's push channel: what to give to the other side, what to switch on there, and ticks.

    Args:
        base: the address of this service, without a slash at its end.
    """
    now = clock.now()
    with house.database.reading() as connection:
        source = pushing_source(connection, key)
        seen = {row.what: row for row in connection.execute(select(t.source_sight).where(t.source_sight.c.source_id == source.id))}
        token = t.source_token.c
        usable = connection.execute(
            select(func.count())
            .select_from(t.source_token)
            .where(and_(token.source_id == source.id, token.revoked_at.is_(None), or_(token.expires_at.is_(None), token.expires_at > now)))
        ).scalar_one()
    address = f"{base}/scim/v2/{key}"
    scheme, _, rest = address.partition("://")
    host, _, path = rest.partition("/")
    found = {
        "source": {"key": source.key, "label": source.label},
        "give": [
            {"name": "Base address", "value": address, "note": "Where the other side asks for the SCIM address or endpoint."},
            {"name": "Scheme", "value": scheme, "note": "Where it is asked for in parts."},
            {"name": "Host and port", "value": host, "note": "Where it is asked for in parts."},
            {"name": "Path", "value": f"/{path}", "note": "Where it is asked for in parts."},
            {"name": "Kind of sign-in", "value": "Bearer token", "note": "In the Authorization header (RFC 6750); make one below."},
        ],
        "usable_tokens": usable,
        "switch_on": [
            "Create people, change people, deactivate people.",
            "Groups with their members, if roles are to follow groups. Send each group's name as displayName.",
            "userName with a name that is unique and stays; the e-mail address as emails; the other side's own id as externalId.",
        ],
        "ticks": [
            {"what": what, "label": label, "first_at": seen[what].first_at if what in seen else None,
             "last_at": seen[what].last_at if what in seen else None}
            for what, label in SIGHTS
        ],
        "trouble": [
            {"at": seen[what].last_at, "message": seen[what].detail} for what in TROUBLES if what in seen and seen[what].detail
        ],
    }  # fmt: skip
    return {**found, "text": _to_send(found)}


def _to_send(sheet: dict[str, Any]) -> str:
    """Return the sheet as text for whoever runs the other side; the token goes another way."""
    width = max(len(each["name"]) for each in sheet["give"])
    waiting = [each["label"] for each in sheet["ticks"] if each["first_at"] is None]
    lines = [
        f"Connecting '{sheet['source']['label']}' by SCIM 2.0 (RFC 7643, RFC 7644)",
        "",
        "Please enter at your side:",
        *(f"  {each['name']:<{width}}  {each['value']}" for each in sheet["give"]),
        f"  {'Token':<{width}}  sent to you separately; please keep it secret",
        "",
        "Please switch on:",
        *(f"  - {each}" for each in sheet["switch_on"]),
    ]
    if waiting:
        lines += ["", "Not seen from your side yet:", *(f"  - {each}" for each in waiting)]
    return "\n".join(lines) + "\n"
