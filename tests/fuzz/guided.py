"""One target under the coverage-guided fuzzer, in a process of its own: ``guided.py TARGET CORPUS [options of the fuzzer]``."""

import sys
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["yendo"]):
    sys.path.insert(0, str(Path(__file__).parents[1]))
    from fuzz import targets
    from fuzz.__main__ import broken, keep

    name = sys.argv.pop(1)
    targets.TARGETS[name][1]()  # loads what the target needs, instrumented
    for data in targets.TARGETS[name][1]()[:3]:
        broken(name, data)


def one(data: bytes) -> None:
    if why := broken(name, data):
        keep(name, data, why)
        raise AssertionError(why)


atheris.Setup(sys.argv, one)
atheris.Fuzz()
