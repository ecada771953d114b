"""The entry of `dravo`."""

from __future__ import annotations

import argparse
import importlib
import sys
from collections.abc import Sequence

from dravo import __version__
from dravo.cli import server
from dravo.cli.errors import FAILED, WRONG_USE, fail
from dravo.core.errors import DravoError

# In the order of the help.
NOUNS = (
    "overview",
    "sources.source",
    "sources.sign_in",
    "user",
    "group",
    "applications.application",
    "applications.license_plan",
    "access.assignment",
    "access.mapping",
    "access.access",
    "applications.account",
    "access.review",
    "access.request",
    "applications.task",
    "applications.hold",
    "applications.drift",
    "activity",
    "mail",
    "operator",
    "token",
    "setting",
)


def make_parser(*, only_local: bool = False) -> argparse.ArgumentParser:
    """Return the parser of all commands, or of those alone that need no client and start without importing
    it.
    """
    parser = argparse.ArgumentParser(
        prog="dravo",
        description="Provisions users and groups into applications, and explains who has which access.",
        epilog="Set the service address with --url or DRAVO_URL and the API token with DRAVO_TOKEN, or "
        "both with --connection or DRAVO_CONNECTION.\n"
        "Exit codes: 0 done, 1 failed, 2 wrong usage or input, 3 not found, 4 not permitted, 5 no response.",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"dravo {__version__}")
    parser.add_argument("--url", help="URL of the service (default http://127.0.0.1:8420)")
    parser.add_argument("--connection", metavar="FILE", help="JSON file with url and api_token")
    parser.set_defaults(run=None, shown=parser)
    nouns = parser.add_subparsers(metavar="COMMAND", title="commands")
    server.add_commands(nouns)
    for noun in () if only_local else NOUNS:
        importlib.import_module(f"dravo.cli.{noun}").add_commands(nouns)
    return parser


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the command line."""
    words = sys.argv[1:] if arguments is None else arguments
    given = make_parser(only_local=bool(words) and words[0] in server.COMMANDS).parse_args(words)
    if hasattr(given, "run_here"):
        try:
            sys.exit(given.run_here(given) or 0)
        except DravoError as wrong:
            sys.exit(fail(wrong.message, wrong.hint, FAILED))
        except KeyboardInterrupt:
            sys.exit(130)
    if given.run is None:
        given.shown.print_help()
        sys.exit(WRONG_USE)
    from dravo.cli import output

    try:
        sys.exit(output.run(given))
    except BrokenPipeError:
        # The reader closed the pipe, as `head` does.
        sys.stderr.close()
        sys.exit(0)
    except KeyboardInterrupt:
        sys.exit(130)


if __name__ == "__main__":
    main()
