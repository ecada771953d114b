"""Reads an LDAP directory (RFC 4511): paged (RFC 2696), with chosen attributes only, and read-only rights are enough."""

from __future__ import annotations

import base64
import contextlib
import re
import socket
import tempfile
import uuid
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, ClassVar, Literal

import ldap
from ldap.controls import SimplePagedResultsControl
from ldap.dn import dn2str, str2dn
from ldap.filter import escape_filter_chars
from pydantic import BaseModel, Field

from dravo.core.expressions import ENTRY
from dravo.core.identity.names import fold
from dravo.protocols.addresses import AddressNotAllowed, Unreachable, resolve
from dravo.protocols.directory.reader import NOTED, OK, BadLine, Checked, DirectoryTrouble, Entry, GroupEntry, Step, checked_by, seen_values

PAGE = 1_000
SECONDS = 30
CONNECT_SECONDS = 5
SAMPLE = 200
# An operational attribute that RFC 4530 gives every entry; who has another says so in the settings.
ENTRY_UUID, CHANGED_AT = "entryUUID", "modifyTimestamp"
MEMBERSHIPS = ("member", "uniqueMember", "memberUid", "memberOf")
_ADDRESS = re.compile(r"(ldaps?)://(\[[0-9a-fA-F:]+\]|[^\s/:?#]+)(?::(\d{1,5}))?/?", re.IGNORECASE)
_MARK = re.compile(r"\d{14}(\.\d+)?Z")
# One attribute a part, values of letters, digits, dots, hyphens, underscores and single blanks within.
_PLAIN_DN = re.compile(r"[A-Za-z]+=[A-Za-z0-9._-]+(?: [A-Za-z0-9._-]+)*(?:,[A-Za-z]+=[A-Za-z0-9._-]+(?: [A-Za-z0-9._-]+)*)*")
STEPS = ("Address", "TLS", "Signing in", "People's base", "People", "Groups", "What expressions need", "Rights")


class LdapSettings(BaseModel):
    """How an LDAP directory is reached and read."""

    address: str = Field(title="Address", description="ldaps://host, or ldap://host with StartTLS")
    start_tls: bool = Field(True, title="StartTLS", description="encrypt a connection to ldap:// before signing in")
    ca: str = Field(
        "",
        title="CA certificate",
        description="PEM of the authority that signed its certificate, if it is your own",
        json_schema_extra={"lines": True},
    )
    check_certificate: bool = Field(True, title="Check its certificate", description="without this anybody in between can read along")
    sign_in: Literal["simple", "external", "nobody"] = Field(
        "simple", title="Sign in", description="with a name and password, by client certificate (SASL EXTERNAL), or as nobody"
    )
    bind_dn: str = Field("", title="Bind DN", description="an account that may only read, such as cn=reader,dc=estates,dc=fernhollow,dc=example")
    client_certificate: str = Field(
        "", title="Client certificate", description="PEM, with its key as the secret; for SASL EXTERNAL", json_schema_extra={"lines": True}
    )
    people_base: str = Field(title="People's base", description="such as ou=people,dc=estates,dc=fernhollow,dc=example")
    people_scope: Literal["subtree", "one level"] = Field("subtree", title="Scope")
    people_filter: str = Field("(objectClass=inetOrgPerson)", title="People's filter", description="RFC 4515")
    groups_base: str = Field("", title="Groups' base", description="empty: the people's base")
    groups_filter: str = Field("(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))", title="Groups' filter")
    group_name: str = Field("cn", title="A group's name", description="the attribute that has it")
    membership: Literal["member", "uniqueMember", "memberUid", "memberOf"] = Field("member", title="Members by")
    id_attribute: str = Field(ENTRY_UUID, title="Id", description="an attribute that stays when somebody is renamed or moved")
    follow_referrals: bool = Field(False, title="Follow referrals")


def folded_dn(text: str) -> str:
    """Return a DN as it is compared: without needless blanks, attribute types and values in one letter case (RFC 4514).

    Raises:
        ValueError: if it is none.
    """
    if _PLAIN_DN.fullmatch(text):
        # Nothing in it can be written in two ways but its letter case.
        return text.lower()
    try:
        parts = str2dn(text)
    except ldap.DECODING_ERROR:
        raise ValueError(f"'{text}' is not a DN") from None
    return str(dn2str([sorted((kind.lower(), fold(" ".join(value.split())), flags) for kind, value, flags in part) for part in parts]))


