"""`dravo review`: access reviews, created, decided row by row, and exported."""

from __future__ import annotations

import argparse
from typing import Any

from dravo.cli.access.assignment import show_preview
from dravo.cli.output import (
    UsageError,
    command,
    list_options,
    moment,
    noun,
    show_json,
    show_list,
    table,
    write_pieces,
)
from dravo.client import Dravo

CONFIRMED, REMOVED = "confirmed", "removed"
AT_ONCE = 500


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    verbs = noun(nouns, "review", "access reviews: who still needs what they have")
    list_options(command(verbs, "list", _list, "list reviews, newest first"))
    _declare_create(verbs)
    _declare_show(verbs)
    _declare_rows(verbs)
    _declare_confirm(verbs)
    _declare_revoke(verbs)
    _declare_close(verbs)
    _declare_export(verbs)


def _declare_create(verbs: Any) -> None:
    parser = command(
        verbs,
        "create",
        _create,
        "create an access review",
        [
            "dravo review create 'Spring review' --until 2031-04-02 --application plant-records",
            "dravo review create 'Highest roles' --until 2031-04-02 --only highest_role",
        ],
    )
    parser.add_argument("label", help="label of the review")
    parser.add_argument("--until", metavar="DAY", required=True, help="due date, such as 2031-04-02")
    parser.add_argument("--application", metavar="KEY", help="key of the application")
    parser.add_argument("--role", metavar="KEY", help="only this role, by key")
    parser.add_argument(
        "--only",
        choices=("direct_only", "highest_role"),
        help="limit the review: direct_only or highest_role (default: all access)",
    )
    parser.add_argument("--words", help="only users with these words in name, user name or email")
    parser.add_argument("--note", help="note, kept in the history")


def _declare_show(verbs: Any) -> None:
    parser = command(verbs, "show", _show, "show the progress of a review by application")
    parser.add_argument("review", help="ID of the review")


def _declare_rows(verbs: Any) -> None:
    parser = command(
        verbs,
        "rows",
        _rows,
        "list the rows of a review",
        ["dravo review rows ID --application plant-records --decision open"],
    )
    parser.add_argument("review", help="ID of the review")
    parser.add_argument("words", nargs="?", help="a part of the user's name")
    parser.add_argument("--application", metavar="KEY", help="key of the application")
    parser.add_argument(
        "--decision",
        choices=("open", CONFIRMED, REMOVED),
        help="only rows with this decision: open, confirmed or removed",
    )
    list_options(parser)


def _declare_confirm(verbs: Any) -> None:
    parser = command(
        verbs,
        "confirm",
        _confirm,
        "confirm rows of one application",
        ["dravo review confirm ID plant-records ROW ROW"],
    )
    parser.add_argument("review", help="ID of the review")
    parser.add_argument("application", help="key of the application")
    parser.add_argument("rows", nargs="*", help="IDs of rows")
    parser.add_argument("--note", help="note, kept in the history")
    parser.add_argument("--all", action="store_true", help="all open rows of the application")


def _declare_revoke(verbs: Any) -> None:
    parser = command(
        verbs,
        "revoke",
        _revoke,
        "remove the access in rows of one application",
        ["dravo review revoke ID plant-records ROW --preview"],
    )
    parser.add_argument("review", help="ID of the review")
    parser.add_argument("application", help="key of the application")
    parser.add_argument("rows", nargs="*", help="IDs of rows")
    parser.add_argument("--note", help="note, kept in the history")
    parser.add_argument("--preview", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--confirm", metavar="LABEL", help="label of the application; required if the change is serious"
    )


def _declare_close(verbs: Any) -> None:
    parser = command(verbs, "close", _close, "end a review before its due date")
    parser.add_argument("review", help="ID of the review")


def _declare_export(verbs: Any) -> None:
    parser = command(
        verbs,
        "export",
        _export,
        "write a review with all its rows to a file",
        ["dravo review export ID spring.csv"],
    )
    parser.add_argument("review", help="ID of the review")
    parser.add_argument("file", help="file to write, .csv or .json; - prints CSV")


_COUNTS = {
    "Rows": lambda r: r["rows"],
    "Open": lambda r: r["open"],
    "Confirmed": lambda r: r["confirmed"],
    "Removed": lambda r: r["removed"],
}
_REVIEW = {
    "Review": lambda r: r["label"],
    "Until": lambda r: r["until_day"] or moment(r["until"]),
    **_COUNTS,
    "Ended (UTC)": lambda r: moment(r["closed_at"]),
    "ID": lambda r: r["id"],
}
_PART = {
    "Application": lambda a: a["application"]["label"],
    "Key": lambda a: a["application"]["key"],
    "Owner": lambda a: a["owner"],
    **_COUNTS,
}


def _list(given: argparse.Namespace, dravo: Dravo) -> None:
    show_list(given, dravo.reviews.list(), _REVIEW, "No reviews.")


def _create(given: argparse.Namespace, dravo: Dravo) -> None:
    part = {name: getattr(given, name) for name in ("application", "role", "only", "words", "note")}
    _show_review(given, dravo.reviews.begin(given.label, given.until, **part))


def _show(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_review(given, dravo.reviews.get(given.review))


def _show_review(given: argparse.Namespace, review: Any) -> None:
    if given.json:
        show_json(review)
        return
    ended = (
        f", ended at {moment(review['closed_at'])} UTC by {review['closed_by']}"
        if review["closed_at"]
        else ""
    )
    print(
        f"{review['label']} ({review['id']}), until {review['until_day'] or moment(review['until'])}{ended}"
    )
    table(_PART, review["applications"])


def _rows(given: argparse.Namespace, dravo: Dravo) -> None:
    columns = {
        "Application": lambda r: r["application"]["label"],
        "User": lambda r: r["user"]["display_name"],
        "Role": lambda r: r["role"]["label"],
        "Since (UTC)": lambda r: moment(r["since"]),
        "Reason": lambda r: "; ".join(r["reasons"]),
        "Decision": lambda r: f"{r['decision']} by {r['decided_by']}" if r["decision"] else None,
        "Result": lambda r: r["outcome"],
        "Row": lambda r: r["id"],
    }
    found = dravo.reviews.rows(
        given.review, application=given.application, decision=given.decision, words=given.words
    )
    show_list(given, found, columns, "No matching rows.")


def _confirm(given: argparse.Namespace, dravo: Dravo) -> None:
    rows = given.rows
    if given.all:
        rows = [
            each["id"]
            for each in dravo.reviews.rows(given.review, application=given.application, decision="open")
        ]
    if not rows:
        raise UsageError("No row given. Add IDs of rows, or --all.")
    review = dravo.reviews.get(given.review)
    for start in range(0, len(rows), AT_ONCE):
        review = dravo.reviews.decide(
            given.review, given.application, rows[start : start + AT_ONCE], CONFIRMED, note=given.note
        )
    _show_review(given, review)


def _revoke(given: argparse.Namespace, dravo: Dravo) -> None:
    if not given.rows:
        raise UsageError("No row given. Add IDs of rows.")
    if given.preview:
        show_preview(given, dravo.reviews.preview(given.review, given.application, given.rows))
        return
    decided = dravo.reviews.decide(
        given.review, given.application, given.rows, REMOVED, note=given.note, confirm=given.confirm
    )
    _show_review(given, decided)


def _close(given: argparse.Namespace, dravo: Dravo) -> None:
    _show_review(given, dravo.reviews.close(given.review))


def _export(given: argparse.Namespace, dravo: Dravo) -> None:
    write_pieces(
        given.file, dravo.reviews.export(given.review, "json" if given.file.endswith(".json") else "csv")
    )
