"""What all commands share: connecting to the service, printing, and errors."""

from __future__ import annotations

import argparse
import getpass
import json
import os
import sys
from collections.abc import Callable, Iterable, Sequence
from contextlib import nullcontext
from itertools import islice
from pathlib import Path
from typing import Any, TypeAlias

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from dravo.cli.errors import FAILED, NOT_PERMITTED, NOT_THERE, UNREACHABLE, WRONG_USE, fail
from dravo.client import ApiError, Dravo, Pages

Command = Callable[[argparse.Namespace, Dravo], int | None]
MOST_ROWS = 50


# What takes the verbs of a noun.
Verbs: TypeAlias = "argparse._SubParsersAction[argparse.ArgumentParser]"


class UsageError(Exception):
    """The command line is invalid; the text is the hint."""


def command(
    parent: Any, name: str, run: Command, help_text: str, examples: Sequence[str] = (), **settings: Any
) -> argparse.ArgumentParser:
    """Add a command with its help and examples."""
    epilog = "examples:\n" + "\n".join(f"  {line}" for line in examples) if examples else None
    parser: argparse.ArgumentParser = parent.add_parser(
        name,
        help=help_text,
        description=help_text[:1].upper() + help_text[1:] + ".",
        epilog=epilog,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        **settings,
    )
    parser.add_argument("--json", action="store_true", help="print JSON")
    parser.set_defaults(run=run)
    return parser


def noun(subparsers: Any, name: str, help_text: str) -> Verbs:
    """Add a noun; the result takes its verbs."""
    parser = subparsers.add_parser(
        name, help=help_text, description=help_text[:1].upper() + help_text[1:] + "."
    )
    parser.set_defaults(run=None, shown=parser)
    verbs: Verbs = parser.add_subparsers(metavar="VERB", title="verbs")
    return verbs


def read_secret(prompt: str) -> str:
    """Ask for a secret without showing it; without a terminal, read a line from standard input.

    A secret is never an option, because every user of the machine can see command lines.

    Raises:
        UsageError: without a secret.
    """
    try:
        secret = getpass.getpass(prompt) if sys.stdin.isatty() else sys.stdin.readline()
    except EOFError:
        secret = ""
    if not secret.strip():
        raise UsageError("No secret was entered. Type it at the prompt, or send it on standard input.")
    return secret.rstrip("\r\n")


def list_options(parser: argparse.ArgumentParser) -> None:
    """Add the options that every list has."""
    parser.add_argument(
        "--limit",
        type=int,
        default=MOST_ROWS,
        metavar="N",
        help=f"maximum number of rows (default {MOST_ROWS}; 0: all)",
    )


def connect(given: argparse.Namespace) -> Dravo:
    """Return a client by options, environment, or a connection file."""
    url = given.url or os.environ.get("DRAVO_URL")
    token = os.environ.get("DRAVO_TOKEN")
    file = given.connection or os.environ.get("DRAVO_CONNECTION")
    if file:
        try:
            content = json.loads(Path(file).read_text())
            url, token = given.url or content["url"], content["api_token"]
        except (OSError, ValueError, KeyError, TypeError):
            raise UsageError(
                f"'{file}' is not a file with 'url' and 'api_token'. 'dravo demo --ready-file FILE' "
                "writes one."
            ) from None
    if not token:
        raise UsageError(
            "The API token is missing. Set DRAVO_TOKEN, or use --connection FILE. Create a token in "
            "the console, under Settings."
        )
    return Dravo(url or "http://127.0.0.1:8420", token)


def run(given: argparse.Namespace) -> int:
    """Run a command and return its exit code; errors are printed with their hint, never as a traceback."""
    try:
        with connect(given) as dravo, dravo.watched(_show_progress) if sys.stderr.isatty() else nullcontext():
            return given.run(given, dravo) or 0
    except UsageError as wrong:
        return fail(str(wrong), "", WRONG_USE)
    except ApiError as wrong:
        kinds = {
            401: NOT_PERMITTED,
            403: NOT_PERMITTED,
            404: NOT_THERE,
            422: WRONG_USE,
            400: WRONG_USE,
            None: UNREACHABLE,
        }
        return fail(wrong.message, wrong.hint, kinds.get(wrong.status, FAILED))


def _show_progress(done: int, total: int) -> None:
    end = "\n" if done >= total else ""
    print(f"\r{done:,} of {total:,} users processed", end=end, file=sys.stderr, flush=True)


def show_json(value: Any) -> None:
    """Print a value as JSON."""
    print(json.dumps(value, indent=2, ensure_ascii=False))


