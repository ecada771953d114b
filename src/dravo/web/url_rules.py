"""URL rules that start quickly: the code that builds addresses is compiled when an address is built.

Werkzeug compiles it for each rule at start, twice. Dravo builds few addresses from rules, and this was a
third of the time in which the web process starts.
"""

from __future__ import annotations

import functools
from collections.abc import Callable

from werkzeug.routing import Rule

Builder = Callable[..., tuple[str, str]]


class QuickRule(Rule):
    """A rule of the routing map."""

    def _compile_builder(self, append_unknown: bool = True) -> Builder:
        @functools.cache
        def compiled() -> Builder:
            return super(QuickRule, self)._compile_builder(append_unknown)

        return lambda rule, **values: compiled()(rule, **values)
