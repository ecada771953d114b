"""Password policy: a minimum length, and no password that is easy to guess.

There are no composition rules: they lead to predictable passwords (NIST SP 800-63B, section 5.1.1.2).
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

LONGEST = 200
# Estimated guesses, as a power of ten, below which a password is weak.
WEAK_BELOW = 9
# The estimator takes the longer the longer the text is; what follows makes a password only stronger.
ESTIMATED_CHARACTERS = 72

TOO_SHORT, TOO_LONG, WEAK = "too_short", "too_long", "weak"


@dataclass(frozen=True)
class PasswordProblem:
    """Why a password does not meet the policy.

    Attributes:
        kind: `TOO_SHORT`, `TOO_LONG` or `WEAK`; only a weak one can be confirmed.
    """

    kind: str
    message: str
    hint: str


def check_password(password: str, least: int, own_words: Iterable[str] = ()) -> PasswordProblem | None:
    """Return why a password does not meet the policy, or None.

    Args:
        password: the password.
        least: the minimum number of characters.
        own_words: names of the user and of the organization, which others guess first.
    """
    if len(password) < least:
        return PasswordProblem(
            TOO_SHORT, f"The password has {len(password)} characters.", f"Use at least {least} characters."
        )
    if len(password) > LONGEST:
        return PasswordProblem(
            TOO_LONG, f"The password has {len(password)} characters.", f"Use at most {LONGEST} characters."
        )
    if reason := weakness(password, own_words):
        return PasswordProblem(WEAK, reason, "Use several words that do not belong together.")
    return None


def weakness(password: str, own_words: Iterable[str] = ()) -> str:
    """Return why a password is easy to guess, or "".

    The package zxcvbn has lists of the most common passwords, names and words, and estimates how many guesses
    a password withstands.
    """
    # Imported at its first use: its word lists are large.
    from zxcvbn import zxcvbn

    words = sorted({part for word in own_words for part in [word, *re.split(r"\W+", word)] if len(part) > 2})
    found = zxcvbn(password[:ESTIMATED_CHARACTERS], user_inputs=words, max_length=ESTIMATED_CHARACTERS)
    if float(found["guesses_log10"]) >= WEAK_BELOW:
        return ""
    kinds = {part.get("dictionary_name") or part["pattern"] for part in found["sequence"]}
    if "user_inputs" in kinds:
        return "The password contains your name or the name of the organization."
    if "passwords" in kinds:
        return "The password is a common password, or close to one."
    return "The password is easy to guess."
