"""What is judged on the real machine: installers, and ways to install them."""

from __future__ import annotations

import io
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from specimens import Specimen, all_of_them

from yendo.demo.patching import write_patch
from yendo.demo.vendor import guid
from yendo.formats.msi import Database, transform
from yendo.installers.msi import commandline, intent
from yendo.terms.changes import (
    DropChange,
    EnvironmentChange,
    FeatureChange,
    FileChange,
    PlannedChange,
    PropertyChange,
    RegistryChange,
    ServiceChange,
)

HERE = r"C:\Hand over"


@dataclass
class Scene:
    """Where the files of a case are made; ``builder`` is the layer's own writer, or None for ours."""

    folder: Path
    builder: Callable[..., object] | None

    def make(self, specimen: Specimen, name: str | None = None) -> Path:
        path = specimen.theirs(self.folder, self.builder) if self.builder else specimen.ours(self.folder)
        return path.rename(path.with_name(f"{name}.msi")) if name else path

    def transform(self, base: Path, changes: list[PlannedChange], name: str = "site.mst") -> str:
        """Writes the transform of some changes, and returns where it lies on the machine."""
        with Database(base) as database:
            found = intent.transform_for(database, changes, lambda source: self.folder / source)
        out = io.BytesIO()
        transform.write(found, out)
        (self.folder / name).write_bytes(out.getvalue())
        return rf"{HERE}\{name}"


@dataclass
class Case:
    """``make`` writes the files and returns the command lines; ``removed`` is the one that takes everything away again.

    ``apart`` says in what the layer cannot do the case as Windows does; such a case is counted by itself.
    """

    name: str
    make: Callable[[Scene], list[str]]
    removed: str = ""
    plain: bool = False
    apart: str = ""


CASES: list[Case] = []


def line(file: str | Path, **more: object) -> str:
    return commandline.install(rf"{HERE}\{Path(file).name}", **more)  # type: ignore[arg-type]


def _plain(name: str) -> Case:
    def make(scene: Scene) -> list[str]:
        specimen = all_of_them()[name]
        return [line(scene.make(specimen), properties=specimen.given)]

    return Case(name, make, commandline.uninstall(guid(name)), plain=True)


CASES += [_plain(name) for name in all_of_them()]

_ANY: list[PlannedChange] = [
    PropertyChange(name="MARKER", value="from the transform"),
    RegistryChange(key=r"HKLM\Software\Marrowby\Office", name="Marker", value="[MARKER]"),
    RegistryChange(key=r"HKLM\Software\Marrowby\Office", name="Depth", value=12),
    EnvironmentChange(name="MARROWBY_OFFICE", value="[INSTALLDIR]"),
    FileChange(source="added.txt", to=r"[INSTALLDIR]office\Added by Marrowby.txt"),
]


def _transformed(name: str, changes: list[PlannedChange]) -> Case:
    def make(scene: Scene) -> list[str]:
        specimen = all_of_them()[name]
        path = scene.make(specimen)
        (scene.folder / "added.txt").write_bytes(b"added by the office\r\n")
        return [line(path, properties=specimen.given, transforms=[scene.transform(path, changes)])]

    return Case(f"transform of {name}", make, commandline.uninstall(guid(name)))


CASES += [
    _transformed("one-file", _ANY),
    _transformed("narrow", _ANY),
    _transformed("many-files", [*_ANY, DropChange(what="file", name="file3.dat"), DropChange(what="component", name="C5")]),
    _transformed("shortcuts", [DropChange(what="shortcut", name="S2"), *_ANY]),
    _transformed("features", [FeatureChange(name="Extra", install=False), FeatureChange(name="Follows", install=False)]),
    _transformed("service", [ServiceChange(name="TideGauge", start="disabled")]),
    _transformed("environment", [DropChange(what="environment", name="TIDE_ONCE"), EnvironmentChange(name="TIDE_HOME", value="elsewhere")]),
    _transformed("registry-kinds", [DropChange(what="registry", name="R3"), RegistryChange(key=r"HKLM\Software\Tidewell\Kinds", name="Number", value=7)]),
    _transformed("ini-file", [DropChange(what="ini", name="I2")]),
    _transformed("actions", [DropChange(what="action", name="SetFolder")]),
]  # fmt: skip


def _release(name: str, version: str, *, code: str, order: int = 1450, line_code: str = "tide line") -> Specimen:
    """A release with a program, a file that only this version has, and an upgrade rule for older ones."""
    own = f"Own{version.replace('.', '')}"
    specimen = Specimen(name, version=version).with_file().with_file(own, f"only {version}.txt")
    specimen.contents["FProgram"] = f"release {version}\r\n".encode() * len(version) * int(version[-1])
    specimen.tables["File"] = [(*row[:3], len(specimen.contents[row[0]]), *row[4:]) for row in specimen.tables["File"]]
    shared = {row[0]: row for row in specimen.tables["Component"]}
    specimen.tables["Component"] = [
        ("Program", guid("tide program"), *shared["Program"][2:]),
        (own, guid(own), *shared[own][2:]),
    ]
    specimen.tables["Directory"] = [
        (*row[:2], "TIDE|Tide") if row[0] == "INSTALLDIR" else row for row in specimen.tables["Directory"]
    ]
    values = {"ProductCode": guid(code), "UpgradeCode": guid(line_code)}
    specimen.tables["Property"] = [(key, values.get(key, value)) for key, value in specimen.tables["Property"]]
    specimen.add("Registry", ("RV", 2, r"Software\Tidewell\Tide", "Version", "[ProductVersion]", "Program"))
    specimen.add("Upgrade", (guid(line_code), None, version, None, 0, None, "OLDER"))
    specimen.tables["InstallExecuteSequence"] = [
        (row[0], row[1], order) if row[0] == "RemoveExistingProducts" else row
        for row in specimen.tables["InstallExecuteSequence"]
    ]
    return specimen


