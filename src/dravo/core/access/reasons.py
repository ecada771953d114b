"""Stored reasons in a few words: why a user has access."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from dravo.core.access.types import DEFAULT, DIRECT, EVERYONE, EXPRESSION, KEPT, RULE

# Kinds of reasons without a group.
WORDS = {
    EVERYONE: "everyone",
    DEFAULT: "fallback role",
    KEPT: "retained role",
    DIRECT: "direct assignment",
    RULE: "rule",
    EXPRESSION: "expression",
}


def named(reason: Mapping[str, Any]) -> str:
    """Return the object of a reason, such as "group Botanists" or "everyone"; `reason` as planning stores
    it.
    """
    if reason["group"]:
        return f"group {reason['group_name'] or reason['group']}"
    word = WORDS[reason["kind"]]
    return f"{word} {reason['rule']}" if reason["kind"] in (RULE, EXPRESSION) else word


def chain(reason: Mapping[str, Any]) -> str:
    """Return a reason with its access path, such as "Staff > Apprentices > Horticulture"."""
    if not reason["group"]:
        return named(reason)
    source = [reason["source_label"]] if reason["source_label"] else []
    return " > ".join([*source, *reason["through_names"], reason["group_name"] or reason["group"]])
