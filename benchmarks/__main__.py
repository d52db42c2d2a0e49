"""Runs the benchmarks that are named, or all, and prints one table."""

from __future__ import annotations

import sys
import tempfile
import traceback
from pathlib import Path

from benchmarks import (
    delivery,
    detection,
    drivers,
    farm,
    fleet,
    forms,
    large,
    living,
    mac,
    machines,
    serving,
    setups,
    suite,
    windows,
)
from benchmarks.measure import Figure
from yendo.errors import YendoError

__all__ = [
    "delivery",
    "detection",
    "drivers",
    "farm",
    "fleet",
    "forms",
    "large",
    "living",
    "mac",
    "machines",
    "serving",
    "setups",
    "windows",
]


def main() -> int:
    chosen = sys.argv[1:] or list(suite.BENCHMARKS)
    unknown = set(chosen) - suite.BENCHMARKS.keys()
    if unknown:
        print(
            f"no such benchmark: {', '.join(sorted(unknown))}; there are: {', '.join(suite.BENCHMARKS)}",
            file=sys.stderr,
        )
        return 2
    figures: list[Figure] = []
    missing: dict[str, str] = {}
    for name in chosen:
        with tempfile.TemporaryDirectory(prefix="yendo-bench-") as folder:
            print(f"{name} ...", file=sys.stderr)
            try:
                figures += suite.BENCHMARKS[name](Path(folder))
            except Exception as error:  # a part that is missing here takes no other figure with it
                missing[name] = f"{type(error).__name__}: {str(error).splitlines()[0] if str(error) else ''}"
                if not isinstance(error, YendoError | OSError):
                    traceback.print_exc()
    width = max((len(figure.name) for figure in figures), default=0)
    for figure in figures:
        print(
            f"{figure.name:{width}}  {figure.value:8.2f} {figure.unit:2}  at most {figure.limit:g}  {'reached' if figure.reached else 'NOT REACHED'}  {figure.detail}"  # noqa: E501
        )
    for name, why in missing.items():
        print(f"NOT TAKEN: {name}: {why}")
    return 0 if all(figure.reached for figure in figures) and not missing else 1


if __name__ == "__main__":
    raise SystemExit(main())
