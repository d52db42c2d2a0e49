"""How a package ended on machines: from the runner's own logs, and from tables of other systems.

A log of the runner is ``COMPUTER/install.jsonl``, or ``COMPUTER.jsonl``, as it is gathered by hand: the log itself does
not name its machine. A table has the columns computer, package, version and code, and if it tells them ended, seconds,
site and id.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime
from pathlib import Path

import msgspec

from yendo.errors import Unreadable
from yendo.fleet.incoming import named_rows
from yendo.fleet.store import FleetOutcome
from yendo.package.manifest import EXIT_CODES
from yendo.platforms.windows.exit_codes import DONE
from yendo.terms import events
from yendo.walk import bytes_in

_VERBS = ("install", "repair", "uninstall")


def outcomes_of(paths: Iterable[Path], sites: Mapping[str, str] = {}) -> list[FleetOutcome]:
    """The outcomes of files, and of logs below folders; ``sites`` by the names of computers in small letters.

    Raises Unreadable.
    """
    found: list[FleetOutcome] = []
    for path in paths:
        if path.is_dir():
            for log in sorted(path.rglob("*.jsonl")):
                found += _of_log(log, sites)
        elif path.suffix.lower() == ".jsonl":
            found += _of_log(path, sites)
        else:
            found += _of_table(path, sites)
    return found


def cause_of(code: int, step: str = "") -> str:
    """Why it failed, in words: the runner's own meaning of its code, or the installer's code."""
    known = EXIT_CODES.get(code)
    return known.meaning if known else f"{step}exit code {code}"


def _of_log(path: Path, sites: Mapping[str, str]) -> Iterator[FleetOutcome]:
    """The runs of one log: each begins with its package, and ends with a code."""
    computer = path.parent.name if path.stem in _VERBS else path.stem
    begun: events.RunBegan | None = None
    times: list[str] = []
    step = ""
    for line in _lines(bytes_in(path)):
        event = line[1]
        if isinstance(event, events.RunBegan):
            begun, times, step = event, [line[0]], ""
        elif isinstance(event, events.StepEndedBadly | events.StepFailed):
            step = f"step {event.number}, "
        if begun is None:
            continue
        times.append(line[0])
        ended = _code(event)
        if ended is not None:
            yield _outcome(begun, computer, ended, times, step, sites)
            begun = None


def _lines(data: bytes) -> Iterator[tuple[str, events.Event]]:
    for raw in data.splitlines():
        told = events.read(raw)
        if told:
            yield str(msgspec.json.decode(raw).get("time", "")), told[0]


def _code(event: events.Event) -> int | None:
    """The code with which a run is over; None where it goes on."""
    if isinstance(event, events.RunEnded | events.StepEndedBadly):
        return event.code
    if isinstance(event, events.NotDetected):
        return 30
    if isinstance(event, events.RunStopped | events.StepFailed):
        return 23
    return None


def _outcome(
    begun: events.RunBegan, computer: str, code: int, times: list[str], step: str, sites: Mapping[str, str]
) -> FleetOutcome:
    failed = failed_by(code)
    text = "|".join((computer.lower(), begun.package, begun.version, begun.verb, times[0]))
    return FleetOutcome(
        id=hashlib.sha256(text.encode()).hexdigest()[:32], package=begun.package, version=begun.version,
        computer=computer, site=sites.get(computer.lower(), ""), ended=times[-1], failed=failed,
        cause=cause_of(code, step) if failed else "", seconds=between(times[0], times[-1]),
    )  # fmt: skip


def failed_by(code: int) -> bool:
    """Whether a run with this exit code has failed."""
    known = EXIT_CODES.get(code)
    return known.outcome == "failure" if known else code not in DONE


def between(first: str, last: str) -> float:
    """The seconds from one time to another; 0 where one of them is none."""
    try:
        return max((datetime.fromisoformat(last) - datetime.fromisoformat(first)).total_seconds(), 0.0)
    except ValueError:
        return 0.0


def _of_table(path: Path, sites: Mapping[str, str]) -> Iterator[FleetOutcome]:
    for number, given in enumerate(named_rows(path), 2):
        if missing := [name for name in ("computer", "package", "version", "code") if not given.get(name)]:
            raise Unreadable(f"{path.name}, row {number}: nothing in the column {missing[0]}")
        try:
            code, took = int(given["code"]), float(given.get("seconds") or 0)
        except ValueError as error:
            raise Unreadable(f"{path.name}, row {number}: {error}") from error
        text = "|".join((given["computer"].lower(), given["package"], given["version"], given.get("ended", "")))
        yield FleetOutcome(
            id=given.get("id") or hashlib.sha256(text.encode()).hexdigest()[:32], package=given["package"],
            version=given["version"], computer=given["computer"], ended=given.get("ended", ""),
            site=given.get("site") or sites.get(given["computer"].lower(), ""), failed=failed_by(code),
            cause=cause_of(code) if failed_by(code) else "", seconds=took,
        )  # fmt: skip
