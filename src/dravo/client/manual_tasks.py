"""Manual tasks: accounts of tracked-only applications that operators manage by hand."""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Iterable, Iterator, Mapping
from typing import cast

from dravo.client import types as t
from dravo.client.pages import Pages
from dravo.client.resource import Noun, part


class ManualTasks(Noun):
    """Accounts to create, change or remove by hand; `key` is the key of the application."""

    def list(
        self, key: str, *, status: str = "open", action: str | None = None, words: str | None = None
    ) -> Pages[t.ManualTask]:
        """List manual tasks.

        Args:
            status: "open", or "done" for completed ones.
            action: only open tasks with this action: "create", "change", "deactivate" or "delete".
            words: a part of the name of the user.
        """
        return self._dravo.pages(_path(key), {"status": status, "action": action, "q": words})

    def export(self, key: str, action: str | None = None) -> Iterator[bytes]:
        """Return the open tasks as CSV, piece by piece."""
        return self._dravo.stream(f"{_path(key)}/export", {"action": action})

    def mark_done(self, key: str, tasks: Iterable[t.ManualTask]) -> int:
        """Mark tasks as done, as `list` returns them; return their number.

        A task whose desired state changed since it was listed is refused with all others.
        """
        body = {"tasks": [{"id": each["id"], "version": each["version"]} for each in tasks]}
        return cast(t.Number, self._call("POST", f"{_path(key)}/done", body=body))["number"]

    def mark_open(self, key: str, task_ids: Iterable[str]) -> int:
        """Open tasks again that were marked as done by mistake; return their number."""
        return cast(t.Number, self._call("POST", f"{_path(key)}/open", body={"tasks": [*task_ids]}))["number"]

    def compare(
        self, key: str, content: bytes, *, columns: Mapping[str, str] | None = None, mark_done: bool = False
    ) -> t.ListComparison:
        """Compare the desired accounts with a CSV export of the application's accounts.

        Args:
            content: the file.
            columns: by "user_name", "email", "roles" and "active" the headings that Dravo would not find.
            mark_done: whether to mark the open tasks as done whose account is in the list as it should be.
        """
        body = {
            "content": b64encode(content).decode(),
            "columns": dict(columns or {}),
            "mark_done": mark_done,
        }
        return cast(t.ListComparison, self._call("POST", f"{_path(key)}/comparison", body=body))


def _path(key: str) -> str:
    return f"/applications/{part(key)}/manual-tasks"
