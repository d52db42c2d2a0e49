"""The benchmarks, one function each; every one makes its own material."""

from __future__ import annotations

import os
import random
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from benchmarks.measure import YENDO, Figure, in_turn, process, shell
from yendo.demo.vendor import SEQUENCE, guid
from yendo.formats import cfb
from yendo.formats.msi import DatabaseWriter, Summary
from yendo.formats.msi.schema import columns

BENCHMARKS: dict[str, Callable[[Path], list[Figure]]] = {}
MB = 1_000_000


def benchmark(function: Callable[[Path], list[Figure]]) -> Callable[[Path], list[Figure]]:
    BENCHMARKS[function.__name__] = function
    return function


def noise(size: int, piece: int = 4 << 20) -> Iterator[bytes]:
    """Bytes that do not compress, the same every time."""
    chance = random.Random(size)
    block = chance.randbytes(piece)
    while size > 0:
        yield block[: min(size, piece)]
        size -= piece


def installer(path: Path, files: int, cabinet: int, *, sector_size: int = 512) -> Path:
    """An installer of ``files`` files with an embedded cabinet of ``cabinet`` bytes that is never unpacked."""
    writer = DatabaseWriter(summary=Summary(template="x64;1033", revision=guid(path.name), pages=200, words=2))
    rows = {
        "Property": [("ProductCode", guid("bench")), ("ProductName", "Bench"), ("ProductVersion", "1.0"), ("ProductLanguage", "1033"), ("ALLUSERS", "1"),  # noqa: E501
                     ("UpgradeCode", guid("bench line")), ("Manufacturer", "Tidewell")],
        "Directory": [("TARGETDIR", None, "SourceDir"), ("ProgramFiles64Folder", "TARGETDIR", "."), ("INSTALLDIR", "ProgramFiles64Folder", "Bench"),  # noqa: E501
                      *((f"D{at}", "INSTALLDIR", f"d{at}") for at in range(files // 100))],
        "Feature": [("Main", None, "Main", None, 1, 1, None, 0)],
        "Component": [(f"C{at}", guid(f"c{at}"), f"D{at // 100}" if files >= 100 else "INSTALLDIR", 256, None, f"F{at}") for at in range(files)],  # noqa: E501
        "FeatureComponents": [("Main", f"C{at}") for at in range(files)],
        "File": [(f"F{at}", f"C{at}", f"FILE{at % 100000}.DAT|file number {at}.dat", at, None, None, 512, at + 1) for at in range(files)],  # noqa: E501
        "Media": [(1, files, None, "#bench.cab", None, None)],
        "InstallExecuteSequence": SEQUENCE,
    }  # fmt: skip
    for name, cells in rows.items():
        writer.table(name, columns(name), cells)
    writer.stream("bench.cab", cfb.ByteSource(cabinet, lambda: noise(cabinet)))
    with path.open("wb") as file:
        writer.write(file, sector_size=sector_size)
    return path


@benchmark
def help_page(folder: Path) -> list[Figure]:
    ratio, _, detail = in_turn(
        lambda: process([YENDO, "--help"]), lambda: process([sys.executable, "-c", "import argparse"]), 21, 3
    )
    return [Figure("yendo --help against importing argparse", ratio, 2.5, detail=detail)]


@benchmark
def large_read(folder: Path) -> list[Figure]:
    figures = []
    for sector_size in (512, 4096):
        big, small = (
            installer(folder / "big.msi", 500, 1000 * MB, sector_size=sector_size),
            installer(folder / "small.msi", 500, MB, sector_size=sector_size),
        )
        ratio, memory, detail = in_turn(
            lambda big=big: process([YENDO, "read", str(big)]),
            lambda small=small: process([YENDO, "read", str(small)]),
            9,
            2,
        )
        figures += [Figure(f"read of 1 GB against 1 MB of cabinets, {sector_size}-byte sectors", ratio, 1.2, detail=detail),  # noqa: E501
                    Figure("    its peak memory", memory, 120, "MB")]  # fmt: skip
    return figures


def _workspace(folder: Path, size: int) -> Path:
    import hashlib

    media = folder / "w" / "media"
    media.mkdir(parents=True)
    digest = hashlib.sha256()
    with (media / "vendor.bin").open("wb") as file:
        for piece in noise(size):
            file.write(piece)
            digest.update(piece)
    (folder / "w" / "plan.toml").write_text(
        f'[package]\nid = "bench"\nname = "Bench"\nversion = "1"\n\n[[media]]\nfile = "vendor.bin"\nsha256 = "{digest.hexdigest()}"\n\n'  # noqa: E501
        '[[install]]\nkind = "msi"\ncommand = "msiexec /i x /qn"\n', "utf-8")  # fmt: skip
    return folder / "w"


@benchmark
def large_build(folder: Path) -> list[Figure]:
    work = _workspace(folder, 2000 * MB)
    source, copy, archive = work / "media" / "vendor.bin", folder / "copy.bin", folder / "archive.bin"

    def build(*more: str) -> tuple[float, float]:
        shell(f"rm -rf {work}/package; sync")
        return process([YENDO, "build", str(work), "-q", *more])

    def by_hand(command: str) -> tuple[float, float]:
        shell(f"rm -f {copy} {archive}; sync")
        return shell(command)

    plain, memory, detail = in_turn(build, lambda: by_hand(f"cp {source} {copy} && sha256sum {copy}"), 5)
    packed, more_memory, more = in_turn(
        lambda: build("--archive"), lambda: by_hand(f"cp {source} {copy} && sha256sum {copy} && cp {copy} {archive}"), 5
    )
    small_folder = folder / "small"
    small_folder.mkdir()
    small = _workspace(small_folder, 50 * MB)
    _, little = process([YENDO, "build", str(small), "-q", "--archive"])
    return [Figure("build of 2 GB against cp and sha256sum", plain, 0.9, detail=detail),
            Figure("    with --archive, against cp, sha256sum and cp", packed, 0.9, detail=more),
            Figure("    peak memory over that of 50 MB", max(memory, more_memory) - little, 30, "MB")]  # fmt: skip


@benchmark
def many_files(folder: Path) -> list[Figure]:
    path = installer(folder / "many.msi", 50_000, MB)
    raw = "import olefile, sys\nole = olefile.OleFileIO(sys.argv[1])\nfor name in ole.listdir(): ole.openstream(name).read()"  # noqa: E501
    predict = ("import sys\nfrom pathlib import Path\nfrom yendo.formats.msi import Database\nfrom yendo.installers.msi import describe, engine\n"  # noqa: E501
               "from yendo.platforms.windows.surroundings import windows\naround = windows()\n"
               "with Database(Path(sys.argv[1])) as database:\n    outcome = engine.predict(database, around, describe.baseline(around))\n"  # noqa: E501
               "assert len(outcome.effects) > 50_000, len(outcome.effects)")  # fmt: skip
    streams = [process([sys.executable, "-c", raw, str(path)]) for _ in range(5)]
    predicted = [process([sys.executable, "-c", predict, str(path)]) for _ in range(5)]
    base, value = sorted(seconds for seconds, _ in streams)[2], sorted(seconds for seconds, _ in predicted)[2]
    return [Figure("effects of 50,000 files against twice olefile's raw streams + 1 s", value / (2 * base + 1), 1.0,
                   detail=f"{value:.2f} s against 2 x {base:.2f} s + 1 s, whole processes")]  # fmt: skip


_OPEN = "import sys\nfrom pathlib import Path\nfrom yendo.formats.msi import Database\n"


def _script(text: str, *arguments: Path) -> Callable[[], tuple[float, float]]:
    return lambda: process([sys.executable, "-c", _OPEN + text, *map(str, arguments)])


@benchmark
def comparison(folder: Path) -> list[Figure]:
    """Two databases of 50,000 files, 500 of which differ, against decoding every table of both."""
    one, two = installer(folder / "one.msi", 50_000, MB), folder / "two.msi"
    from yendo.formats.msi import Database, overlay
    from yendo.formats.msi.transform import Transform

    with Database(one) as base, two.open("wb") as target:
        changed = overlay.TableChange(list(base["File"].columns))
        for at in range(0, 50_000, 100):
            changed.updated[(f"F{at}",)] = {"FileSize": at + 7}
        overlay.write(overlay.Overlay(base, [Transform({"File": changed})]), target, revision=guid("two"))
    read = "for path in sys.argv[1:]:\n    with Database(Path(path)) as d:\n        print(sum(len(d[name].cells) for name in d.tables))"  # noqa: E501
    compare = ("from yendo.formats.msi.overlay import difference\n"
               "with Database(Path(sys.argv[1])) as a, Database(Path(sys.argv[2])) as b:\n    assert len(difference(a, b)) == 500")  # fmt: skip  # noqa: E501
    ratio, _, detail = in_turn(_script(compare, one, two), _script(read, one, two), 7)
    return [Figure("comparing two databases of 50,000 files against one read of both", ratio, 3.0, detail=detail)]


def with_properties(path: Path, components: int, properties: int) -> Path:
    """An installer of that many components and public properties; each property is used by a few rows and one condition."""  # noqa: E501
    writer = DatabaseWriter(summary=Summary(template="x64;1033", revision=guid(path.name), pages=200, words=2))
    names = [f"SETTING{at}" for at in range(properties)]
    rows = {
        "Property": [("ProductCode", guid("props")), ("ProductName", "Bench"), ("ProductVersion", "1.0"), ("ProductLanguage", "1033"), ("ALLUSERS", "1"),  # noqa: E501
                     ("UpgradeCode", guid("props line")), ("Manufacturer", "Tidewell"), *((name, "0") for name in names)],  # noqa: E501
        "Directory": [("TARGETDIR", None, "SourceDir"), ("ProgramFiles64Folder", "TARGETDIR", "."), ("INSTALLDIR", "ProgramFiles64Folder", "Bench"),  # noqa: E501
                      *((f"D{at}", "INSTALLDIR", f"d{at}") for at in range(components // 50))],
        "Feature": [("Main", None, "Main", None, 1, 1, None, 0)],
        "Component": [(f"C{at}", guid(f"p{at}"), f"D{at // 50}", 256, f"{names[at // 50 % properties]}=1" if at % 50 == 7 else None, f"F{at}")  # noqa: E501
                      for at in range(components)],
        "FeatureComponents": [("Main", f"C{at}") for at in range(components)],
        "File": [(f"F{at}", f"C{at}", f"FILE{at % 100000}.DAT|file number {at}.dat", at, None, None, 512, at + 1) for at in range(components)],  # noqa: E501
        "Registry": [(f"R{at}", 2, r"Software\Tidewell\Bench", f"V{at}", f"[{names[at // 20 % properties]}]" if at % 20 == 3 else "x", f"C{at}")  # noqa: E501
                     for at in range(components)],
        "Media": [(1, components, None, "#bench.cab", None, None)],
        "InstallExecuteSequence": SEQUENCE,
    }  # fmt: skip
    for name, cells in rows.items():
        writer.table(name, columns(name), cells)
    writer.stream("bench.cab", b"")
    with path.open("wb") as file:
        writer.write(file)
    return path


@benchmark
def influences(folder: Path) -> list[Figure]:
    """What each of 100 properties of a 5,000-component installer changes, against one prediction of it."""
    path = with_properties(folder / "props.msi", 5_000, 100)
    common = ("from yendo.installers.msi import describe, engine, influence\nfrom yendo.platforms.windows.surroundings import windows\naround = windows()\n"  # noqa: E501
              "import time\nwith Database(Path(sys.argv[1])) as d:\n")  # fmt: skip
    single = "    begun = time.perf_counter()\n    engine.predict(d, around, describe.baseline(around))\n    taken = time.perf_counter() - begun\n"  # noqa: E501
    many = ("    begun = time.perf_counter()\n    found = influence.Influences(d).properties()\n    taken = time.perf_counter() - begun\n"  # noqa: E501
            "    assert len(found) == 100 and all(t.changed and t.added for p in found for t in p.trials), len(found)\n")  # fmt: skip  # noqa: E501
    ratio, _, detail = in_turn(_inner(common + many, path), _inner(common + single, path), 7)
    return [Figure("effects of 100 properties of 5,000 components against one prediction", ratio, 10.0, detail=detail)]


def _inner(text: str, path: Path) -> Callable[[], tuple[float, float]]:
    """Times what a script times itself, so that starting up does not flatter the ratio."""
    import subprocess

    def run() -> tuple[float, float]:
        done = subprocess.run(
            [sys.executable, "-c", _OPEN + text + "print(taken)", str(path)], capture_output=True, text=True, check=True
        )
        return float(done.stdout), 0.0

    return run


@benchmark
def transform_writing(folder: Path) -> list[Figure]:
    """A transform of seven changes onto 50,000 files, against decoding every table of the base."""
    path = installer(folder / "base.msi", 50_000, MB)
    (folder / "added.txt").write_bytes(b"added")
    write = ("import io\nfrom yendo.formats.msi import transform\nfrom yendo.installers.msi import intent\nfrom yendo.terms.changes import *\n"  # noqa: E501
             "changes = [PropertyChange(name='A', value='1'), DropChange(what='file', name='F77'), RegistryChange(key='HKLM\\\\Software\\\\X', name='n', value=1),"  # noqa: E501
             " EnvironmentChange(name='E', value='1'), FileChange(source='added.txt', to='[INSTALLDIR]added.txt'), DropChange(what='component', name='C5'),"  # noqa: E501
             " FeatureChange(name='Main', install=True)]\n"
             "with Database(Path(sys.argv[1])) as d:\n    out = io.BytesIO()\n"
             "    transform.write(intent.transform_for(d, changes, lambda n: Path(sys.argv[1]).parent / n), out)\n    assert len(out.getvalue()) > 999")  # fmt: skip  # noqa: E501
    read = "with Database(Path(sys.argv[1])) as d:\n    print(sum(len(d[name].cells) for name in d.tables))"
    ratio, _, detail = in_turn(_script(write, path), _script(read, path), 7)
    return [Figure("writing a transform against one read of its base of 50,000 files", ratio, 1.5, detail=detail)]


@benchmark
def proof_on_wine(folder: Path) -> list[Figure]:
    from yendo.demo import story
    from yendo.draft import draft
    from yendo.machines.wine.machine import WineMachine, powershell_source
    from yendo.package import build
    from yendo.plan import read
    from yendo.prove.prove import prove

    scene = story.scene(folder)
    draft.from_installer(folder / "lantern", scene)
    story.edit(folder / "lantern", folder / "site.ini")
    package = build.build(folder / "lantern", read(folder / "lantern" / "plan.toml")[0]).folder
    cache = Path(os.environ.get("YENDO_CACHE") or folder / "cache")
    machine = WineMachine(cache, powershell_source())
    machine.template  # noqa: B018
    figures = []
    for scenario in ("desk", "system"):
        proofs = [prove(package, machine, scenario=scenario) for _ in range(3)]
        assert all(proof.passed for proof in proofs)
        shares = sorted(1 - proof.command_seconds / proof.seconds for proof in proofs)
        seconds = sorted(proof.seconds for proof in proofs)[1]
        figures.append(
            Figure(
                f"proof on wine, {scenario}: share outside the commands",
                shares[1],
                0.25,
                "",
                f"{seconds:.1f} s in all, {time.strftime('%H:%M')}",
            )
        )
    return figures


@benchmark
def runner_overhead(folder: Path) -> list[Figure]:
    """The runner over a batch file that calls the same commands: at most the start of the shell and 50 ms a step, as a ratio to that."""  # noqa: E501
    from yendo.machines.wine.machine import WineMachine, powershell_source
    from yendo.package import build
    from yendo.plan import read

    steps, machine = 20, WineMachine(Path(os.environ.get("YENDO_CACHE") or folder / "cache"), powershell_source())
    program = r"C:\windows\system32\hostname.exe"
    step = f'[[install]]\nkind = "exe"\nprogram = \'{program}\'\ntimeout = "1 min"\n'
    (folder / "plan.toml").write_text(
        'keep = "nothing"\n[package]\nid = "steps"\nname = "Steps"\nversion = "1"\n' + step * steps, "utf-8"
    )
    made = build.build(folder, read(folder / "plan.toml")[0]).folder
    batch = "@echo off\r\n" + f'"{program}"\r\n' * steps
    runs: dict[str, list[float]] = {"runner": [], "bare": [], "shell": []}
    with machine.fresh() as session:
        session.bring(made, r"C:\steps")
        session.write(r"C:\bare.cmd", batch.encode())
        session.write(r"C:\nothing.ps1", b"exit 0\r\n")
        commands = {
            "runner": r'cmd /s /c ""C:\steps\apply.cmd" install"',
            "bare": r"cmd /c C:\bare.cmd",
            "shell": r"powershell -NoLogo -NoProfile -File C:\nothing.ps1",
        }
        for at in range(6):
            for name, command in commands.items():
                ran = session.run(command, timeout=300)
                assert ran.exit_code == 0, ran.output
                if at:  # the first starts the machine
                    runs[name].append(ran.seconds)
    runner, bare, shell = (sorted(runs[name])[len(runs[name]) // 2] for name in ("runner", "bare", "shell"))
    allowed = bare + shell + 0.05 * steps
    detail = f"{runner:.2f} s; bare {bare:.2f} s, shell {shell:.2f} s, {steps} steps: {1000 * (runner - bare - shell) / steps:.0f} ms a step"  # noqa: E501
    return [Figure("runner over its bare commands", runner / allowed, 1.0, "x", detail)]
