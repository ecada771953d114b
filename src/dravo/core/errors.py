"""Errors that a user is meant to read: a code for programs, what happened, and the hint."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """Return the hint for a misspelled name: the nearest known name, or all of them where none is near."""
    names = list(known)
    near = difflib.get_close_matches(name, names, 1)
    return f"Did you mean '{near[0]}'?" if near else f"Use one of: {', '.join(names)}."


class DravoError(Exception):
    """Something that was asked for cannot be done, told in words that name the hint.

    Args:
        message: what happened, one sentence.
        hint: what to do about it, one sentence; may be empty where nothing can be done.
        field: the name of the input that is at fault, where there is one.
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
    """A value that was given cannot be used."""

    code = "invalid_input"
    status = 422


class NotFound(DravoError):
    """What was named does not exist."""

    code = "not_found"
    status = 404


class AlreadyExists(DravoError):
    """What was to be made exists."""

    code = "already_exists"
    status = 409


class StillInUse(DravoError):
    """What was to be removed has others that depend on it."""

    code = "in_use"
    status = 409


class StalePreview(DravoError):
    """The state that a plan was made from no longer stands."""

    code = "stale_preview"
    status = 409


class NotSignedIn(DravoError):
    """The caller is not known."""

    code = "not_signed_in"
    status = 401


class NotPermitted(DravoError):
    """The caller is known and may not do this."""

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
