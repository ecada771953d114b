"""Claims of a provider about a user, as expressions name them; and the groups in them.

Providers write a name in several ways: with a namespace, as an object identifier, in other letter case. An
expression finds a claim by its full name, and by the short one where only one claim has it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from dravo.core.expressions import ENTRY
from dravo.core.identity.names import fold
from dravo.core.identity.source_policy import ASK, BY_EMAIL, SourcePolicy

# What happens to a group in claims: it exists, is created, or is ignored.
GROUP_EXISTING, GROUP_CREATED, GROUP_IGNORED = "existing", "created", "ignored"
# Attribute names by object identifier (RFC 4519, RFC 2798), as in SAML's X.500 profile.
_OIDS = {
    "urn:oid:0.9.2342.19200300.100.1.1": "uid",
    "urn:oid:0.9.2342.19200300.100.1.3": "mail",
    "urn:oid:2.5.4.3": "cn",
    "urn:oid:2.5.4.4": "sn",
    "urn:oid:2.5.4.11": "ou",
    "urn:oid:2.5.4.12": "title",
    "urn:oid:2.5.4.42": "givenname",
    "urn:oid:2.16.840.1.113730.3.1.3": "employeenumber",
    "urn:oid:2.16.840.1.113730.3.1.241": "displayname",
}
SUBJECT = "subject"
_AN_ID = re.compile(
    r"[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|[0-9a-f]{24,}|\d{6,}", re.IGNORECASE
)
SAML_ATTRIBUTES = (
    ("userName", "uid else username else upn else email else mail else emailaddress else subject"),
    ("displayName", "displayname else cn else name"),
    ("name.givenName", "givenname else firstname"),
    ("name.familyName", "surname else sn else lastname"),
    ('emails[type eq "work"].value', "email else mail else emailaddress"),
    ("title", "title"),
)
OIDC_ATTRIBUTES = (
    ("userName", "preferred_username else email else subject"),
    ("displayName", "name"),
    ("name.givenName", "given_name"),
    ("name.familyName", "family_name"),
    ('emails[type eq "work"].value', "email"),
)
# An emailed code verifies only the address; users who register enter their names.
MAIL_ATTRIBUTES = (
    ("userName", "email"),
    ("displayName", "name"),
    ("name.givenName", "given_name"),
    ("name.familyName", "family_name"),
    ('emails[type eq "work"].value', "email"),
)
REGISTERED = "registered"
GROUPS = "groups else group else memberof else roles"


@dataclass(frozen=True)
class Claims:
    """Claims as expressions read them.

    Attributes:
        attributes: the values by folded name.
        short: added short names, each with its full name.
    """

    attributes: dict[str, list[Any]]
    short: dict[str, str]


def usual_policy(protocol: str) -> SourcePolicy:
    """Return the answers that a sign-in begins with, by its protocol, "saml", "oidc" or "mail"."""
    if protocol == "email_code":
        # Users match by the address, and none is created unless the policy says so.
        return SourcePolicy(
            match=BY_EMAIL, makes=False, attributes=MAIL_ATTRIBUTES, reads=ENTRY, groups_from=(REGISTERED,)
        )
    return SourcePolicy(
        attributes=SAML_ATTRIBUTES if protocol == "saml" else OIDC_ATTRIBUTES,
        reads=ENTRY,
        groups_from=(GROUPS,),
    )


def read_claims(arrived: Mapping[str, Sequence[Any]], subject: str) -> Claims:
    """Return received claims as expressions name them; "subject" is the provider's identifier of the user."""
    full: dict[str, list[Any]] = {}
    for name, values in arrived.items():
        full.setdefault(fold(name), []).extend(_plain(each) for each in values)
    shorts: dict[str, list[str]] = {}
    for name in full:
        short = _OIDS.get(name) or re.split(r"[/:#]", name)[-1]
        if short and short != name:
            shorts.setdefault(short, []).append(name)
    alone = {short: names[0] for short, names in shorts.items() if len(names) == 1 and short not in full}
    attributes = {**full, **{short: full[name] for short, name in alone.items()}, SUBJECT: [subject]}
    return Claims(attributes, alone)


def _plain(value: Any) -> Any:
    """Return a value for expressions: a text, number or boolean; structured values have no name."""
    return value if isinstance(value, str | bool | int | float) else str(value)


def told_groups(policy: SourcePolicy, attributes: Mapping[str, Any]) -> list[str] | None:
    """Return the names of the groups in the claims; None if no claim has groups.

    A missing claim is not an empty claim.
    """
    if policy.groups_from and not any(each in attributes for each in policy.groups_read):
        return None
    return policy.made_groups(attributes)


def looks_like_id(value: str) -> bool:
    """Whether the name of a group looks like an ID, which nobody can recognize in the role mapping."""
    return _AN_ID.fullmatch(value.strip()) is not None


def safe_policy(
    policy: SourcePolicy, attributes: Mapping[str, Sequence[Any]], *, says_verified: bool
) -> SourcePolicy:
    """Return the policy with which this sign-in may be matched: an email that the provider did not verify
    links no user.

    Args:
        says_verified: whether the protocol states that an email was verified (OpenID Connect Core 5.1).
    """
    if not says_verified or _is_true(attributes.get("email_verified", ())):
        return policy
    return replace(policy, match=ASK)


def _is_true(values: Iterable[Any]) -> bool:
    return any(each is True or each == "true" for each in values)
