"""Reads an LDAP directory (RFC 4511), paged (RFC 2696), with chosen attributes; a read-only account is
enough.
"""

from __future__ import annotations

import base64
import re
import uuid
from collections.abc import Iterator, Sequence
from typing import ClassVar

import ldap
from ldap.filter import escape_filter_chars
from pydantic import BaseModel

from dravo.core.expressions import ENTRY
from dravo.core.identity.names import fold
from dravo.protocols.directory.ldap_connection import SECONDS, LdapConnection
from dravo.protocols.directory.ldap_errors import trouble
from dravo.protocols.directory.ldap_settings import LdapSettings, folded_dn
from dravo.protocols.directory.reader import (
    NOTED,
    OK,
    BadLine,
    Checked,
    DirectoryTrouble,
    Entry,
    GroupEntry,
    Step,
    checked_by,
    seen_values,
)

SAMPLE = 200
# The operational attribute of RFC 4530; a directory with another one has it in its settings.
CHANGED_AT = "modifyTimestamp"
MEMBERSHIPS = ("member", "uniqueMember", "memberUid", "memberOf")
_MARK = re.compile(r"\d{14}(\.\d+)?Z")
STEPS = ("Address", "TLS", "Bind", "User base", "Users", "Groups", "Attribute mapping", "Rights")


