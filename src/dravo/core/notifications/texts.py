"""Texts of emails: what the organization writes around a message, with placeholders.

A placeholder is a name in braces. Nothing else in a text has a meaning.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass

from dravo.core.errors import InvalidInput, did_you_mean

_PLACEHOLDER = re.compile(r"\{([a-z_]+)\}")
_CONTROL = re.compile(r"[\x00-\x1f\x7f\u0085\u2028\u2029]+")
LONGEST_LINE, LONGEST_TEXT, LONGEST_SUBJECT = 200, 2_000, 250


@dataclass(frozen=True)
class MailText:
    """What stands around the content of an email: subject, greeting above, footer below."""

    subject: str
    greeting: str
    footer: str


def filled(text: str, values: Mapping[str, str]) -> str:
    """Return a text with the values of its placeholders; a value is not read for placeholders again."""
    return _PLACEHOLDER.sub(lambda found: values.get(found[1], found[0]), text)


def composed(text: MailText, content: str, values: Mapping[str, str]) -> tuple[str, str]:
    """Return the subject and the body of an email."""
    parts = (filled(text.greeting, values), content.strip(), filled(text.footer, values))
    return one_line(filled(text.subject, values)), "\n\n".join(part.strip() for part in parts if part.strip())


def one_line(text: str) -> str:
    """Return a text as one line without control characters, so that it can be a header (RFC 5322, 2.2)."""
    line = _CONTROL.sub(" ", text).strip()
    return line if len(line) <= LONGEST_SUBJECT else line[: LONGEST_SUBJECT - 1] + "…"


def check_text(text: MailText, placeholders: Collection[str]) -> None:
    """Check a text that an operator entered.

    Raises:
        InvalidInput: for an empty subject, a text that is too long, or an unknown placeholder.
    """
    if not text.subject.strip():
        raise InvalidInput("The subject is empty.", "Enter a subject.", "subject")
    for field, most in (("subject", LONGEST_LINE), ("greeting", LONGEST_TEXT), ("footer", LONGEST_TEXT)):
        value = getattr(text, field)
        if len(value) > most:
            raise InvalidInput(
                f"The {field} has {len(value):,} characters.", f"Enter at most {most:,} characters.", field
            )
        for name in _PLACEHOLDER.findall(value):
            if name not in placeholders:
                raise InvalidInput(
                    f"There is no placeholder '{{{name}}}'.", did_you_mean(name, placeholders), field
                )
