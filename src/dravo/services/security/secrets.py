"""Secrets: tokens that are shown once and stored as digests, passwords (Argon2id), and encrypted connection
secrets (Fernet).
"""

from __future__ import annotations

import hashlib
import hmac
import os
import secrets
from dataclasses import dataclass
from pathlib import Path

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from cryptography.fernet import Fernet, InvalidToken

from dravo.core.errors import DravoError, InvalidInput
from dravo.core.identity.passwords import check_password

KEY_FILE = "keys"
KEY_VARIABLE = "DRAVO_KEY"
SHORTEST_PASSWORD = 12

_PASSWORDS = PasswordHasher()


class KeyMissing(DravoError):
    """The encryption key of the data folder is missing, or is a different one."""

    code = "key_missing"
    status = 500


@dataclass(frozen=True)
class NewToken:
    """A new token: its text, which is shown once, the prefix by which operators recognize it, and the stored
    digest.
    """

    text: str
    prefix: str
    hash: str


def new_token(kind: str) -> NewToken:
    """Return a new random token; its prefix names the kind ("push", "api"), so that a leaked token is
    recognized.
    """
    prefix = secrets.token_hex(3)
    text = f"dravo_{kind}_{prefix}_{secrets.token_urlsafe(32)}"
    return NewToken(text, prefix, digest(text))


def digest(token: str) -> str:
    """Return the stored digest of a token. A token has 256 random bits, so one pass of SHA-256 is enough."""
    return hashlib.sha256(token.encode("utf-8", "surrogateescape")).hexdigest()


def csrf_token(session_secret: str) -> str:
    """Return the CSRF token of a session; it follows from the session's secret, so that it is stored
    nowhere.
    """
    return digest(f"csrf {session_secret}")[:40]


def made_password() -> str:
    """Return a generated password."""
    return "-".join(secrets.token_hex(2) for _ in range(4))


def hash_password(password: str, *own_words: str) -> str:
    """Return the stored hash of a password that an operator chose.

    Args:
        own_words: names of the operator, which others guess first.

    Raises:
        InvalidInput: for a password that is too short, or easy to guess.
    """
    problem = check_password(password, SHORTEST_PASSWORD, own_words)
    if problem is not None:
        raise InvalidInput(problem.message, problem.hint, "password")
    return digest_password(password)


def digest_password(password: str) -> str:
    """Return the stored hash of a password that is generated, or meets the policy."""
    return _PASSWORDS.hash(password)


def password_fits(kept: str, password: str) -> bool:
    """Check a password against a stored hash."""
    try:
        return _PASSWORDS.verify(kept, password)
    except (VerificationError, InvalidHashError):
        return False


class Keys:
    """The installation's key, from the environment or a file that only its owner can read."""

    def __init__(self, folder: Path, *, new: bool = False) -> None:
        """Read the encryption key.

        Args:
            new: create a key if there is none; for a new installation.

        Raises:
            KeyMissing: if the key is missing or cannot be read.
        """
        text = os.environ.get(KEY_VARIABLE)
        if not text:
            file = folder / KEY_FILE
            if not file.exists() and not new:
                # With another key, stored secrets could not be read, and the audit log could not be verified.
                raise KeyMissing(
                    f"The folder '{folder}' has a database but no key.",
                    f"Restore the file '{KEY_FILE}', or set {KEY_VARIABLE}.",
                )
            if not file.exists():
                handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
                with os.fdopen(handle, "w") as opened:
                    opened.write(Fernet.generate_key().decode() + "\n")
            text = file.read_text().strip()
        try:
            self._fernet = Fernet(text)
        except ValueError:
            raise KeyMissing(
                "The key of this installation cannot be read.",
                f"Set {KEY_VARIABLE}, or restore the file '{KEY_FILE}'.",
            ) from None
        self._chain = hashlib.sha256(b"dravo audit chain " + text.encode()).digest()

    def encrypt(self, secret: str) -> str:
        """Return a secret encrypted."""
        return self._fernet.encrypt(secret.encode()).decode()

    def decrypt(self, kept: str) -> str:
        """Return an encrypted secret in plain text.

        Raises:
            KeyMissing: if it was encrypted with another key.
        """
        try:
            return self._fernet.decrypt(kept.encode()).decode()
        except InvalidToken:
            raise KeyMissing(
                "A stored secret was encrypted with another key.",
                f"Restore the former key ({KEY_VARIABLE} or the file '{KEY_FILE}').",
            ) from None

    def seal(self, content: bytes) -> str:
        """Return the HMAC of an entry of the audit log."""
        return hmac.new(self._chain, content, hashlib.sha256).hexdigest()