class LdapReader(LdapConnection):
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
        (
            "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:employeeNumber",
            "employeeNumber then first",
        ),
    )

    # The connection

    # Reading

    def users(self, since: str | None = None) -> Iterator[Entry | BadLine]:
        """Yield all users, or users who changed since a mark."""
        settings = self.settings
        names = [
            settings.id_attribute,
            CHANGED_AT,
            *self._uses,
            *(["memberOf"] if settings.membership == "memberOf" else []),
        ]
        text = (
            settings.users_filter if since is None else f"(&{settings.users_filter}({CHANGED_AT}>={since}))"
        )
        scope = ldap.SCOPE_SUBTREE if settings.users_scope == "subtree" else ldap.SCOPE_ONELEVEL
        for dn, values in self._search(settings.users_base, scope, text, names):
            yield self._entry(dn, values)

    def _entry(self, dn: str, values: dict[str, list[bytes]]) -> Entry | BadLine:
        attributes = {name.lower(): [_text(each) for each in found] for name, found in values.items()}
        self._note_change(attributes)
        native_id = self._id(attributes)
        if native_id is None:
            return BadLine(
                dn,
                f"The entry has no {self.settings.id_attribute}.",
                "Choose an attribute that all entries have, or allow the account to read it.",
            )
        reference = self._locator(dn, attributes)
        if self.settings.membership == "memberOf":
            for group in attributes.get("memberof", ()):
                self._by_user.setdefault(self._fold(group), (group, []))[1].append(reference)
        kept = {name: found for name, found in attributes.items() if name in self._kept}
        return Entry(native_id, reference, {**kept, "dn": [dn]} if "dn" in self._kept else kept)

    def _locator(self, dn: str, attributes: dict[str, list[str]]) -> str:
        if self.settings.membership == "memberUid":
            return fold((attributes.get("uid") or [""])[0])
        return self._fold(dn)

    def _fold(self, dn: str) -> str:
        """Return a folded DN; most spellings repeat, so results are cached."""
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
        text = (
            settings.groups_filter if since is None else f"(&{settings.groups_filter}({CHANGED_AT}>={since}))"
        )
        for dn, values in self._search(
            settings.groups_base or settings.users_base, ldap.SCOPE_SUBTREE, text, names
        ):
            yield self._group(dn, values)

    def _group(self, dn: str, values: dict[str, list[bytes]]) -> GroupEntry | BadLine:
        settings = self.settings
        lowered = {name.lower(): found for name, found in values.items()}
        members = lowered.pop(settings.membership.lower(), [])
        # Some directories return long lists in parts, as member;range=0-1499: one part is not the complete
        # list.
        if any(name.startswith(f"{settings.membership.lower()};range=") for name in lowered):
            raise DirectoryTrouble(
                f"The directory returns only some members of {dn}.",
                "Raise the limit for attribute values in the directory, or use memberOf.",
            )
        attributes = {name: [_text(each) for each in found] for name, found in lowered.items()}
        self._note_change(attributes)
        native_id, name = self._id(attributes), (attributes.get(settings.group_name.lower()) or [""])[0]
        if native_id is None or not name:
            lacks = settings.id_attribute if native_id is None else settings.group_name
            return BadLine(dn, f"The group has no {lacks}.", "Choose an attribute that all groups have.")
        reference = self._fold(dn)
        if settings.membership == "memberOf":
            found = self._by_user.get(reference)
            return GroupEntry(native_id, reference, name, tuple(found[1]) if found else ())
        read = fold if settings.membership == "memberUid" else self._fold
        return GroupEntry(native_id, reference, name, tuple(read(_text(each)) for each in members))

    def mark(self) -> str | None:
        """Return the newest modifyTimestamp; None where a change of a user's groups does not show in it."""
        return (
            None if self._whole or self._newest is None or not _MARK.fullmatch(self._newest) else self._newest
        )

    def one(self, native_id: str) -> Entry | None:
        """Return one user by ID."""
        settings = self.settings
        text = f"(&{settings.users_filter}({settings.id_attribute}={escape_filter_chars(native_id)}))"
        scope = ldap.SCOPE_SUBTREE if settings.users_scope == "subtree" else ldap.SCOPE_ONELEVEL
        names = [settings.id_attribute, CHANGED_AT, *self._uses, *(["memberOf", "uid"])]
        for dn, values in self._search(settings.users_base, scope, text, names):
            found = self._entry(dn, values)
            return found if isinstance(found, Entry) else None
        return None

    def groups_of(self, entry: Entry) -> list[GroupEntry] | None:
        """Return the groups of a user, without their members; None by memberOf, where users name their
        groups.
        """
        settings = self.settings
        if settings.membership == "memberOf":
            return None
        text = f"(&{settings.groups_filter}({settings.membership}={escape_filter_chars(entry.reference)}))"
        names = [settings.id_attribute, settings.group_name]
        found = [
            self._group(dn, values)
            for dn, values in self._search(
                settings.groups_base or settings.users_base, ldap.SCOPE_SUBTREE, text, names
            )
        ]
        return [each for each in found if isinstance(each, GroupEntry)]

    # The check

    def check(self, uses: Sequence[str]) -> Checked:
        """Try the connection: reach, TLS, sign in, base, users, groups, the attributes that expressions
        need, and the rights.
        """
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
            Step(
                "Bind",
                OK,
                f"Bound as {settings.bind_dn}."
                if settings.sign_in == "simple"
                else f"Bound: {settings.sign_in}.",
            )
        )
        try:
            connection.search_ext_s(
                settings.users_base, ldap.SCOPE_BASE, "(objectClass=*)", ["1.1"], timeout=SECONDS
            )
        except ldap.LDAPError as wrong:
            raise trouble(wrong, f"looking for {settings.users_base}") from None
        steps.append(Step("User base", OK, f"{settings.users_base} exists."))
        self._check_users(checked, uses)

    def _check_users(self, checked: Checked, uses: Sequence[str]) -> None:
        settings, steps = self.settings, checked.steps
        self._uses = ()
        scope = ldap.SCOPE_SUBTREE if settings.users_scope == "subtree" else ldap.SCOPE_ONELEVEL
        every = ["*", settings.id_attribute, CHANGED_AT, "memberOf"]
        lacking = read = passwords = 0
        for dn, values in self._first(settings.users_base, scope, settings.users_filter, every):
            attributes = {name.lower(): [_text(each) for each in found] for name, found in values.items()}
            attributes["dn"] = [dn]
            # Searched each time, never cached.
            passwords += attributes.pop("userpassword", None) is not None
            read += 1
            native_id = self._id(attributes)
            lacking += native_id is None
            seen_values(checked.attributes, attributes)
            checked.sample.append(Entry(native_id or dn, self._fold(dn), attributes))
        if not read:
            raise DirectoryTrouble(
                f"The filter {settings.users_filter} matches no users.",
                "Check the base and the filter, and that the account can read the users.",
            )
        if lacking:
            raise DirectoryTrouble(
                f"{lacking} of {read} have no {settings.id_attribute}.",
                "Choose another ID attribute, or allow the account to read this operational attribute.",
            )
        steps.append(Step("Users", OK, f"{read:,} users read{' as a sample' if read >= SAMPLE else ''}."))
        steps.append(self._groups_step())
        steps.append(_mapping_step([name for name in uses if name not in checked.attributes], bool(uses)))
        steps.append(_rights_step(passwords))

    def _groups_step(self) -> Step:
        settings = self.settings
        groups = list(
            self._first(
                settings.groups_base or settings.users_base,
                ldap.SCOPE_SUBTREE,
                settings.groups_filter,
                [settings.group_name, settings.membership, settings.id_attribute],
            )
        )
        if not groups:
            return Step(
                "Groups",
                NOTED,
                "The group filter matches no groups.",
                "Check the group base and the group filter if you need groups.",
            )
        if settings.membership == "memberOf":
            return Step("Groups", OK, f"{len(groups):,} groups read.")
        wanted = settings.membership.lower()
        with_members = sum(1 for _, values in groups if any(name.lower() == wanted for name in values))
        listing = f"{len(groups):,} groups read, {with_members:,} of them with {settings.membership}."
        return Step("Groups", OK if with_members else NOTED, listing)

    def _first(
        self, base: str, scope: int, text: str, names: Sequence[str]
    ) -> Iterator[tuple[str, dict[str, list[bytes]]]]:
        for number, found in enumerate(self._search(base, scope, text, names)):
            if number >= SAMPLE:
                return
            yield found


def _mapping_step(missing: Sequence[str], any_used: bool) -> Step:
    """Return the step about the attributes that expressions use."""
    if missing:
        return Step(
            "Attribute mapping",
            NOTED,
            f"No user of the sample has: {', '.join(missing)}.",
            "Check the attribute names, and that the account can read them.",
        )
    message = "All attributes are available." if any_used else "No expressions yet."
    return Step("Attribute mapping", OK, message)


def _rights_step(passwords: int) -> Step:
    """Report whether the account can read more than it needs; what it may write cannot be asked without
    writing.
    """
    if passwords:
        hint = "Remove this right. Read access to names and groups is enough."
        return Step("Rights", NOTED, "The account can read password hashes.", hint)
    return Step("Rights", OK, "The account can read users, but no passwords.")


def _text(value: bytes) -> str:
    """Return a value as text: binary values in base64, and a UUID of 16 bytes as a UUID."""
    try:
        return value.decode()
    except UnicodeDecodeError:
        return str(uuid.UUID(bytes=value)) if len(value) == 16 else base64.b64encode(value).decode()
