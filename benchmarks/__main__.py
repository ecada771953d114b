"""Runs every benchmark, or those that are named: python -m benchmarks [pushing] [deciding]."""

from __future__ import annotations

import argparse

from benchmarks import (
    arriving,
    deciding,
    filtering,
    looking,
    provisioning,
    pulling,
    pushing,
    signing_in,
    starting,
)
from dravo.protocols.addresses import allow_loopback

ALL = {
    "pushing": pushing.run,
    "filtering": filtering.run,
    "provisioning": provisioning.run,
    "deciding": deciding.run,
    "looking": looking.run,
    "pulling": pulling.run,
    "signing_in": signing_in.run,
    "arriving": arriving.run,
    "starting": starting.run,
}

if __name__ == "__main__":
    reader = argparse.ArgumentParser(
        prog="python -m benchmarks",
        description="Measure speed, each against a bare baseline of the same run.",
    )
    reader.add_argument(
        "names", nargs="*", metavar="NAME", help=f"what to measure, everything if not said: {', '.join(ALL)}"
    )
    names = reader.parse_args().names
    if unknown := [name for name in names if name not in ALL]:
        reader.error(f"there is no benchmark '{unknown[0]}'; there are: {', '.join(ALL)}")
    # What is measured runs on this machine.
    allow_loopback()
    for name in names or ALL:
        ALL[name]()
