"""Runs the benchmarks that are named, or all, and prints one table."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from benchmarks import detection, living, setups, suite
from benchmarks.measure import Figure

__all__ = ["detection", "living", "setups"]


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
    for name in chosen:
        with tempfile.TemporaryDirectory(prefix="yendo-bench-") as folder:
            print(f"{name} ...", file=sys.stderr)
            figures += suite.BENCHMARKS[name](Path(folder))
    width = max(len(figure.name) for figure in figures)
    for figure in figures:
        print(
            f"{figure.name:{width}}  {figure.value:8.2f} {figure.unit:2}  at most {figure.limit:g}  {'reached' if figure.reached else 'NOT REACHED'}  {figure.detail}"  # noqa: E501
        )
    return 0 if all(figure.reached for figure in figures) else 1


if __name__ == "__main__":
    raise SystemExit(main())
