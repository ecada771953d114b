"""Icons of applications, as PNG."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, ScalarSelect, delete, insert, select

from dravo.store import tables as t


def version_of(application_id: Any) -> ScalarSelect[str]:
    """Return as a column the version of the icon of an application; null without an icon."""
    i = t.application_icon.c
    return select(i.version).where(i.application_id == application_id).scalar_subquery()


def image_of(connection: Connection, application_id: str) -> bytes | None:
    """Return the icon of an application, or None."""
    i = t.application_icon.c
    return connection.execute(select(i.image).where(i.application_id == application_id)).scalar()


def replace_image(connection: Connection, application_id: str, version: str, image: bytes) -> None:
    """Store the icon of an application."""
    delete_image(connection, application_id)
    values = {"application_id": application_id, "version": version, "image": image}
    connection.execute(insert(t.application_icon).values(**values))


def delete_image(connection: Connection, application_id: str) -> None:
    """Delete the icon of an application."""
    i = t.application_icon.c
    connection.execute(delete(t.application_icon).where(i.application_id == application_id))
