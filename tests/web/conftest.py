"""What the tests of the API share."""

from __future__ import annotations

from tests.web.office import office

__all__ = ["office"]
