"""Two people side by side: what each has where and why, and in which groups they are."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from sqlalchemy import Connection, select

from dravo.core.reasons import chain
from dravo.services.house import House
from dravo.services.subjects import find_people
from dravo.store import tables as t
from dravo.store import views


def compare(house: House, one: str, two: str) -> dict[str, Any]:
    """Return two people, every application in which either has a role, and the groups that either is in.

    Args:
        one, two: ids, user names, e-mails or external ids.

    Returns:
        {"people": [one, two], "applications": [{"application", "same", "sides": [[{"role", "because"}], [...]]}],
        "groups": [{"group", "source", "sides": [bool, bool]}]}; what differs comes first.

    Raises:
        NotFound, InvalidInput: as `find_person`.
    """
    with house.database.reading() as connection:
        found = find_people(connection, [one, two])
        access = [_access(connection, person.id) for person in found]
        groups = [_groups(connection, person.id) for person in found]
    applications = []
    for key in {**access[0], **access[1]}:
        sides = [side.get(key, []) for side in access]
        same = {each["role"] for each in sides[0]} == {each["role"] for each in sides[1]}
        applications.append({"application": {"key": key[0], "label": key[1]}, "same": same, "sides": sides})
    together = []
    for group_id, (group, source) in {**groups[0], **groups[1]}.items():
        together.append({"group": group, "source": source, "sides": [group_id in side for side in groups]})
    return {
        "people": [views.person_line(person) for person in found],
        "applications": sorted(applications, key=lambda each: (each["same"], each["application"]["label"])),
        "groups": sorted(together, key=lambda each: (all(each["sides"]), each["group"]["name"].casefold())),
    }


def _access(connection: Connection, user_id: str) -> dict[tuple[str, str], list[dict[str, Any]]]:
    """Return by (key, label) of an application the roles that somebody has there, the highest first, each with what it rests on."""
    x, p, r = t.access.c, t.application.c, t.role.c
    statement = (
        select(x.reasons, p.key, p.label, r.label.label("role"))
        .join(t.application, p.id == x.application_id)
        .join(t.role, r.id == x.role_id)
        .where(x.user_id == user_id, x.until_at.is_(None))
        .order_by(r.rank.desc(), r.key)
    )
    found: defaultdict[tuple[str, str], list[dict[str, Any]]] = defaultdict(list)
    for row in connection.execute(statement):
        found[row.key, row.label].append({"role": row.role, "because": [chain(each) for each in row.reasons if each["until"] is None]})
    return found


def _groups(connection: Connection, user_id: str) -> dict[str, tuple[dict[str, Any], Any]]:
    listed = views.memberships_of(connection, user_id)
    return {each["group"]["id"]: (each["group"], each["source"]) for each in listed if each["until"] is None}
