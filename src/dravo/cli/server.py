"""Commands that work on this machine: `init`, `serve`, `demo`.

They import the service only when they run, so that the commands that talk through the client start quickly.
"""

from __future__ import annotations

import argparse
import getpass
import os
import sys
from pathlib import Path
from typing import Any

COMMANDS = ("init", "serve", "demo")


def add_commands(nouns: Any) -> None:
    """Add the commands."""
    init = nouns.add_parser(
        "init",
        help="create a data folder with the first operator",
        description="Create a data folder with a super administrator.",
    )
    _data(init)
    init.add_argument(
        "--operator", required=True, metavar="NAME", help="sign-in name of the super administrator"
    )
    init.add_argument(
        "--ask-password", action="store_true", help="ask for the password instead of generating one"
    )
    init.set_defaults(run_here=_init)

    serving = nouns.add_parser(
        "serve",
        help="run the service",
        description="Run the service: a web and a worker process on one data folder.",
    )
    _data(serving)
    serving.add_argument(
        "--host", default="127.0.0.1", metavar="H", help="address to listen on (default 127.0.0.1)"
    )
    serving.add_argument(
        "--port", type=int, default=8420, metavar="N", help="port to listen on (default 8420)"
    )
    serving.add_argument(
        "--public-url",
        metavar="URL",
        help="public URL of the service, such as https://HOST; used in all links (default: the "
        "listening address)",
    )
    serving.add_argument(
        "--proxy",
        metavar="ADDRESS",
        help="IP address of the proxy, such as 127.0.0.1; Dravo trusts its X-Forwarded-For header "
        "(default: none)",
    )
    serving.add_argument(
        "--allow-loopback",
        action="store_true",
        help="allow connections to applications, directories and email servers on this machine (default: no)",
    )
    serving.set_defaults(run_here=_serve)

    demo = nouns.add_parser(
        "demo",
        help="run the service with demo data and stand-ins",
        description="Run the service with demo data and stand-ins for identity providers and applications.",
    )
    demo.add_argument(
        "--data", type=Path, default=Path("var/demo"), metavar="DIR", help="data folder (default var/demo)"
    )
    demo.add_argument(
        "--port", type=int, default=8420, metavar="N", help="port to listen on (default 8420; 0: any)"
    )
    demo.add_argument(
        "--ready-file",
        type=Path,
        metavar="FILE",
        help="write URLs and secrets to this file (0600) when the demo is ready",
    )
    demo.set_defaults(run_here=_demo)


def _data(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--data", type=Path, default=Path("var"), metavar="DIR", help="data folder (default ./var)"
    )


def _serve(given: argparse.Namespace) -> None:
    from dravo.supervisor import serve

    serve(
        given.data, given.host, given.port, given.public_url, given.proxy, allow_loopback=given.allow_loopback
    )


def _demo(given: argparse.Namespace) -> None:
    from dravo.demo.runner import run_demo

    run_demo(given.data, given.port, given.ready_file)


def _init(given: argparse.Namespace) -> int:
    from dravo.services import settings
    from dravo.services.context import AppContext
    from dravo.services.data_folder import PRIVATE_UMASK
    from dravo.services.security import operators
    from dravo.services.security.operator_kinds import NewOperator
    from dravo.services.security.permissions import SUPER_ADMINISTRATOR
    from dravo.store.pagination import PageRequest
    from dravo.supervisor import folder_lock

    os.umask(PRIVATE_UMASK)

    password = None
    if given.ask_password:
        password = getpass.getpass("Password: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    with folder_lock(given.data):
        ctx = AppContext(given.data)
        new = not operators.list_operators(ctx, PageRequest()).items
        made = operators.add(
            ctx, operators.SYSTEM, NewOperator(given.operator, SUPER_ADMINISTRATOR), password
        )
        if new:
            settings.change(ctx, operators.SYSTEM, "second_factor", True)
        ctx.close()
    print(f"The data folder '{given.data}' is set up. Super administrator: {made.name}")
    if made.password:
        print(f"Password (shown only once): {made.password}")
    if new:
        print("Operators need a second factor. Set it up at your first sign-in (setting 'second_factor').")
    print(f"Next: dravo serve --data {given.data}")
    return 0