class LdapReader:
    """Reads one LDAP directory by one connection."""

    kind: ClassVar[str] = "ldap"
    label: ClassVar[str] = "LDAP directory"
    reads: ClassVar[str] = ENTRY
    Settings: ClassVar[type[BaseModel]] = LdapSettings
    usual_attributes: ClassVar[tuple[tuple[str, str], ...]] = (
        ("userName", "uid then first"),
        ("displayName", "displayName else cn then first"),
        ("name.givenName", "givenName then first"),
        ("name.familyName", "sn then first"),
        ('emails[type eq "work"].value', "mail then first"),
        ("title", "title then first"),
        ("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department", "ou then first"),
        ("urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber", "employeeNumber then first"),
    )

    def __init__(self, settings: LdapSettings, secret: str, uses: Sequence[str] = ()) -> None:
        self.settings, self._secret = settings, secret
        self._uses = tuple(dict.fromkeys(uses))
        self._kept = frozenset(self._uses)
        self._connection: Any = None
        self._files: tempfile.TemporaryDirectory[str] | None = None
        self._newest: str | None = None
        self._whole = settings.membership == "memberOf"
        # By memberOf: for a group's folded DN its DN and members.
        self._by_person: dict[str, tuple[str, list[str]]] = {}
        self._folded: dict[str, str] = {}

    # The connection

    def _connect(self) -> Any:
        if self._connection is None:
            connection = self._open()
            self._encrypt(connection)
            self._sign_in(connection)
            self._connection = connection
        return self._connection

    def _open(self) -> Any:
        scheme, host, port = read_address(self.settings.address)
        try:
            found = resolve(host, port)
        except AddressNotAllowed as wrong:
            raise DirectoryTrouble(wrong.message, wrong.hint) from None
        except Unreachable as wrong:
            raise DirectoryTrouble(f"The directory cannot be found: {wrong}.", "Check the host's name.") from None
        try:
            socket.create_connection((str(found), port), timeout=CONNECT_SECONDS).close()
        except OSError as wrong:
            why = wrong.strerror or "no answer in time"
            raise DirectoryTrouble(f"Nothing answers at {host}, port {port}: {why}.", "Check host and port, and that it is running.") from None
        encrypted = scheme == "ldaps" or self.settings.start_tls
        if not encrypted and self.settings.sign_in == "simple" and not found.is_loopback:
            raise DirectoryTrouble("The password would go over the net in clear.", "Use ldaps://, or StartTLS.")
        # The certificate vouches for the name; without one the very address is called that was looked at.
        named = host if encrypted and self.settings.check_certificate else str(found)
        connection = ldap.initialize(f"{scheme}://{f'[{named}]' if ':' in named else named}:{port}")
        connection.set_option(ldap.OPT_PROTOCOL_VERSION, ldap.VERSION3)
        connection.set_option(ldap.OPT_NETWORK_TIMEOUT, SECONDS)
        connection.set_option(ldap.OPT_TIMEOUT, SECONDS)
        connection.set_option(ldap.OPT_REFERRALS, int(self.settings.follow_referrals))
        demand = ldap.OPT_X_TLS_DEMAND if self.settings.check_certificate else ldap.OPT_X_TLS_NEVER
        connection.set_option(ldap.OPT_X_TLS_REQUIRE_CERT, demand)
        self._take_certificates(connection)
        connection.set_option(ldap.OPT_X_TLS_NEWCTX, 0)
        return connection

    def _take_certificates(self, connection: Any) -> None:
        """Have the connection use our own CA and certificate; the library takes them from files, which last as long as this reader."""
        self._files = tempfile.TemporaryDirectory(prefix="dravo-")
        for text, name, option in (
            (self.settings.ca, "ca.pem", ldap.OPT_X_TLS_CACERTFILE),
            (self.settings.client_certificate, "certificate.pem", ldap.OPT_X_TLS_CERTFILE),
            (self._secret if self.settings.client_certificate else "", "key.pem", ldap.OPT_X_TLS_KEYFILE),
        ):
            if text:
                file = Path(self._files.name) / name
                file.touch(mode=0o600)
                file.write_text(text)
                connection.set_option(option, str(file))

    def _encrypt(self, connection: Any) -> None:
        if self.settings.address.lower().startswith("ldap://") and self.settings.start_tls:
            try:
                connection.start_tls_s()
            except ldap.LDAPError as wrong:
                raise _trouble(wrong, "StartTLS") from None

    def _sign_in(self, connection: Any) -> None:
        settings = self.settings
        try:
            if settings.sign_in == "external":
                connection.sasl_external_bind_s()
            elif settings.sign_in == "simple":
                if not self._secret:
                    # A name without a password signs nobody in, and looks like success (RFC 4513, 5.1.2).
                    raise DirectoryTrouble("The password is missing.", "Give the password of the bind DN, or sign in as nobody.")
                connection.simple_bind_s(settings.bind_dn, self._secret)
            else:
                connection.simple_bind_s("", "")
        except ldap.LDAPError as wrong:
            raise _trouble(wrong, "signing in") from None

    def close(self) -> None:
        """Let go of the connection."""
        if self._connection is not None:
            with contextlib.suppress(ldap.LDAPError):
                self._connection.unbind_s()
            self._connection = None
        if self._files is not None:
            self._files.cleanup()

    # Reading

    def people(self, since: str | None = None) -> Iterator[Entry | BadLine]:
        """Yield everybody, or whoever changed since a mark."""
        settings = self.settings
        names = [settings.id_attribute, CHANGED_AT, *self._uses, *(["memberOf"] if settings.membership == "memberOf" else [])]
        text = settings.people_filter if since is None else f"(&{settings.people_filter}({CHANGED_AT}>={since}))"
        scope = ldap.SCOPE_SUBTREE if settings.people_scope == "subtree" else ldap.SCOPE_ONELEVEL
        for dn, values in self._search(settings.people_base, scope, text, names):
            yield self._entry(dn, values)

    def _entry(self, dn: str, values: dict[str, list[bytes]]) -> Entry | BadLine:
        attributes = {name.lower(): [_text(each) for each in found] for name, found in values.items()}
        self._note_change(attributes)
        native_id = self._id(attributes)
        if native_id is None:
            return BadLine(dn, f"It has no {self.settings.id_attribute}.", "Choose an attribute that everybody has, or let the account read it.")
        reference = self._locator(dn, attributes)
        if self.settings.membership == "memberOf":
            for group in attributes.get("memberof", ()):
                self._by_person.setdefault(self._fold(group), (group, []))[1].append(reference)
        kept = {name: found for name, found in attributes.items() if name in self._kept}
        return Entry(native_id, reference, {**kept, "dn": [dn]} if "dn" in self._kept else kept)

    def _locator(self, dn: str, attributes: dict[str, list[str]]) -> str:
        if self.settings.membership == "memberUid":
            return fold((attributes.get("uid") or [""])[0])
        return self._fold(dn)

    def _fold(self, dn: str) -> str:
        """Return a DN folded; most are written in one way only, so that each is taken apart once."""
        found = self._folded.get(dn)
        if found is None:
            try:
                found = folded_dn(dn)
            except ValueError:
                found = fold(dn)
            self._folded[dn] = found
        return found

    def _id(self, attributes: dict[str, list[str]]) -> str | None:
        values = attributes.get(self.settings.id_attribute.lower())
        return fold(values[0]) if values and values[0] else None

    def _note_change(self, attributes: dict[str, list[str]]) -> None:
        for at in attributes.get(CHANGED_AT.lower(), ()):
            if self._newest is None or at > self._newest:
                self._newest = at

    def groups(self, since: str | None = None) -> Iterator[GroupEntry | BadLine]:
        """Yield all groups, or those that changed since a mark."""
        settings = self.settings
        by = settings.membership
        names = [settings.id_attribute, CHANGED_AT, settings.group_name, *([by] if by != "memberOf" else [])]
        text = settings.groups_filter if since is None else f"(&{settings.groups_filter}({CHANGED_AT}>={since}))"
        for dn, values in self._search(settings.groups_base or settings.people_base, ldap.SCOPE_SUBTREE, text, names):
            yield self._group(dn, values)

    def _group(self, dn: str, values: dict[str, list[bytes]]) -> GroupEntry | BadLine:
        settings = self.settings
        lowered = {name.lower(): found for name, found in values.items()}
        members = lowered.pop(settings.membership.lower(), [])
        # Some directories give long lists in parts, as member;range=0-1499: a part is not the list.
        if any(name.startswith(f"{settings.membership.lower()};range=") for name in lowered):
            raise DirectoryTrouble(
                f"The directory gives only a part of the members of {dn}.", "Raise its limit for values of one attribute, or read by memberOf."
            )
        attributes = {name: [_text(each) for each in found] for name, found in lowered.items()}
        self._note_change(attributes)
        native_id, name = self._id(attributes), (attributes.get(settings.group_name.lower()) or [""])[0]
        if native_id is None or not name:
            lacks = settings.id_attribute if native_id is None else settings.group_name
            return BadLine(dn, f"The group has no {lacks}.", "Choose an attribute that every group has.")
        reference = self._fold(dn)
        if settings.membership == "memberOf":
            found = self._by_person.get(reference)
            return GroupEntry(native_id, reference, name, tuple(found[1]) if found else ())
        read = fold if settings.membership == "memberUid" else self._fold
        return GroupEntry(native_id, reference, name, tuple(read(_text(each)) for each in members))

    def _search(self, base: str, scope: int, text: str, names: Sequence[str]) -> Iterator[tuple[str, dict[str, list[bytes]]]]:
        connection = self._connect()
        page = SimplePagedResultsControl(True, size=PAGE, cookie="")

        def ask() -> int:
            asked: int = connection.search_ext(base, scope, text, [*dict.fromkeys(names)], serverctrls=[page], timeout=SECONDS)
            return asked

        number: int | None = None
        while True:
            try:
                number = ask() if number is None else number
                _, found, _, controls = connection.result3(number, timeout=SECONDS)
                cookies = [each.cookie for each in controls if each.controlType == SimplePagedResultsControl.controlType]
                more = bool(cookies and cookies[0])
                if more:
                    # The directory makes the next page ready while this one is worked on.
                    page.cookie = cookies[0]
                    number = ask()
            except ldap.LDAPError as wrong:
                raise _trouble(wrong, f"reading {base}") from None
            for dn, values in found:
                # Referrals come without a DN; they are not followed unless the settings say so.
                if dn:
                    yield dn, values
            if not more:
                return

    def mark(self) -> str | None:
        """Return the newest modifyTimestamp; None where a change of a person's groups does not show in it."""
        return None if self._whole or self._newest is None or not _MARK.fullmatch(self._newest) else self._newest

    def one(self, native_id: str) -> Entry | None:
        """Return one person by their id."""
        settings = self.settings
        text = f"(&{settings.people_filter}({settings.id_attribute}={escape_filter_chars(native_id)}))"
        scope = ldap.SCOPE_SUBTREE if settings.people_scope == "subtree" else ldap.SCOPE_ONELEVEL
        names = [settings.id_attribute, CHANGED_AT, *self._uses, *(["memberOf", "uid"])]
        for dn, values in self._search(settings.people_base, scope, text, names):
            found = self._entry(dn, values)
            return found if isinstance(found, Entry) else None
        return None

    def groups_of(self, entry: Entry) -> list[GroupEntry] | None:
        """Return the groups that list a person, without their members; None by memberOf, where people name their groups."""
        settings = self.settings
        if settings.membership == "memberOf":
            return None
        text = f"(&{settings.groups_filter}({settings.membership}={escape_filter_chars(entry.reference)}))"
        names = [settings.id_attribute, settings.group_name]
        found = [
            self._group(dn, values) for dn, values in self._search(settings.groups_base or settings.people_base, ldap.SCOPE_SUBTREE, text, names)
        ]
        return [each for each in found if isinstance(each, GroupEntry)]

    # The check

    def check(self, uses: Sequence[str]) -> Checked:
        """Try the connection: reach, TLS, sign in, base, people, groups, the attributes that expressions need, and the rights."""
        return checked_by(STEPS, lambda checked: self._check(checked, uses))

    def _check(self, checked: Checked, uses: Sequence[str]) -> None:
        settings, steps = self.settings, checked.steps
        self._ask_whether_it_answers()
        steps.append(Step("Address", OK, f"{settings.address} answers."))
        connection = self._open()
        self._encrypt(connection)
        steps.append(self._tls_step())
        self._sign_in(connection)
        self._connection = connection
        steps.append(
            Step("Signing in", OK, f"Signed in as {settings.bind_dn}." if settings.sign_in == "simple" else f"Signed in: {settings.sign_in}.")
        )
        try:
            connection.search_ext_s(settings.people_base, ldap.SCOPE_BASE, "(objectClass=*)", ["1.1"], timeout=SECONDS)
        except ldap.LDAPError as wrong:
            raise _trouble(wrong, f"looking for {settings.people_base}") from None
        steps.append(Step("People's base", OK, f"{settings.people_base} is there."))
        self._check_people(checked, uses)

    def _ask_whether_it_answers(self) -> None:
        """Ask something that needs no name, by a connection of its own: a server may still hold that open when StartTLS comes, and refuse it."""
        connection = self._open()
        try:
            connection.search_ext_s("", ldap.SCOPE_BASE, "(objectClass=*)", ["supportedControl"], timeout=SECONDS)
        except (
            ldap.CONFIDENTIALITY_REQUIRED,
            ldap.INSUFFICIENT_ACCESS,
            ldap.STRONG_AUTH_REQUIRED,
            ldap.INAPPROPRIATE_AUTH,
            ldap.NO_SUCH_OBJECT,
            ldap.UNWILLING_TO_PERFORM,
        ):
            # It answers, and says nothing to strangers.
            return
        except ldap.LDAPError as wrong:
            raise _trouble(wrong, "connecting") from None
        finally:
            with contextlib.suppress(ldap.LDAPError):
                connection.unbind_s()

    def _tls_step(self) -> Step:
        settings = self.settings
        if settings.address.lower().startswith("ldap://") and not settings.start_tls:
            return Step("TLS", NOTED, "The connection is not encrypted: password and people can be read on the way.", "Use ldaps:// or StartTLS.")
        if not settings.check_certificate:
            return Step(
                "TLS", NOTED, "Encrypted, but nobody makes sure that it is the right server.", "Check its certificate; give your own CA if need be."
            )
        return Step("TLS", OK, "Encrypted, and its certificate is right.")

    def _check_people(self, checked: Checked, uses: Sequence[str]) -> None:
        settings, steps = self.settings, checked.steps
        self._uses = ()
        scope = ldap.SCOPE_SUBTREE if settings.people_scope == "subtree" else ldap.SCOPE_ONELEVEL
        every = ["*", settings.id_attribute, CHANGED_AT, "memberOf"]
        lacking = read = passwords = 0
        for dn, values in self._first(settings.people_base, scope, settings.people_filter, every):
            attributes = {name.lower(): [_text(each) for each in found] for name, found in values.items()}
            attributes["dn"] = [dn]
            # Looked for, and not kept for a moment.
            passwords += attributes.pop("userpassword", None) is not None
            read += 1
            native_id = self._id(attributes)
            lacking += native_id is None
            seen_values(checked.attributes, attributes)
            checked.sample.append(Entry(native_id or dn, self._fold(dn), attributes))
        if not read:
            raise DirectoryTrouble(
                f"Nobody is there by the filter {settings.people_filter}.", "Check base and filter, and that the account may read them."
            )
        if lacking:
            raise DirectoryTrouble(
                f"{lacking} of {read} have no {settings.id_attribute}.",
                "Choose another id, or let the account read it: it is an operational attribute.",
            )
        steps.append(Step("People", OK, f"{read:,} people were read{' as a sample' if read >= SAMPLE else ''}."))
        groups = list(
            self._first(
                settings.groups_base or settings.people_base,
                ldap.SCOPE_SUBTREE,
                settings.groups_filter,
                [settings.group_name, settings.membership, settings.id_attribute],
            )
        )
        if groups:
            with_members = sum(1 for _, values in groups if any(name.lower() == settings.membership.lower() for name in values))
            listing = "" if settings.membership == "memberOf" else f", {with_members:,} of them with {settings.membership}"
            steps.append(Step("Groups", OK if with_members or listing == "" else NOTED, f"{len(groups):,} groups were read{listing}."))
        else:
            steps.append(Step("Groups", NOTED, "No group is there by the filter.", "Check the groups' base and filter, if you want groups."))
        missing = [name for name in uses if name not in checked.attributes]
        if missing:
            steps.append(
                Step(
                    "What expressions need",
                    NOTED,
                    f"Nobody of the sample has: {', '.join(missing)}.",
                    "See which attributes there are, or that the account may read them.",
                )
            )
        else:
            steps.append(Step("What expressions need", OK, "All of it is there." if uses else "They need nothing yet."))
        steps.append(_rights_step(passwords))

    def _first(self, base: str, scope: int, text: str, names: Sequence[str]) -> Iterator[tuple[str, dict[str, list[bytes]]]]:
        for number, found in enumerate(self._search(base, scope, text, names)):
            if number >= SAMPLE:
                return
            yield found


