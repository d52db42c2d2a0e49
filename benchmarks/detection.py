"""Benchmarks of proof and detection."""

from __future__ import annotations

import os
import resource
import sys
import time
from collections.abc import Callable
from pathlib import Path

from benchmarks.measure import Figure
from benchmarks.suite import benchmark

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))


def _demo(folder: Path) -> tuple[Path, list[Path]]:
    """The demo's package, built, and the vendor's other versions."""
    from yendo.demo import story
    from yendo.draft import draft
    from yendo.package import build
    from yendo.plan import read

    installer = story.scene(folder)
    draft.from_installer(folder / "lantern", installer)
    story.edit(folder / "lantern", folder / "site.ini", by_transform=False)
    made = build.build(folder / "lantern", read(folder / "lantern" / "plan.toml")[0]).folder
    return made, [installer.with_name("lantern-6.1.0.msi"), installer.with_name("lantern-6.2.3.msi")]


@benchmark
def scenarios(folder: Path) -> list[Figure]:
    """200 scenarios on the simulated machine over the installs and removals in them; memory of the whole process."""
    from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
    from yendo.package import manifest as form
    from yendo.prove import scenarios as known
    from yendo.prove import stage
    from yendo.prove.prove import matrix

    package, others = _demo(folder)
    spent, inside = [0.0, 0], [0]

    def timed(function: Callable[..., object]) -> Callable[..., object]:
        """An install or removal, by the package or of another version: the outermost call counts."""

        def call(*arguments: object, **options: object) -> object:
            if inside[0]:
                return function(*arguments, **options)
            inside[0] = 1
            begun = time.perf_counter()
            try:
                return function(*arguments, **options)
            finally:
                inside[0] = 0
                spent[0] += time.perf_counter() - begun
                spent[1] += 1

        return call

    some = [
        one
        for one in known.with_others(tuple(others), package).values()
        if one.id != "repair" and not one.calls_for(form.read(package))
    ]
    many = [some[number % len(some)] for number in range(200)]
    matrix(package, [SimulatedMachine()], some, jobs=1, records=False)  # what is imported and read once
    started, run = stage.Stage.started, SimulatedSession.run
    stage.Stage.started, SimulatedSession.run = timed(started), timed(run)  # type: ignore[method-assign,assignment]
    begun = time.perf_counter()
    try:
        cells = matrix(package, [SimulatedMachine()], many, jobs=1, records=False)
    finally:
        stage.Stage.started, SimulatedSession.run = started, run  # type: ignore[method-assign]
    seconds = time.perf_counter() - begun
    assert all(cell.outcome in ("passed", "not executed") for cell in cells), [
        cell.scenario.id for cell in cells if cell.outcome == "failed"
    ]
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return [
        Figure(
            "200 scenarios over the verbs in them",
            seconds / spent[0],
            1.2,
            "x",
            f"{seconds:.1f} s, {spent[1]} installs and removals in {spent[0]:.1f} s",
        ),
        Figure("memory of 200 scenarios", memory, 400, "MB"),
    ]


@benchmark
def scenarios_on_wine(folder: Path) -> list[Figure]:
    """The same scenarios on the API layer, one at a time and two: the time of two over that of one."""
    from yendo.machines.wine.machine import WineMachine, powershell_source
    from yendo.prove.prove import matrix
    from yendo.prove.scenarios import SCENARIOS

    package, _ = _demo(folder)
    machine = WineMachine(Path(os.environ.get("YENDO_CACHE") or folder / "cache"), powershell_source())
    some = [SCENARIOS[name] for name in ("desk", "system", "twice", "media-gone", "odd-path", "twice")]
    matrix(package, [machine], some[:1], records=False)
    seconds = {1: 0.0, 2: 0.0}
    for jobs in (1, 2, 1, 2):
        begun = time.perf_counter()
        cells = matrix(package, [machine], some, jobs=jobs, records=False)
        seconds[jobs] += time.perf_counter() - begun
        assert all(cell.outcome == "passed" for cell in cells), [
            cell.scenario.id for cell in cells if cell.outcome != "passed"
        ]
    return [
        Figure(
            "two at once over one",
            seconds[2] / seconds[1],
            1 / 1.6,
            "x",
            f"{seconds[1]:.1f} s and {seconds[2]:.1f} s: {seconds[1] / seconds[2]:.2f} times as fast",
        )
    ]


@benchmark
def detection_strength(folder: Path) -> list[Figure]:
    """What is not caught on thirty generated packages: by the product alone, and by 1, 3, 5 and 10 derived rules."""
    import generated

    from yendo.detect import for_effects
    from yendo.detect.derive import derive
    from yendo.detect.strength import measure
    from yendo.prove import ground

    scores: dict[str, list[float]] = {}
    confused = false = 0
    slowest = 0.0
    for seed in range(30):
        _, package, others = generated.package(folder / str(seed), seed, updates=seed % 3 == 2)
        made = ground.make(package, others, updates=seed % 3 == 2)
        begun = time.perf_counter()
        found = derive(made.ground, made.environment, enough=1.0)
        slowest = max(slowest, time.perf_counter() - begun)
        rules = [one.rule for one in found.rules]
        confused += len(found.confused)
        false += len(found.strength.false_absent)
        scores.setdefault("the product alone", []).append(
            measure(for_effects(made.ground.effects)[:1], made.ground, made.environment).score
        )
        for count in (1, 3, 5, 10):
            scores.setdefault(f"{count} rules", []).append(measure(rules[:count], made.ground, made.environment).score)
    detail = "; ".join(
        f"{name} {100 * min(some):.0f} to {100 * max(some):.0f} %, mean {100 * sum(some) / len(some):.1f}"
        for name, some in scores.items()
    )
    return [
        Figure("not caught by ten rules, worst of 30", 100 * (1 - min(scores["10 rules"])), 5, "%", detail),
        Figure(
            "states not told apart, or falsely absent", confused + false, 0, "", f"slowest derivation {slowest:.2f} s"
        ),
    ]
