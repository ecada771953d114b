"""Makes passwords, keys and SQL cheap in the tests' own process.

What makes passwords and keys hard to break takes time, and few tests are about it. Each test opens a
database of its own, and would compile the same statements again.
"""

from __future__ import annotations

import itertools
from typing import Any

from argon2 import PasswordHasher
from cryptography.hazmat.primitives.asymmetric import rsa
from sqlalchemy import Connection, Engine, event
from sqlalchemy.dialects.sqlite.pysqlite import SQLiteDialect_pysqlite

from dravo.services.security import secrets
from dravo.services.sign_in import keys as sign_in_keys

# As they ship; a test looks at these.
SHIPPED_PASSWORDS, SHIPPED_BITS = secrets._PASSWORDS, sign_in_keys.BITS
_COMPILED: dict[Any, Any] = {}
# Our own keys of sources: more than one test makes, so that no two keys of a test are the same.
_POOL_SIZE = 12
_POOL: list[rsa.RSAPrivateKey] = []
_PLACES = itertools.cycle(range(_POOL_SIZE))
_generate = sign_in_keys.generate_key


def make_cheap() -> None:
    """Take the least costs that the libraries allow; share compiled statements between databases."""
    secrets._PASSWORDS = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    sign_in_keys.BITS = 2048
    sign_in_keys.generate_key = _draw_key
    # The dialect is a part of the cache key; all databases of the tests have the same one.
    SQLiteDialect_pysqlite.__hash__ = lambda _: hash(SQLiteDialect_pysqlite)  # type: ignore[method-assign]
    SQLiteDialect_pysqlite.__eq__ = lambda self, other: type(self) is type(other)  # type: ignore[method-assign]
    event.listen(Engine, "engine_connect", _share_compiled)


def _share_compiled(connection: Connection) -> None:
    connection.execution_options(compiled_cache=_COMPILED)


def _draw_key() -> rsa.RSAPrivateKey:
    """Return a key of a small pool that this process generates once."""
    place = next(_PLACES)
    if place == len(_POOL):
        _POOL.append(_generate())
    return _POOL[place]