def _rights_step(passwords: int) -> Step:
    """Tell whether the account sees what it need not see; what it may write cannot be asked without writing."""
    if passwords:
        hint = "Take that right away: reading names and groups is enough."
        return Step("Rights", NOTED, "The account may read people's password hashes.", hint)
    return Step("Rights", OK, "It reads, and sees no password.")


def read_address(text: str) -> tuple[str, str, int]:
    """Return scheme, host and port of an address.

    Raises:
        DirectoryTrouble: if it is none.
    """
    found = _ADDRESS.fullmatch(text.strip())
    if not found:
        raise DirectoryTrouble(f"'{text}' is not the address of a directory.", "Write it like ldaps://directory.fernhollow.example.")
    scheme = found[1].lower()
    return scheme, found[2].strip("[]"), int(found[3] or (636 if scheme == "ldaps" else 389))


def _text(value: bytes) -> str:
    """Return a value as text: binary ones, such as pictures and ids, in base64; a UUID of 16 bytes as such."""
    try:
        return value.decode()
    except UnicodeDecodeError:
        return str(uuid.UUID(bytes=value)) if len(value) == 16 else base64.b64encode(value).decode()


def _trouble(wrong: ldap.LDAPError, doing: str) -> DirectoryTrouble:
    """Return what the library raised in words that name the hint."""
    said = wrong.args[0] if wrong.args and isinstance(wrong.args[0], dict) else {}
    detail = ": ".join(str(said[name]) for name in ("desc", "info") if said.get(name)) or type(wrong).__name__
    for kind, hint in _MENDS.items():
        if isinstance(wrong, kind):
            return DirectoryTrouble(f"The directory refused {doing} ({detail}).", hint)
    if isinstance(wrong, ldap.SERVER_DOWN | ldap.CONNECT_ERROR) and doing in ("connecting", "StartTLS", "signing in"):
        hint = "Give the CA that signed it, if it is your own, and the host's name as it stands in the certificate."
        return DirectoryTrouble(f"No encrypted connection came about ({detail}): most often its certificate is not accepted.", hint)
    if "certificate" in detail.lower():
        return DirectoryTrouble(f"Its certificate is not accepted ({detail}).", "Give the CA that signed it, and the host's name as it stands in it.")
    return DirectoryTrouble(f"The directory broke off at {doing} ({detail}).", "Try again; if it stays, ask whoever runs it.")


