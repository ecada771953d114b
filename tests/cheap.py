"""Makes passwords, keys and SQL cheap in the tests' own process.

What makes passwords and keys hard to break takes time, and few tests are about it. Each test opens a
database of its own, and would compile the same statements again.
"""

from __future__ import annotations

from typing import Any

from argon2 import PasswordHasher
from sqlalchemy import Connection, Engine, event
from sqlalchemy.dialects.sqlite.pysqlite import SQLiteDialect_pysqlite

from dravo.services.security import secrets
from dravo.services.sign_in import keys as sign_in_keys

# As they ship; a test looks at these.
SHIPPED_PASSWORDS, SHIPPED_BITS = secrets._PASSWORDS, sign_in_keys.BITS
_COMPILED: dict[Any, Any] = {}


def make_cheap() -> None:
    """Take the least costs that the libraries allow; share compiled statements between databases."""
    secrets._PASSWORDS = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    sign_in_keys.BITS = 2048
    # The dialect is a part of the cache key; all databases of the tests have the same one.
    SQLiteDialect_pysqlite.__hash__ = lambda _: hash(SQLiteDialect_pysqlite)  # type: ignore[method-assign]
    SQLiteDialect_pysqlite.__eq__ = lambda self, other: type(self) is type(other)  # type: ignore[method-assign]
    event.listen(Engine, "engine_connect", _share_compiled)


def _share_compiled(connection: Connection) -> None:
    connection.execution_options(compiled_cache=_COMPILED)
