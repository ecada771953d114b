"""What the management API gives of what is sent with requests.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class Seen(TypedDict):
    """What was seen in the preview."""

    gained: int
    lost: int
    changed: int