_MENDS: dict[Any, str] = {
    ldap.INVALID_CREDENTIALS: "Check bind DN and password.",
    ldap.NO_SUCH_OBJECT: "Check the base: it is not there, or the account may not see it.",
    ldap.INSUFFICIENT_ACCESS: "Let the account read it.",
    ldap.SIZELIMIT_EXCEEDED: "Raise the limit of entries for this account: what was read is not whole.",
    ldap.ADMINLIMIT_EXCEEDED: "Raise the limits for this account: what was read is not whole.",
    ldap.TIMELIMIT_EXCEEDED: "Raise its time limit, or narrow the filter.",
    ldap.FILTER_ERROR: "Hint the filter; it is written as in RFC 4515.",
    ldap.INVALID_DN_SYNTAX: "Write DN and base like ou=people,dc=fernhollow,dc=example.",
    ldap.CONFIDENTIALITY_REQUIRED: "Use ldaps:// or StartTLS.",
    ldap.STRONG_AUTH_REQUIRED: "Use ldaps:// or StartTLS.",
    ldap.INAPPROPRIATE_AUTH: "It does not let anybody in this way: sign in with a bind DN and a password.",
    ldap.UNWILLING_TO_PERFORM: "Check how it wants to be signed in to.",
    ldap.PROTOCOL_ERROR: "It does not know this; with StartTLS, try ldaps://.",
}