def show_list(
    given: argparse.Namespace, pages: Pages[Any], columns: dict[str, Callable[[Any], object]], nothing: str
) -> None:
    """Print a list as a table, or as JSON.

    Args:
        columns: for each heading a function that returns the cell of an item.
        nothing: the message for an empty list.
    """
    items = list(pages if given.limit == 0 else islice(pages, given.limit))
    if given.json:
        show_json(items)
        return
    if not items:
        print(nothing)
        return
    table(columns, items)
    if given.limit and len(items) == given.limit:
        total = pages.total()
        if total > len(items):
            print(f"{len(items)} of {total}. --limit 0 prints all.", file=sys.stderr)


# Wider than any table: what is read by programs or kept in files is never folded.
PIPE_WIDTH = 10_000


def table(columns: dict[str, Callable[[Any], object]], items: Iterable[Any]) -> None:
    """Print rows below headings; cells are whole in a pipe, and folded to the width of a terminal."""
    shown = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold")
    for heading in columns:
        shown.add_column(heading, overflow="fold")
    for item in items:
        shown.add_row(*(_cell(cell(item)) for cell in columns.values()))
    screen().print(shown)


def said(value: Any) -> str:
    """Return an attribute's value in words: of elements and parts, their values."""
    if value is None or value == []:
        return "nothing"
    if isinstance(value, list):
        return ", ".join(said(each) for each in value)
    if isinstance(value, dict):
        return str(value["value"]) if "value" in value else " ".join(said(each) for each in value.values())
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def _cell(value: object) -> Text:
    # As it is: a plain string would be read as markup, where "[red]" is a color and ":CD:" a picture.
    return Text("-" if value is None or value == "" else str(value))


def facts(pairs: dict[str, object]) -> None:
    """Print names and values, one a line."""
    width = max(len(name) for name in pairs)
    for name, value in pairs.items():
        print(f"{name:<{width}}  {'-' if value in (None, '') else value}")


def screen() -> Console:
    """Return where tables are printed: as wide as the terminal (or COLUMNS), or wide enough for whole cells
    in a pipe.
    """
    return (
        Console(highlight=False)
        if sys.stdout.isatty()
        else Console(width=int(os.environ.get("COLUMNS") or PIPE_WIDTH), highlight=False)
    )


def show_passwords(passwords: Iterable[tuple[str, str]]) -> None:
    """Print user names with their one-time passwords, as a list to hand out."""
    columns: dict[str, Callable[[Any], object]] = {
        "User name": lambda each: each[0],
        "One-time password": lambda each: each[1],
    }
    table(columns, passwords)
    print("Store them now: Dravo does not show them again.")


def moment(text: str | None, *, seconds: bool = False) -> str:
    """Return an instant as users read it."""
    return f"{text[:10]} {text[11 : 19 if seconds else 16]}" if text else "-"


def show_steps(steps: Iterable[Any]) -> None:
    """Print the steps of a check: outcome, name, message, and the hint below."""
    for step in steps:
        print(f"{step['outcome']:<9} {step['name']:<22} {step['message']}")
        if step["hint"]:
            print(f"{'':<32} {step['hint']}")


def read_json(file: str) -> Any:
    """Return the content of a JSON file; "-" is standard input.

    Raises:
        UsageError: if it cannot be read.
    """
    try:
        return json.loads(read_text(file))
    except ValueError as wrong:
        raise UsageError(f"'{file}' cannot be read as JSON: {wrong}.") from None


def read_bytes(file: Path) -> bytes:
    """Return the content of a file; "-" is standard input.

    Raises:
        UsageError: if it cannot be read.
    """
    try:
        return sys.stdin.buffer.read() if str(file) == "-" else file.read_bytes()
    except OSError as wrong:
        raise UsageError(f"'{file}' cannot be read: {wrong.strerror or wrong}.") from None


def read_text(file: str) -> str:
    """Return the content of a text file; "-" is standard input.

    Raises:
        UsageError: if it cannot be read.
    """
    try:
        return sys.stdin.read() if file == "-" else Path(file).read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as wrong:
        raise UsageError(f"'{file}' cannot be read: {wrong}.") from None


def write_pieces(file: str, pieces: Iterable[bytes]) -> None:
    """Write pieces to a file; "-" prints them.

    Raises:
        UsageError: if the file cannot be written.
    """
    if file == "-":
        for piece in pieces:
            sys.stdout.buffer.write(piece)
        return
    try:
        with Path(file).open("wb") as written:
            size = sum(written.write(piece) for piece in pieces)
    except OSError as wrong:
        raise UsageError(f"'{file}' cannot be written: {wrong}.") from None
    print(f"Wrote {size:,} bytes to {file}.")


def counted(number: int, one: str, many: str) -> str:
    """Return a number with its noun."""
    return f"{number:,} {one if number == 1 else many}"
