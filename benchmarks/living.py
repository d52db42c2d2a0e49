"""Packages that live: renewals, the media store under kill, a shelf of workspaces."""

from __future__ import annotations

import hashlib
import json
import os
import random
import shutil
import signal
import statistics
import subprocess
import sys
import time
import tomllib
from pathlib import Path

from benchmarks.measure import Figure
from benchmarks.suite import benchmark

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
PAIRS, KILLS, WORKSPACES, TURNS = 25, 50, 200, 5


@benchmark
def renewals(folder: Path) -> list[Figure]:
    """Generated pairs of versions: edits that are lost, conflicts missed or made up, packages without a conflict that are not proved."""  # noqa: E501
    import renew_pairs
    import test_renew

    from yendo.renew.renew import renew

    wrong, unproved, quiet, listed, edits, seconds = [], [], 0, 0, 0, []
    for seed in range(PAIRS):
        pair = renew_pairs.make(folder / str(seed), seed)
        begun = time.perf_counter()
        found = renew(pair.workspace, pair.new)
        seconds.append(time.perf_counter() - begun)
        edits += len(pair.edits)
        listed += len(found.conflicts)
        wrong += [f"{seed}: {text}" for text in test_renew.judged(pair, found)]
        if not found.conflicts:
            quiet += 1
            unproved += [f"{seed}: {text}" for text in test_renew.proved(pair.workspace)]
    told = f"{edits} edits, {listed} conflicts, {statistics.median(seconds):.2f} s a renewal"
    return [
        Figure(
            f"edits lost, conflicts missed or made up in {PAIRS} pairs", len(wrong), 0, "", "; ".join(wrong[:3]) or told
        ),
        Figure(
            f"phases that fail where nothing conflicts ({quiet} pairs, fresh and over the old one)",
            len(unproved),
            0,
            "",
            "; ".join(unproved[:3]),
        ),
    ]


