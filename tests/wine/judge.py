"""Predicted effects against observed ones, case by case: ``python tests/wine/judge.py [--all] [NAME ...]``.

A case is one or more command lines on a fresh machine. They are carried out by the layer's own
Windows Installer and by the simulated one, which starts from the same state; what is compared is
the state in the end. A third of the installers are made by the layer's own ``winemsibuilder``; with
``--all`` each by both writers, and plain cases as the system account as well.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[1]))

import msgspec
from cases import CASES, Case, Scene
from specimens import builder

from yendo.effects import agreement, difference
from yendo.machines.simulated.machine import SimulatedSession
from yendo.machines.wine import quirks
from yendo.prove.comparison import without_contents


class Judged(msgspec.Struct):
    """``apart`` counts differences of the layer by their reason, ``left`` what a removal left behind."""

    name: str
    writer: str
    account: str
    codes: list[tuple[int | None, int | None]]
    matched: int
    missed: list[str]
    false: list[str]
    apart: dict[str, int]
    left: list[str]

    @property
    def agrees(self) -> bool:
        return (
            not self.missed
            and not self.false
            and all(real == ours or (ours, real) in quirks.EXIT_CODES for real, ours in self.codes)
        )


def judge(machine: Any, case: Case, folder: Path, *, real_writer: bool, account: str = "user") -> Judged:
    """Carries a case out on both, and then removes what it installed on the real one."""
    with machine.fresh(account) as session:
        scene = Scene(folder, builder(session, folder) if real_writer else None)
        lines = case.make(scene)
        session.bring(folder, r"C:\Hand over")
        before = machine.baseline(account)
        start = session.state()
        assert not difference(before, start), [str(effect) for effect in difference(before, start)][:5]
        ours = SimulatedSession(session.surroundings, before.copy())
        ours.bring(folder, r"C:\Hand over")
        codes = []
        for line in lines:
            theirs = session.run(line, timeout=120).exit_code
            codes.append((theirs, ours.run(line, timeout=10).exit_code))
        after = session.state()
        predicted, apart = quirks.adapt(ours.net_effects(before))
        observed = without_contents(difference(before, after), predicted)
        found = agreement(predicted, observed)
        left = []
        if case.removed:
            session.run(case.removed, timeout=120)
            left = [str(effect) for effect in difference(before, session.state())]
    return Judged(
        case.name, "winemsibuilder" if real_writer else "ours", account, codes, len(found.matched),
        [f"{effect} {effect.thing}" for effect in found.missed], [f"{effect} {effect.thing}" for effect in found.false], apart, left,
    )  # fmt: skip


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--all", action="store_true", help="every case by both writers, plain ones for both accounts")
    parser.add_argument("--left", action="store_true", help="show what a removal left behind")
    parser.add_argument("names", nargs="*")
    options = parser.parse_args()
    from yendo.machines.wine.machine import WineMachine, powershell_source

    machine = WineMachine(Path(os.environ.get("YENDO_CACHE") or tempfile.gettempdir()) / "", powershell_source())
    results: list[Judged] = []
    for at, case in enumerate(CASES):
        if options.names and case.name not in options.names:
            continue
        for real_writer in (False, True) if options.all else (at % 3 == 1,):
            for account in ("user", "system") if options.all and case.plain else ("user",):
                with tempfile.TemporaryDirectory() as folder:
                    result = judge(machine, case, Path(folder), real_writer=real_writer, account=account)
                results.append(result)
                print(
                    f"{case.name:34} {result.writer:15} {account:7} codes {result.codes} matched {result.matched:3} "
                    f"missed {len(result.missed)} false {len(result.false)} apart {sum(result.apart.values())} left {len(result.left)}",
                    flush=True,
                )
                for title, lines in (
                    ("missed", result.missed),
                    ("false", result.false),
                    ("left", result.left if options.left else []),
                ):
                    for line in lines[:12]:
                        print(f"    {title}: {line[:260]}")
    by_themselves = [(result, case) for result in results for case in CASES if case.name == result.name and case.apart]
    results = [result for result in results if result not in [known for known, _ in by_themselves]]
    matched, missed, false = (
        sum(found) for found in zip(*((r.matched, len(r.missed), len(r.false)) for r in results), strict=True)
    )
    codes = sum(
        real != ours and (ours, real) not in quirks.EXIT_CODES for result in results for real, ours in result.codes
    )
    apart: dict[str, int] = {}
    for result in results:
        for reason in result.apart:
            apart[reason] = apart.get(reason, 0) + 1
    print(
        f"{len(results)} cases: recall {matched / (matched + missed):.3f}, precision {matched / (matched + false):.3f} over {matched + missed} observed "
        f"effects, {codes} exit codes differ"
    )
    lacking = sum(any(reason in quirks.LACKING for reason in result.apart) for result in results) + len(by_themselves)
    print(f"in {lacking} of {len(results) + len(by_themselves)} cases the layer lacks what the case is about")
    print("counted apart, in so many cases:")
    for result, case in by_themselves:
        print(f"    1  {case.name}: {case.apart} ({len(result.missed)} missed, {len(result.false)} false)")
    for reason, count in sorted(apart.items(), key=lambda pair: -pair[1]):
        print(f"  {count:3}  {reason}")
    return 0 if missed + false + codes == 0 else 1


if __name__ == "__main__":
    raise SystemExit(main())
