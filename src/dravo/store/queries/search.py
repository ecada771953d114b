"""Conditions that find rows by text in names."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, func, or_

from dravo.core.identity.names import fold, user_name_key
from dravo.store import tables as t


def contains(column: Any, words: str) -> ColumnElement[bool]:
    """Return the condition that a folded column contains some words; their characters are no pattern."""
    return func.instr(column, fold(words)) > 0


def user_has(words: str, *, emails: bool = True) -> ColumnElement[bool]:
    """Return the condition that a user's name or user name contains some words; `ix_user_display` answers it
    without reading a user.

    Args:
        emails: whether the email is searched too.
    """
    u = t.user.c
    return or_(name_has(words), *([contains(u.email_key, words)] if emails else []))


def name_has(words: str) -> ColumnElement[bool]:
    """Return the condition that a user's name or user name contains some words."""
    u = t.user.c
    return or_(contains(u.display_name_key, words), func.instr(u.user_name_key, user_name_key(words)) > 0)


def has(column: Any, words: str) -> ColumnElement[bool]:
    """Return the condition that a column contains some words, in any letter case of ASCII letters."""
    return func.lower(column).contains(words.lower(), autoescape=True)
