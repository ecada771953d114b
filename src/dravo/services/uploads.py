"""Files that a request carries in base64, so that their bytes arrive as they are."""

from __future__ import annotations

import base64
import binascii

from dravo.core.errors import InvalidInput


def file_content(text: str, field: str) -> bytes:
    """Return the bytes of a file in base64 (RFC 4648, section 4); a data URL is accepted.

    Args:
        text: the file.
        field: the name of the field that carries it.

    Raises:
        InvalidInput.
    """
    encoded = text.rpartition(",")[2] if text.startswith("data:") else text
    try:
        return base64.b64decode(encoded, validate=True)
    except (binascii.Error, ValueError):
        raise InvalidInput("The file is not base64.", "Encode the file with base64.", field) from None
