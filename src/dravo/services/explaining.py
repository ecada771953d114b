"""Explains: who a person is and which source said so, what they have and why, and why not."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, func, select

from dravo.core.instants import later
from dravo.core.scim.schemas import ENTERPRISE_URN
from dravo.services import assigning
from dravo.services.house import House
from dravo.services.named import application_by_key
from dravo.services.sources import TROUBLES
from dravo.store import clock, views
from dravo.store import tables as t
from dravo.store.pages import Ask


def person(house: House, name: str) -> dict[str, Any]:
    """Return everything about one person: attributes with the source of each, records, groups, access, accounts.

    Raises:
        NotFound, InvalidInput: if nobody, or several, have that id, user name, e-mail or external id.
    """
    with house.database.reading() as connection:
        row = assigning.find_person(connection, name)
        labels = {each.id: {"key": each.key, "label": each.label} for each in connection.execute(select(t.source))}
        most = Ask(count=200)
        return {
            **views.person_line(row),
            "attributes": [
                {"name": name, "value": value, "source": labels.get(row.given_by.get(path, ""))} for path, name, value in _flat(row.attributes)
            ],
            "records": views.records_of(connection, row.id),
            "groups": views.memberships_of(connection, row.id),
            "access": views.access(connection, most, user_id=row.id)["items"],
            "ended": views.access(connection, most, user_id=row.id, ended=True)["items"],
            "accounts": views.accounts(connection, most, None, row.id, None, None)["items"],
            "being_worked_out": connection.execute(select(t.mark.c.user_id).where(t.mark.c.user_id == row.id)).first() is not None,
        }


def _flat(attributes: dict[str, Any]) -> list[tuple[str, str, str]]:
    """Return attributes as (path of provenance, name for people, text)."""
    lines: list[tuple[str, str, str]] = []
    for name, value in attributes.items():
        if name == ENTERPRISE_URN:
            lines.extend((f"{name}:{part}", part, _text(inner)) for part, inner in value.items())
        elif isinstance(value, dict):
            lines.extend((name, f"{name}.{part}", _text(inner)) for part, inner in value.items())
        else:
            lines.append((name, name, _text(value)))
    return lines


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(_text(each) for each in value)
    if isinstance(value, dict):
        shown = str(value.get("value") or value.get("formatted") or "; ".join(str(each) for each in value.values()))
        return f"{shown} ({value['type']})" if value.get("type") else shown
    return "yes" if value is True else "no" if value is False else str(value)


def why(house: House, person_name: str, application_key: str) -> dict[str, Any]:
    """Explain, in sentences too, what a person has in an application and why; or why not, and what would give it.

    Raises:
        NotFound, InvalidInput.
    """
    with house.database.reading() as connection:
        row = assigning.find_person(connection, person_name)
        application = application_by_key(connection, application_key)
        held = views.access(connection, Ask(count=50), application_key=application.key, user_id=row.id)["items"]
        ended = views.access(connection, Ask(count=50), application_key=application.key, user_id=row.id, ended=True)["items"]
        accounts = views.accounts(connection, Ask(count=1), application.key, row.id, None, None)["items"]
        ways = _ways(connection, application.id)
        present = {each["group"]["id"] for each in views.memberships_of(connection, row.id) if each["until"] is None}
    account = accounts[0] if accounts else None
    line = views.person_line(row)
    sentences = [sentence for item in held for sentence in _of_access(line, item)] or _why_not(line, application, ways, ended, present)
    return {
        "person": {"id": row.id, "display_name": row.display_name, "user_name": row.user_name},
        "application": {"key": application.key, "label": application.label},
        "has_access": bool(held),
        "sentences": [*sentences, *_of_account(account, application)],
        "access": held,
        "ended": ended,
        "account": account,
        "would_give": [] if held else ways,
    }


def _of_access(person_line: dict[str, Any], item: dict[str, Any]) -> list[str]:
    lines = [f"{person_line['display_name']} is {item['role']['label']} in {item['application']['label']} since {_when(item['since'])}."]
    for reason in item["reasons"]:
        if reason["until"]:
            lines.append(f"Until {_when(reason['until'])} also {_because(reason)}.")
        else:
            lines.append(f"Because {_because(reason)}, since {_when(reason['since'])}.")
    return lines


def _because(reason: dict[str, Any]) -> str:
    by = f" (assigned by {reason['by']})" if reason["by"] else ""
    if not reason["group"]:
        return f"the role was assigned to the person{by}"
    source = f" of {reason['source']['label']}" if reason["source"] else ""
    way = f" by way of {' and '.join(reason['through'])}" if reason["through"] else ""
    return f"the group '{reason['group']['name']}'{source}, which the person is in{way}, gives the role{by}"


def _why_not(person_line: dict[str, Any], application: Any, ways: list[dict[str, Any]], ended: list[dict[str, Any]], present: set[str]) -> list[str]:
    name = person_line["display_name"]
    lines = [f"{name} has no access to {application.label}."]
    if person_line["state"] != "active":
        what = "has left" if person_line["state"] == "gone" else "is inactive"
        lines.append(f"{name} {what} since {_when(person_line['since'])}, and whoever is not active has no access to anything.")
    if ended:
        last = ended[0]
        reason = last["reasons"][-1] if last["reasons"] else None
        because = f", because {_because(reason)}" if reason else ""
        lines.append(
            f"Until {_when(last['until'])} {name} was {last['role']['label']}{because}.".replace("which the person is in", "which they were in")
        )
    back = [_way(way) for way in ways if way["group"]["id"] in present]
    if back and person_line["state"] == "inactive":
        return [*lines, f"Active again, {name} would have it by {', '.join(back)}."]
    groups = [_way(way) for way in ways]
    if groups:
        lines.append(f"Being in one of these groups would give it: {', '.join(groups[:10])}{' and more' if len(groups) > 10 else ''}.")
    else:
        lines.append(f"No group gives a role in {application.label}; it can be assigned to the person.")
    return lines


def _way(way: dict[str, Any]) -> str:
    return f"'{way['group']['name']}' ({way['role']['label']})"


def _of_account(account: dict[str, Any] | None, application: Any) -> list[str]:
    if application.tracked_only:
        return [f"{application.label} is only tracked: its accounts are kept by hand."]
    if account is None:
        return []
    lines = []
    if account["state"] == "agreed":
        there = "is not there" if account["should_be"] == "absent" else f"is {account['should_be']} there"
        lines.append(f"The account {there}, as agreed at {_when(account['agreed_at'])}.")
    elif account["state"] == "left alone":
        lines.append("The account there is left as it is, by the application's settings.")
    else:
        lines.append(f"The account should be {account['should_be']} since {_when(account['due_since'])}, and is not yet.")
        delivery = account["delivery"]
        if delivery and delivery["message"]:
            lines.append(f"{delivery['message']} {delivery['mend'] or ''}".strip())
        elif application.paused_at:
            lines.append(f"{application.label} is paused: {application.trouble or ''} {application.trouble_mend or ''}".strip())
        elif not application.switched_on:
            lines.append(f"{application.label} is switched off, so nothing is delivered.")
    return lines


def _when(moment: str) -> str:
    """Return an instant as it is read in a sentence."""
    return f"{moment[:10]} {moment[11:16]} UTC"


def _ways(connection: Connection, application_id: str) -> list[dict[str, Any]]:
    a, g, s, r = t.assignment.c, t.group.c, t.source.c, t.role.c
    rows = connection.execute(
        select(a.id, g.id.label("group_id"), g.display_name, s.key, s.label, r.key.label("role_key"), r.label.label("role_label"), r.rank)
        .join(t.role, r.id == a.role_id)
        .join(t.group, g.id == a.group_id)
        .outerjoin(t.source, s.id == g.source_id)
        .where(a.application_id == application_id, a.removed_at.is_(None), g.gone_at.is_(None))
        .order_by(r.rank, g.display_name_key)
        .limit(50)
    )
    return [
        {
            "assignment": row.id,
            "group": {"id": row.group_id, "name": row.display_name},
            "source": {"key": row.key, "label": row.label} if row.key else None,
            "role": {"key": row.role_key, "label": row.role_label, "rank": row.rank},
        }
        for row in rows
    ]


def overview(house: House) -> dict[str, Any]:
    """Return the band: for each stage how much there is, and how much of it needs a person."""

    def count(table: Any, *where: Any) -> Any:
        return select(func.count()).select_from(table).where(*where).scalar_subquery()

    d, p = t.delivery.c, t.application.c
    open_failed = (d.closed_at.is_(None), d.state.in_(("failed", "held")))
    with house.database.reading() as connection:
        row = connection.execute(
            select(
                count(t.source).label("sources"),
                count(t.user, t.user.c.gone_at.is_(None)).label("people"),
                count(t.user, t.user.c.active.is_(True)).label("active"),
                count(t.group, t.group.c.gone_at.is_(None)).label("groups"),
                count(t.access, t.access.c.until_at.is_(None)).label("access"),
                count(t.mark).label("being_worked_out"),
                count(t.application).label("applications"),
                count(t.application, p.paused_at.is_not(None)).label("paused"),
                count(t.drift, t.drift.c.state == "open").label("drifting"),
                count(t.delivery, d.closed_at.is_(None), d.state == "waiting").label("waiting"),
                count(t.delivery, *open_failed).label("failed"),
            )
        ).one()
        refused = connection.execute(
            select(func.count()).select_from(t.source_sight).where(t.source_sight.c.what.in_(TROUBLES), t.source_sight.c.last_at > _yesterday())
        ).scalar_one()
        gone_groups = connection.execute(
            select(func.count())
            .select_from(t.assignment)
            .join(t.group, t.group.c.id == t.assignment.c.group_id)
            .where(t.assignment.c.removed_at.is_(None), t.group.c.gone_at.is_not(None))
        ).scalar_one()
    return {
        "stages": [
            {"name": "sources", "count": row.sources, "needs": refused},
            {"name": "people", "count": row.people, "needs": 0},
            {"name": "access", "count": row.access, "needs": gone_groups},
            {"name": "applications", "count": row.applications, "needs": row.paused + row.drifting},
            {"name": "deliveries", "count": row.waiting, "needs": row.failed},
        ],
        "active_people": row.active,
        "groups": row.groups,
        "being_worked_out": row.being_worked_out,
    }


def _yesterday() -> str:
    return later(clock.now(), -86_400)
