"""Invitations of local users: the lines of a list or a CSV file, some of which are rejected."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields
from typing import Any

from dravo.core.days import is_date
from dravo.core.errors import did_you_mean
from dravo.core.identity.local_fields import LocalFields
from dravo.core.identity.names import fold, user_name_key

EMAIL = re.compile(r"[^@\s,;<>\"]+@[^@\s,;<>\"]+\.[^@\s,;<>\"]+")
_NAMED = re.compile(r"(?P<names>[^<>]*)<(?P<email>[^<>]+)>")
_NAMES = ("given_name", "family_name")
# Columns beside the attributes of a local user.
GROUPS, APPLICATION, ROLE, UNTIL = "groups", "application", "role", "until"
ATTRIBUTES = tuple(each.name for each in fields(LocalFields) if each.name not in ("active", "manager"))
COLUMNS = (*ATTRIBUTES, GROUPS, APPLICATION, ROLE, UNTIL)
GROUPS_BETWEEN = ";"
LONGEST_VALUE = 2_000


@dataclass(frozen=True)
class InvitationLine:
    """One user to invite as given.

    Attributes:
        line: the number of the line in the file or the list.
        values: by column, without empty values.
    """

    line: int
    values: Mapping[str, str]


@dataclass(frozen=True)
class InvitationDefaults:
    """What applies to lines that do not say otherwise: groups, a role, and the last day."""

    groups: tuple[str, ...] = ()
    application: str = ""
    role: str = ""
    until: str = ""


@dataclass(frozen=True)
class KnownNames:
    """What exists: users who have not left by folded user name and email, local groups, and roles.

    Attributes:
        user_names, emails: by the form in which they are compared, the displayed name of the user.
        groups: by folded name and by ID, the (ID, name) of a local group.
        roles: by application key, the keys of its roles.
        today: the day in the organization's time zone.
    """

    user_names: Mapping[str, str]
    emails: Mapping[str, str]
    groups: Mapping[str, tuple[str, str]]
    roles: Mapping[str, frozenset[str]]
    today: str


@dataclass(frozen=True)
class PlannedInvitation:
    """A user to invite.

    Attributes:
        fields: the attributes as `LocalFields`, by name.
        groups: (ID, name) of local groups.
    """

    line: int
    email: str
    fields: dict[str, Any]
    groups: tuple[tuple[str, str], ...]
    application: str
    role: str
    until: str


@dataclass(frozen=True)
class RejectedLine:
    """A line that invites nobody, with the reason."""

    line: int
    email: str
    message: str
    hint: str


@dataclass(frozen=True)
class InvitationPlan:
    """The users to invite, and the rejected lines."""

    items: list[PlannedInvitation] = field(default_factory=list)
    rejected: list[RejectedLine] = field(default_factory=list)


def read_line(line: int, cells: Mapping[str, str], *, needs_email: bool) -> InvitationLine:
    """Return a line without empty values, its address taken apart.

    The address may come with names: `Ida Vosper <ida@fernhollow.example>` (RFC 5322, section 3.4). Columns
    of their own count more. Where no email is needed, a word without "@" is a user name.

    Args:
        line: the number of the line.
        cells: by column, the values.
    """
    values = {name: value.strip() for name, value in cells.items() if value.strip()}
    if named := _NAMED.fullmatch(values.get("email", "")):
        values["email"] = named["email"].strip()
        if not values.keys() & _NAMES:
            *given, last = named["names"].replace('"', "").split() or [""]
            names = (" ".join(given), last) if given else (last, "")
            values |= {name: text for name, text in zip(_NAMES, names, strict=True) if text}
    if not needs_email and "@" not in values.get("email", "@") and "user_name" not in values:
        values["user_name"] = values.pop("email")
    return InvitationLine(line, values)


class _LineError(Exception):
    """Why a line is rejected: message and hint."""


def unknown_columns(columns: Iterable[str]) -> list[tuple[str, str]]:
    """Return the columns of a file that mean nothing here, each with a hint."""
    return [(each, did_you_mean(each, COLUMNS)) for each in columns if each and each not in COLUMNS]


def plan_invitations(
    lines: Iterable[InvitationLine],
    known: KnownNames,
    defaults: InvitationDefaults,
    *,
    needs_email: bool = True,
) -> InvitationPlan:
    """Return the users to invite, and the lines that invite nobody.

    Args:
        lines: the lines of a list or a file.
        known: what exists.
        defaults: what applies to lines that do not say otherwise.
        needs_email: whether each user gets an email; otherwise a user name is enough.
    """
    plan = InvitationPlan()
    seen: dict[str, int] = {}
    for line in lines:
        email = line.values.get("email", "")
        try:
            item = _planned(line, known, defaults, needs_email=needs_email)
            for key in filter(None, (user_name_key(item.fields["user_name"]), fold(email))):
                first = seen.setdefault(key, line.line)
                if first != line.line:
                    raise _LineError(f"Line {first} invites the same user.", "Remove one of the two lines.")
            plan.items.append(item)
        except _LineError as wrong:
            plan.rejected.append(RejectedLine(line.line, email, *wrong.args))
    return plan


def _planned(
    line: InvitationLine, known: KnownNames, defaults: InvitationDefaults, *, needs_email: bool
) -> PlannedInvitation:
    values = line.values
    email = values.get("email", "")
    if not email and needs_email:
        raise _LineError("The email address is missing.", "Enter it in the column 'email'.")
    if not email and not values.get("user_name"):
        raise _LineError("The user name is missing.", "Enter it in the column 'user_name'.")
    if email and not EMAIL.fullmatch(email):
        raise _LineError(
            f"'{email}' is not an email address.", "Enter an address such as una@fernhollow.example."
        )
    too_long = next((name for name, value in values.items() if len(value) > LONGEST_VALUE), None)
    if too_long is not None:
        raise _LineError(
            f"The value of '{too_long}' is too long.", f"Use at most {LONGEST_VALUE:,} characters."
        )
    user_name = values.get("user_name") or email
    same = known.emails.get(fold(email)) or known.user_names.get(user_name_key(user_name))
    if same is not None:
        raise _LineError(
            f"The user {same} has the same email address or user name.", "Use the existing user."
        )
    application, role = _role(values, known, defaults)
    until = values.get(UNTIL) or defaults.until
    if until and (not is_date(until) or until < known.today):
        raise _LineError(f"'{until}' is not a day from today on.", "Write a day such as 2031-06-30.")
    given = {name: values[name] for name in ATTRIBUTES if values.get(name)}
    return PlannedInvitation(
        line=line.line,
        email=email,
        fields={**given, "user_name": user_name, "email": email, "active": False},
        groups=_groups(values, known, defaults),
        application=application,
        role=role,
        until=until,
    )


def _role(values: Mapping[str, str], known: KnownNames, defaults: InvitationDefaults) -> tuple[str, str]:
    """Return application and role by key; a line with an application of its own does not get the default."""
    if APPLICATION in values or ROLE in values:
        application, role = values.get(APPLICATION, defaults.application), values.get(ROLE, "")
    else:
        application, role = defaults.application, defaults.role
    if not application and not role:
        return "", ""
    if not application:
        raise _LineError(f"The role '{role}' has no application.", "Enter the key of the application too.")
    if application not in known.roles:
        raise _LineError(f"There is no application '{application}'.", did_you_mean(application, known.roles))
    if role not in known.roles[application]:
        what = f"There is no role '{role}' in '{application}'." if role else "The role is missing."
        raise _LineError(what, did_you_mean(role, sorted(known.roles[application])))
    return application, role


def _groups(
    values: Mapping[str, str], known: KnownNames, defaults: InvitationDefaults
) -> tuple[tuple[str, str], ...]:
    written = values.get(GROUPS)
    names = written.split(GROUPS_BETWEEN) if written else defaults.groups
    found: dict[str, tuple[str, str]] = {}
    for name in names:
        if not name.strip():
            continue
        group = known.groups.get(name.strip()) or known.groups.get(fold(name.strip()))
        if group is None:
            offered = sorted({label for _, label in known.groups.values()})
            hint = did_you_mean(name.strip(), offered) if offered else "Create the group first."
            raise _LineError(f"There is no local group '{name.strip()}'.", hint)
        found[group[0]] = group
    return tuple(found.values())
