"""Progress of long work.

Made from its OpenAPI document by tools/make_types.py; not edited by hand.
"""

from __future__ import annotations

from typing import TypedDict


class Job(TypedDict):
    """The progress of a job."""

    done: int
    total: int
