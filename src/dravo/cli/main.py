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

# The module of each command, in the order of the help.
MODULES = {
    "overview": "overview",
    "flow": "overview",
    "source": "sources.source",
    "sign-in": "sources.sign_in",
    "user": "user",
    "invitation": "invitation",
    "group": "group",
    "application": "applications.application",
    "license-plan": "applications.license_plan",
    "assignment": "access.assignment",
    "mapping": "access.mapping",
    "policy": "access.mapping",
    "access": "access.access",
    "account": "applications.account",
    "review": "access.review",
    "request": "access.request",
    "task": "applications.task",
    "hold": "applications.hold",
    "drift": "applications.drift",
    "activity": "activity",
    "audit": "activity",
    "notification": "notifications.notification",
    "webhook": "notifications.webhook",
    "announcement": "notifications.announcement",
    "mail": "notifications.mail",
    "operator": "operator",
    "token": "token",
    "setting": "setting",
}


def make_parser(command: str | None = None) -> argparse.ArgumentParser:
    """Return the parser of all commands, or of one: it starts sooner, and imports what it needs alone.

    Args:
        command: the name of a command; None, and a name that is none, for all.
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
    if command in MODULES:
        modules = [MODULES[command]]
    else:
        server.add_commands(nouns)
        modules = [] if command in server.COMMANDS else list(dict.fromkeys(MODULES.values()))
    for module in modules:
        importlib.import_module(f"dravo.cli.{module}").add_commands(nouns)
    return parser


def command_of(words: Sequence[str]) -> str | None:
    """Return the command in the words of a command line: the first word that is no option and not the value
    of one.
    """
    is_value = False
    for word in words:
        if not is_value and not word.startswith("-"):
            return word
        # As argparse, which knows options by their beginnings.
        is_value = len(word) > 2 and any(each.startswith(word) for each in ("--url", "--connection"))
    return None


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the command line."""
    words = sys.argv[1:] if arguments is None else arguments
    given = make_parser(command_of(words)).parse_args(words)
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