@benchmark
def store_under_kill(folder: Path) -> list[Figure]:
    """Two writers at a time, killed at random points: files lost, files that are not what their name says."""
    from yendo.store import Store

    chance = random.Random(5)
    share, store = folder / "share", Store(folder / "store")
    share.mkdir()
    wanted = {}
    for number in range(8):
        path = share / f"{number}.bin"
        path.write_bytes(chance.randbytes(6 << 20))
        wanted[hashlib.sha256(path.read_bytes()).hexdigest()] = path
    child = "import sys; from pathlib import Path; from yendo.store import Store; s = Store(Path(sys.argv[1]))\nfor p in sys.argv[2:]: s.add(Path(p))"  # noqa: E501
    lost = half = killed = 0
    there: set[str] = set()
    for _ in range(KILLS // 2):
        pair = [
            subprocess.Popen(
                [sys.executable, "-c", child, str(store.folder), *map(str, chance.sample(list(wanted.values()), 5))]
            )
            for _ in range(2)
        ]
        for one in pair:
            time.sleep(chance.uniform(0.05, 0.3))
            killed += one.poll() is None
            one.send_signal(signal.SIGKILL)
            one.wait()
        verdicts = list(store.verify())
        now = {one.item.sha256 for one in verdicts}
        half += sum(not one.holds for one in verdicts)
        lost += len(there - now)
        there = now
        if len(there) == len(wanted):  # begin again, so that there is something left to write
            shutil.rmtree(store.folder)
            there = set()
    for path in wanted.values():
        store.add(path)
    lost += len(set(wanted) - {one.item.sha256 for one in store.verify() if one.holds})
    return [
        Figure("files lost under kill", lost, 0, "", f"{killed} of {KILLS} writers killed while at work"),
        Figure("half files under kill", half, 0, ""),
    ]


def _shelf(folder: Path) -> Path:
    """Two hundred workspaces of generated products, most built and proved, some only drafted; every tenth shares its things with the one before."""  # noqa: E501
    import generated

    from yendo.draft import draft
    from yendo.machines.simulated.machine import SimulatedMachine
    from yendo.package import build
    from yendo.plan import read
    from yendo.prove.prove import keep, prove
    from yendo.shelf import claims, record

    shelf = folder / "shelf"
    (folder / "share").mkdir()
    for number in range(WORKSPACES):
        place = shelf / f"group{number % 8}" / f"product-{number}"
        seed = number - 1 if number % 10 == 9 else number
        draft.from_installer(place, generated.specimen(seed, "6.2.1").ours(folder / "share"))
        path = place / "plan.toml"
        if seed != number:
            path.write_text(path.read_text("utf-8").replace('id = "', 'id = "again-', 1), "utf-8")
        if number % 10 == 0:
            continue
        plan, _ = read(path)
        built = build.build(place, plan)
        build.record(place, built)
        claims.record(place, plan, built)
        record.checked(place, ())
        if number % 10 > 3:
            keep(prove(built.folder, SimulatedMachine()), built.folder)
    return shelf


@benchmark
def shelf(folder: Path) -> list[Figure]:
    """A listing of 200 workspaces with their conflicts over reading their plans and manifests by the plain libraries; the second over the first."""  # noqa: E501
    from yendo.shelf.shelf import listing, workspaces

    top = _shelf(folder)
    plain, first, second, found = [], [], [], None
    listing(top)
    for turn in range(TURNS):
        begun = time.perf_counter()
        for place in workspaces(top):
            tomllib.loads((place / "plan.toml").read_text("utf-8"))
            for manifest in (place / "package").glob("*/manifest.json"):
                json.loads(manifest.read_bytes())
        plain.append(time.perf_counter() - begun)
        cache = folder / f"cache{turn}"
        begun = time.perf_counter()
        found = listing(top, cache)
        first.append(time.perf_counter() - begun)
        begun = time.perf_counter()
        again = listing(top, cache)
        second.append(time.perf_counter() - begun)
        assert again == found
    assert found is not None
    one = statistics.median(a / b for a, b in zip(first, plain, strict=True))
    two = statistics.median(b / a for a, b in zip(first, second, strict=True))
    told = f"{statistics.median(first):.3f} s against {statistics.median(plain):.3f} s; {len(found.rows)} workspaces, {len(found.conflicts)} conflicts"  # noqa: E501
    return [
        Figure("a shelf listed over its plans and manifests read plainly", one, 1.3, "x", told),
        Figure("the second listing over the first", two, 0.3, "x", f"{statistics.median(second):.3f} s"),
    ]


@benchmark
def renewal_on_wine(folder: Path) -> list[Figure]:
    """The demo from 6.2.1 to 6.3.0 with transform, patch and settings, by one command, proved on the API layer."""
    from yendo.demo import story, vendor
    from yendo.draft import draft

    installer = story.scene(folder)
    draft.from_installer(folder / "lantern", installer, [story.patch_of(installer)])
    story.edit(folder / "lantern", folder / "site.ini")
    plan = folder / "lantern" / "plan.toml"
    text = plan.read_text("utf-8")
    at = text.index('[[install.change]]\nkind = "property"\nname = "AUTOUPDATE"')
    text = text[:at] + text[text.index("[[install.change]]", at + 1) :]  # what 6.3.0 has no use for: the only conflict
    plan.write_text(
        text.replace('value = "Marrowby"', 'value = "{setting.office}"')
        + '\n[settings.office]\nmeaning = "the office"\ndefault = "Marrowby"\n',
        "utf-8",
    )
    new = vendor.lantern(folder / "from-tidewell", "6.3.0")
    yendo = str(Path(sys.executable).with_name("yendo"))
    begun = time.perf_counter()
    done = subprocess.run(
        [yendo, "renew", str(folder / "lantern"), str(new), "--prove", "--machine", "wine"],
        capture_output=True,
        text=True,
        check=False,
        env=os.environ,
    )
    seen = next((line.strip() for line in done.stdout.splitlines() if "observed effects were predicted" in line), "")
    return [
        Figure(
            "exit code of renew --prove on wine", done.returncode, 0, "", f"{time.perf_counter() - begun:.0f} s; {seen}"
        )
    ]
