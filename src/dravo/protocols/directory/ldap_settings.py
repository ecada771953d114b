"""Settings of the LDAP connector, and its addresses and names."""

from __future__ import annotations

import re
from typing import Literal

import ldap
from ldap.dn import dn2str, str2dn
from pydantic import BaseModel, Field

from dravo.core.identity.names import fold
from dravo.protocols.directory.reader import (
    DirectoryTrouble,
)

_ADDRESS = re.compile(r"(ldaps?)://(\[[0-9a-fA-F:]+\]|[^\s/:?#]+)(?::(\d{1,5}))?/?", re.IGNORECASE)


# One attribute per part, with values of letters, digits, dots, hyphens, underscores and single inner spaces.
_PLAIN_DN = re.compile(
    r"[A-Za-z]+=[A-Za-z0-9._-]+(?: [A-Za-z0-9._-]+)*(?:,[A-Za-z]+=[A-Za-z0-9._-]+(?: [A-Za-z0-9._-]+)*)*"
)


class LdapSettings(BaseModel):
    """How an LDAP directory is reached and read."""

    address: str = Field(title="Address", description="ldaps://host, or ldap://host with StartTLS")
    start_tls: bool = Field(
        True, title="StartTLS", description="encrypts a connection to ldap:// before the bind"
    )
    ca: str = Field(
        "",
        title="CA certificate",
        description="PEM of your own certificate authority; empty for public ones",
        json_schema_extra={"lines": True},
    )
    check_certificate: bool = Field(
        True,
        title="Verify certificate",
        description="disable it only for tests: others could read the traffic",
    )
    sign_in: Literal["simple", "external", "anonymous"] = Field(
        "simple",
        title="Bind method",
        description="simple (bind DN and password), external (client certificate, SASL EXTERNAL) or "
        "anonymous",
    )
    bind_dn: str = Field(
        "",
        title="Bind DN",
        description="a read-only account, such as cn=reader,dc=estates,dc=fernhollow,dc=example",
    )
    client_certificate: str = Field(
        "",
        title="Client certificate",
        description="PEM for SASL EXTERNAL; its key is the secret",
        json_schema_extra={"lines": True},
    )
    users_base: str = Field(
        title="User base", description="such as ou=people,dc=estates,dc=fernhollow,dc=example"
    )
    users_scope: Literal["subtree", "one_level"] = Field("subtree", title="Scope")
    users_filter: str = Field("(objectClass=inetOrgPerson)", title="User filter", description="RFC 4515")
    groups_base: str = Field("", title="Group base", description="default: the user base")
    groups_filter: str = Field(
        "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))",
        title="Group filter",
    )
    group_name: str = Field("cn", title="Group name attribute", description="the attribute with the name")
    membership: Literal["member", "uniqueMember", "memberUid", "memberOf"] = Field(
        "member", title="Membership attribute"
    )
    id_attribute: str = Field(
        "entryUUID", title="ID", description="attribute that stays when an entry is renamed or moved"
    )
    follow_referrals: bool = Field(False, title="Follow referrals")


def folded_dn(text: str) -> str:
    """Return a DN as it is compared: without needless blanks, attribute types and values in one letter case
    (RFC 4514).

    Raises:
        ValueError: if it is none.
    """
    if _PLAIN_DN.fullmatch(text):
        # Such a DN has only one spelling, apart from letter case.
        return text.lower()
    try:
        parts = str2dn(text)
    except ldap.DECODING_ERROR:
        raise ValueError(f"'{text}' is not a DN") from None
    return str(
        dn2str(
            [
                sorted((kind.lower(), fold(" ".join(value.split())), flags) for kind, value, flags in part)
                for part in parts
            ]
        )
    )


def read_address(text: str) -> tuple[str, str, int]:
    """Return scheme, host and port of an address.

    Raises:
        DirectoryTrouble: if it is none.
    """
    found = _ADDRESS.fullmatch(text.strip())
    if not found:
        raise DirectoryTrouble(
            f"'{text}' is not an LDAP URL.", "Enter a URL such as ldaps://directory.fernhollow.example."
        )
    scheme = found[1].lower()
    return scheme, found[2].strip("[]"), int(found[3] or (636 if scheme == "ldaps" else 389))