def _upgrade(title: str, order: int) -> Case:
    def make(scene: Scene) -> list[str]:
        old = scene.make(_release("old", "1.0.1", code="tide 1"), "old")
        new = scene.make(_release("new", "1.1.2", code="tide 2", order=order), "new")
        return [line(old), line(new)]

    return Case(f"upgrade, {title}", make, commandline.uninstall(guid("tide 2")))


CASES += [
    _upgrade("old removed first", 1450),
    _upgrade("old removed after the start", 1510),
    _upgrade("old removed in the end", 6650),
]


def _side_by_side(scene: Scene) -> list[str]:
    one = scene.make(_release("one", "1.0.1", code="tide 1", line_code="first line"), "one")
    two = scene.make(_release("two", "1.1.2", code="tide 2", line_code="second line"), "two")
    return [line(one), line(two), commandline.uninstall(guid("tide 1"))]


CASES.append(Case("two lines share a component", _side_by_side, commandline.uninstall(guid("tide 2"))))


def _minor(scene: Scene) -> list[str]:
    one = scene.make(_release("one", "1.0.1", code="tide 1"), "one")
    two = scene.make(_release("two", "1.0.2", code="tide 1"), "two")
    return [line(one), line(two), line(two, properties={"REINSTALL": "ALL", "REINSTALLMODE": "vomus"})]


CASES.append(Case("minor update", _minor, commandline.uninstall(guid("tide 1"))))


def _failing(scene: Scene) -> list[str]:
    """The installation stops when files and values are in place already."""
    specimen = Specimen("failing").with_file()
    specimen.add("Registry", ("R", 2, r"Software\Tidewell\Failing", "Half", "done", "Program"))
    specimen.add("CustomAction", ("Stop", 19, None, "No further.")).add(
        "InstallExecuteSequence", ("Stop", "NOT REMOVE", 6500)
    )
    specimen.tables["InstallExecuteSequence"].append(("InstallExecute", None, 6450))
    return [line(scene.make(specimen))]


CASES.append(Case("failure in the end", _failing, apart="the layer leaves the registration of a component behind"))


def _patched(
    title: str,
    *,
    apart: str = "",
    changes: list[PlannedChange] = [],
    twice: bool = False,
    at_once: bool = False,
    wrong: bool = False,
) -> Case:
    def make(scene: Scene) -> list[str]:
        one = scene.make(_release("one", "1.0.1", code="tide 1"), "one")
        two = scene.make(_release("two", "1.0.2", code="tide 1"), "two")
        write_patch(
            scene.folder / "tide.msp",
            one,
            two,
            guid("tide patch"),
            metadata={"DisplayName": "Tide 1.0.2", "AllowRemoval": "1"},
        )
        patch = rf"{HERE}\tide.msp"
        if wrong:
            other = scene.make(_release("other", "1.0.1", code="tide 9"), "other")
            return [line(other), commandline.patch(patch)]
        (scene.folder / "added.txt").write_bytes(b"added by the office\r\n")
        transforms = [scene.transform(one, changes)] if changes else []
        if at_once:
            return [line(one, properties={"PATCH": patch}, transforms=transforms)]
        return [
            line(one, transforms=transforms),
            *[commandline.patch(patch, transforms=transforms)] * (2 if twice else 1),
        ]

    return Case(f"patch{title}", make, commandline.uninstall(guid("tide 1")), apart=apart)


CASES += [_patched(""), _patched(" twice", twice=True), _patched(" at once", at_once=True), _patched(" after transform", changes=_ANY[:-1]), _patched(" of another product", wrong=True),
          _patched(" after a transform with a file", changes=_ANY, apart="the layer numbers the medium of a patch behind all others, and takes the transform's for it")]  # fmt: skip


def _parts(title: str, *more: str, **given: str) -> Case:
    def make(scene: Scene) -> list[str]:
        path = scene.make(all_of_them()["feature-parts"])
        return [line(path, properties=given), *(entry.replace("{path}", rf"{HERE}\{path.name}") for entry in more)]

    return Case(f"features, {title}", make, commandline.uninstall(guid("feature-parts")))


CASES += [
    _parts("by level", INSTALLLEVEL="600"),
    _parts("one alone", ADDLOCAL="Late"),
    _parts("one added later", r'msiexec /i "{path}" /qn ADDLOCAL=Late'),
    _parts("one removed later", r'msiexec /i "{path}" /qn REMOVE=First'),
    _parts("another folder", INSTALLDIR=r"C:\Tide office\sub"),
    _parts("all again", r'msiexec /i "{path}" /qn REINSTALL=ALL REINSTALLMODE=amus'),
]
