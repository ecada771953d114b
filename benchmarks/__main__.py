"""Run all benchmarks, or the named ones: python -m benchmarks [inbound_scim] [access]."""

from __future__ import annotations

import argparse

from benchmarks import (
    access,
    filters,
    imports,
    inbound_scim,
    just_in_time,
    pages,
    provisioning,
    service_start,
    sign_in,
    source_policies,
)
from dravo.protocols.addresses import allow_loopback

ALL = {
    "inbound_scim": inbound_scim.run,
    "filters": filters.run,
    "provisioning": provisioning.run,
    "access": access.run,
    "pages": pages.run,
    "imports": imports.run,
    "source_policies": source_policies.run,
    "sign_in": sign_in.run,
    "just_in_time": just_in_time.run,
    "service_start": service_start.run,
}

if __name__ == "__main__":
    reader = argparse.ArgumentParser(
        prog="python -m benchmarks",
        description="Measure speed, each against a bare baseline of the same run.",
    )
    reader.add_argument(
        "names", nargs="*", metavar="NAME", help=f"benchmark to run (default: all): {', '.join(ALL)}"
    )
    names = reader.parse_args().names
    if unknown := [name for name in names if name not in ALL]:
        reader.error(f"There is no benchmark '{unknown[0]}'. Available: {', '.join(ALL)}.")
    # Directories and applications of the benchmarks run on loopback addresses.
    allow_loopback()
    for name in names or ALL:
        ALL[name]()
