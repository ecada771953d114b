"""Errors for users: a code for programs, a message, and a hint."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """Return the hint for a misspelled name: the nearest known name, or all names."""
    names = list(known)
    near = difflib.get_close_matches(name, names, 1)
    return f"Did you mean '{near[0]}'?" if near else f"Use one of: {', '.join(names)}."


class DravoError(Exception):
    """An error for users.

    Args:
        message: what happened, in one sentence.
        hint: what to do, in one sentence; may be empty.
        field: the name of the wrong input, if there is one.
    """

    code = "error"
    status = 400

    def __init__(self, message: str, hint: str = "", field: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint
        self.field = field

    def __str__(self) -> str:
        return f"{self.message} {self.hint}".strip()


class InvalidInput(DravoError):
    """A value is invalid."""

    code = "invalid_input"
    status = 422


class NotFound(DravoError):
    """A named object does not exist."""

    code = "not_found"
    status = 404


class AlreadyExists(DravoError):
    """The object exists already."""

    code = "already_exists"
    status = 409


class StillInUse(DravoError):
    """Other objects depend on the object."""

    code = "in_use"
    status = 409


class StalePreview(DravoError):
    """The state changed since the plan was made."""

    code = "stale_preview"
    status = 409


class NotSignedIn(DravoError):
    """The caller is unknown."""

    code = "not_signed_in"
    status = 401


class NotPermitted(DravoError):
    """The caller lacks the permission."""

    code = "not_permitted"
    status = 403


class TooManyTries(DravoError):
    """A limit on attempts was reached."""

    code = "too_many_tries"
    status = 429


class StorageFailing(DravoError):
    """The records cannot be written: the disk is full, or the folder read-only."""

    code = "storage_unavailable"
    status = 503


class Busy(DravoError):
    """The records are locked for longer than is reasonable."""

    code = "busy"
    status = 503
