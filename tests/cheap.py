"""Makes passwords and keys cheap in the tests' own process: what makes them hard to break takes time, and
few tests are about it.
"""

from __future__ import annotations

from argon2 import PasswordHasher

from dravo.services.security import secrets
from dravo.services.sign_in import keys as sign_in_keys

# As they ship; a test looks at these.
SHIPPED_PASSWORDS, SHIPPED_BITS = secrets._PASSWORDS, sign_in_keys.BITS


def make_cheap() -> None:
    """Take the least costs that the libraries allow."""
    secrets._PASSWORDS = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    sign_in_keys.BITS = 2048
