"""Whose record is this? A record is bound to a user for good by (source, channel, id)."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Binding:
    """The user that a record belongs to; `new` if that user is to be made."""

    user_id: str
    new: bool


def bind(bound_to: str | None, new_user_id: str) -> Binding:
    """Return the user of a record.

    A record that is bound stays bound. One that is not gets a user of its own: names and e-mail addresses link nobody to an
    existing user, so that neither a leaver's name nor another source's can be taken over. Match rules that a source may set
    will stand here.

    Args:
        bound_to: the user that (source, channel, id) is bound to, or None.
        new_user_id: the id for a user that has to be made.
    """
    if bound_to is not None:
        return Binding(bound_to, new=False)
    return Binding(new_user_id, new=True)
