"""Access reviews: a part of the matrix, decided row by row until a day."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class Reviews(Noun):
    """Access reviews."""

    def list(self) -> Pages[t.Review]:
        """List reviews, newest first."""
        return self._dravo.pages("/reviews")

    def get(self, review_id: str) -> t.Review:
        """Return one review with its progress."""
        return cast(t.Review, self._call("GET", f"/reviews/{part(review_id)}"))

    def begin(self, label: str, until: str, **part_of_matrix: str | None) -> t.Review:
        """Create a review until a day; `application=`, `role=`, `only=` ("direct only", "highest role") and
        `words=` limit it.
        """
        return cast(
            t.Review, self._call("POST", "/reviews", body={"label": label, "until": until, **part_of_matrix})
        )

    def rows(
        self,
        review_id: str,
        *,
        application: str | None = None,
        decision: str | None = None,
        words: str | None = None,
    ) -> Pages[t.ReviewRow]:
        """List the rows of a review; `decision` is "open", "confirmed" or "removed"."""
        return self._dravo.pages(
            f"/reviews/{part(review_id)}/rows", {"application": application, "decision": decision, "q": words}
        )

    def preview(self, review_id: str, application: str, rows: Sequence[str]) -> t.Preview:
        """Preview the removal of rows of one application."""
        body: dict[str, Any] = {"application": application, "rows": [*rows]}
        return cast(t.Preview, self._call("POST", f"/reviews/{part(review_id)}/preview", body=body))

    def decide(
        self,
        review_id: str,
        application: str,
        rows: Sequence[str],
        decision: str,
        *,
        note: str | None = None,
        confirm: str | None = None,
    ) -> t.Review:
        """Decide rows of one application: "confirmed" or "removed".

        Args:
            confirm: the label of the application; required for a serious change.
        """
        body = {
            "application": application,
            "rows": [*rows],
            "decision": decision,
            "note": note,
            "confirm": confirm,
        }
        return cast(t.Review, self._call("POST", f"/reviews/{part(review_id)}/decide", body=body))

    def close(self, review_id: str) -> t.Review:
        """End a review before its last day."""
        return cast(t.Review, self._call("POST", f"/reviews/{part(review_id)}/close"))

    def export(self, review_id: str, form: str = "csv") -> Iterator[bytes]:
        """Yield a review with all its rows in pieces, as "csv" or "json"."""
        return self._dravo.stream(f"/reviews/{part(review_id)}/export", {"form": form})
