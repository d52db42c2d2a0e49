"""What a kit brings back, judged against the same package proved directly on the layer: verdict, effects, detection.

``python tests/kits.py [NAME ...]``: the demo's package and ten others, as the system account, and the demo's upgrade
from the version before. Needs the layer and PowerShell.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from first_drafts import made as installer
from test_kit import played

from yendo.cli.machines import make
from yendo.demo import vendor
from yendo.draft import draft
from yendo.package import build
from yendo.plan import read
from yendo.prove.proof import Phase
from yendo.prove.prove import prove
from yendo.prove.scenarios import SCENARIOS, with_others

NAMES = (
    "demo", "upgrade", "one-file", "registry-kinds", "features", "shortcuts", "service", "ini-file", "folders", "script: ini",
    "script: file-type", "script: variable",
)  # fmt: skip


def _said(phase: Phase) -> tuple[str, str, str]:
    """A phase as both have to say it; how many temporary files the layer had by then is nobody's verdict."""
    return phase.id, phase.outcome, "" if phase.id == "leftovers" else phase.found


def main(names: list[str]) -> int:
    machine = make("wine")
    same = 0
    for name in names or NAMES:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            others: tuple[Path, ...] = ()
            if name in ("demo", "upgrade"):
                (folder / "new").mkdir()
                (folder / "old").mkdir()
                setup = vendor.lantern(folder / "new", "6.3.0" if name == "upgrade" else "6.2.1")
                others = (vendor.lantern(folder / "old"),) if name == "upgrade" else ()
            else:
                with machine.fresh() as session:
                    setup = installer(name, folder / "from", session)
            draft.from_installer(folder / "w", setup)
            package = build.build(folder / "w", read(folder / "w" / "plan.toml")[0]).folder
            scenario = with_others(others, package)["upgrade:6.2.1"] if others else SCENARIOS["system"]
            by_kit = prove(package, played(package, machine, folder, scenario).machine, scenario=scenario)
            direct = prove(package, machine, scenario=scenario)
            one, other = ([_said(phase) for phase in proof.phases] for proof in (by_kit, direct))
            counts = [
                (len(one.missed), len(one.false), one.matched) for one in (by_kit.comparison, direct.comparison) if one
            ]
            alike = one == other and len(set(counts)) <= 1
            same += alike
            print(
                f"{'same' if alike else 'OTHER'}  {name}: {len(one)} phases, {'passed' if direct.passed else 'failed'}"
            )
            for mine, its in zip(one, other, strict=False):
                if mine != its:
                    print(f"      {mine} / {its}")
            sys.stdout.flush()
    print(f"{same} of {len(names or NAMES)} the same")
    return int(same < len(names or NAMES))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
