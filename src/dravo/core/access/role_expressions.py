"""Expressions whose values are roles: `userType` gives the role whose key, label or sent value is that type.

An expression gives the highest role of an application only to confirmed users: an attribute that a source
reports must not be enough to hand it out.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from dravo.core.access.patterns import Captured
from dravo.core.expressions import Expression
from dravo.core.expressions.functions import text_of
from dravo.core.identity.names import fold

# The largest number of values that are read; more would be a mistake.
MOST = 50


@dataclass(frozen=True)
class RoleExpression:
    """An expression with the roles of its application.

    Attributes:
        expression: the compiled expression.
        roles: the roles, by their texts.
    """

    expression: Expression
    roles: Captured

    @property
    def text(self) -> str:
        """The expression as written."""
        return self.expression.text

    @property
    def top(self) -> str | None:
        """The ID of the highest role; None without roles."""
        return self.roles.ids.get(self.roles.top) if self.roles.top is not None else None

    def values(self, user: Mapping[str, Any]) -> list[str]:
        """Return the values of the expression for a user, as texts."""
        found = self.expression.result(user)
        several = found if isinstance(found, list) else [] if found is None else [found]
        return [text_of(each) for each in several[:MOST]]

    def role_ids(self, user: Mapping[str, Any]) -> list[str]:
        """Return the IDs of the roles that the values name, each once; other values name none."""
        keys = (self.roles.texts.get(fold(each), (None, ""))[0] for each in self.values(user))
        return list(dict.fromkeys(self.roles.ids[key] for key in keys if key is not None))
