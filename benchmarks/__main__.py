"""Runs every benchmark, or those that are named: python -m benchmarks [pushing] [deciding]."""

from __future__ import annotations

import sys

from benchmarks import arriving, deciding, delivering, filtering, looking, pulling, pushing, signing_in

ALL = {
    "pushing": pushing.run,
    "filtering": filtering.run,
    "delivering": delivering.run,
    "deciding": deciding.run,
    "looking": looking.run,
    "pulling": pulling.run,
    "signing_in": signing_in.run,
    "arriving": arriving.run,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or ALL:
        ALL[name]()
