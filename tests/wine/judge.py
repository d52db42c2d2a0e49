"""Predicted effects against observed ones, installer by installer: ``python tests/wine/judge.py [--all]``.

Half of the specimens are made by our writer, half by the layer's own ``winemsibuilder``; with
``--all`` each is made by both, and proved as a desk user and as the system account.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[1]))

from specimens import Specimen, all_of_them

from yendo.effects import agreement, difference
from yendo.formats.msi import Database
from yendo.installers.msi import commandline, engine
from yendo.machines.wine import quirks
from yendo.prove.prove import _without_contents


def builder(session: Any, folder: Path) -> Any:
    """Runs ``winemsibuilder`` of the layer on files in ``folder``."""

    def run(*arguments: str) -> None:
        where = "Z:" + str(folder).replace("/", "\\")
        ran = session.run("winemsibuilder " + " ".join(arguments), timeout=120, folder=where)
        assert ran.exit_code == 0, ran

    return run


def judge(machine: Any, specimen: Specimen, folder: Path, *, real_writer: bool, account: str = "user") -> dict[str, Any]:
    """One installation and removal on a fresh machine, held against the prediction."""
    with machine.fresh(account) as session:
        package = specimen.theirs(folder, builder(session, folder)) if real_writer else specimen.ours(folder)
        session.bring(folder, r"C:\Hand over")
        before = machine.baseline(account)
        start = session.state()
        assert not difference(before, start), [str(effect) for effect in difference(before, start)][:5]
        target = rf"C:\Hand over\{package.name}"
        ran = session.run(commandline.install(target, properties=specimen.given), timeout=120)
        after = session.state()
        with Database(package) as database:
            outcome = engine.run(database, session.surroundings, before.copy(), {"REBOOT": "ReallySuppress", **specimen.given}, package=target)
        predicted, _ = quirks.adapt(outcome.effects)
        observed = _without_contents(difference(before, after), predicted)
        found = agreement(predicted, observed)
        removed = session.run(commandline.uninstall(target), timeout=120)
        left = [str(effect) for effect in difference(before, session.state())]
    return {
        "name": specimen.name,
        "writer": "winemsibuilder" if real_writer else "ours",
        "account": account,
        "codes": (ran.exit_code, outcome.exit_code, removed.exit_code),
        "matched": len(found.matched),
        "missed": [str(effect) + f" {effect.thing}" for effect in found.missed],
        "false": [str(effect) + f" {effect.thing}" for effect in found.false],
        "left": left,
    }


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--all", action="store_true", help="every specimen by both writers, for both accounts")
    parser.add_argument("names", nargs="*")
    options = parser.parse_args()
    from yendo.machines.wine.machine import WineMachine, powershell_source

    machine = WineMachine(Path(os.environ.get("YENDO_CACHE") or tempfile.gettempdir()) / "", powershell_source())
    results = []
    for at, (name, specimen) in enumerate(all_of_them().items()):
        if options.names and name not in options.names:
            continue
        for real_writer in (False, True) if options.all else (bool(at % 2),):
            for account in ("user", "system") if options.all else ("user",):
                with tempfile.TemporaryDirectory() as folder:
                    result = judge(machine, specimen, Path(folder), real_writer=real_writer, account=account)
                results.append(result)
                print(
                    f"{name:18} {result['writer']:15} {account:7} codes {result['codes']} matched {result['matched']:3} "
                    f"missed {len(result['missed'])} false {len(result['false'])} left {len(result['left'])}"
                )
                for kind in ("missed", "false"):
                    for line in result[kind][:6]:
                        print(f"    {kind}: {line[:220]}")
    matched, missed, false = (
        sum(result["matched"] for result in results),
        sum(len(result["missed"]) for result in results),
        sum(len(result["false"]) for result in results),
    )
    print(
        f"{len(results)} installations: recall {matched / (matched + missed):.3f}, precision {matched / (matched + false):.3f} over {matched + missed} observed effects"
    )
    return 0 if missed + false == 0 else 1


if __name__ == "__main__":
    raise SystemExit(main())
