"""Renews tests/order.py from the durations of a whole run: order_tests.py FILE, which is JUnit's XML."""

from __future__ import annotations

import re
import sys
from collections import Counter
from pathlib import Path
from xml.etree import ElementTree

ORDER = Path(__file__).resolve().parent.parent / "tests" / "order.py"
# Shorter modules run after all of these, in the order of their names.
LEAST_SECONDS = 3.0


def main() -> None:
    """Write the modules that take longest, the longest first."""
    seconds: Counter[str] = Counter()
    for case in ElementTree.parse(sys.argv[1]).iter("testcase"):
        module = re.sub(r"\.[A-Z]\w*$", "", case.get("classname", ""))
        seconds[module.replace(".", "/") + ".py"] += float(case.get("time", 0))
    longest = [name for name, total in seconds.most_common() if total >= LEAST_SECONDS]
    lines = "".join(f'    "{name}",\n' for name in longest)
    text = ORDER.read_text()
    start, end = text.index("LONGEST"), text.index("PLACES")
    ORDER.write_text(f"{text[:start]}LONGEST: tuple[str, ...] = (\n{lines})\n{text[end:]}")
    print(f"{len(longest)} modules take {LEAST_SECONDS:g} s or more.")


if __name__ == "__main__":
    main()
