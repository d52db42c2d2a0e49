"""What a package is made of beside installers: scripts, registry files, drivers, cabinets of the system, files.

Each becomes the steps that carry it out, those that take it back, and what tells that it is there.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec
from tomlkit.items import Table

from yendo import digest
from yendo.detect import for_copies
from yendo.draft import writing
from yendo.drivers import reading
from yendo.drivers.driver import Driver
from yendo.errors import Unreadable, Usage
from yendo.facts import machine
from yendo.installers.images import DiscImage, is_image
from yendo.platforms.windows import paths, systems
from yendo.platforms.windows.registry_keys import MACHINE, PERSON
from yendo.servicing import media, upgrade
from yendo.servicing import reading as serviced
from yendo.servicing.media import SystemMedia
from yendo.servicing.reading import SystemPackage
from yendo.steps.registry import imported, text_of
from yendo.steps.script import HOSTS
from yendo.steps.system_upgrade import CURRENT, there
from yendo.terms.rules import DriverRule, RegistryListRule, RegistryRule, Rule, SystemPackageRule
from yendo.walk import files_below

# What Windows' media hold by their layout; what else lies there somebody put there.
_ON_MEDIA = ("setup.exe", "autorun.inf", "bootmgr", "bootmgr.efi", "boot", "efi", "sources", "support")
_BACK = (
    "a package does not bring the earlier Windows back; for 10 days it can be asked for on the machine: "
    "dism /online /initiate-osuninstall"
)
ASKED = (
    "Windows on this computer is upgraded now. It restarts several times, and cannot be used for an hour or two. "
    "Save your work first."
)
REGISTRY, CABINET, UPDATE, DRIVER = ".reg", ".cab", ".msu", ".inf"
MAX_REGISTRY = 16 << 20
ACHIEVES = r"what is there once it has run: C:\...\file, C:\...\folder\, HKLM\...\Key\Name = value, or a service's name"


class Piece(msgspec.Struct):
    """A material's steps and rules. ``extras`` are files by their names below ``extras/``; ``open`` the questions, by
    the key within the install step; ``marked`` where nothing else tells that it is there. ``before`` are steps that
    come first, each with its questions; ``made`` files below ``extras/`` that are written, and ``package`` what it says
    of the whole: name, version, publisher, architecture, why it stays; ``when`` are lines of ``[when]``. ``inside``
    are files below ``extras/`` that lie in the disc image ``image``; ``left`` is what does not come along. ``asks``: a
    person is asked first. ``proved_on``: rules that hold on the machine it is proved on.
    """

    install: Table
    extras: dict[str, Path]
    rules: list[Rule] = []
    open: dict[str, str] = {}
    marked: bool = False
    links: tuple[str, ...] = ()
    before: list[tuple[Table, dict[str, str]]] = []
    made: dict[str, bytes] = {}
    package: dict[str, str] = {}
    when: str = ""
    image: Path | None = None
    inside: dict[str, str] = {}
    left: tuple[str, ...] = ()
    asks: bool = False
    proved_on: list[Rule] = []


def is_material(path: Path) -> bool:
    """Whether this is something of the packager's own, or of the system, rather than an installer."""
    if path.is_dir() or path.suffix.lower() in (*HOSTS, REGISTRY, CABINET, UPDATE):
        return True
    return path.is_file() and is_image(path) and media.read(path) is not None


def installers(paths: Iterable[Path]) -> list[Path]:
    """Those that are none of the packager's own materials."""
    return [path for path in paths if not is_material(path)]


def piece(path: Path, target: str | None = None) -> Piece:
    """``target`` is where files belong on the machine. Raises Usage."""
    if not path.exists():
        raise Usage(f"{path} is not there")
    if path.is_symlink() and not path.is_dir():
        raise Usage(f"{path} is a link, and is not taken along; name the file itself")
    found = media.read(path) if path.is_dir() or is_image(path) else None
    if found is not None:
        return _media(path, found)
    if path.is_dir():
        if any(one.suffix.lower() == DRIVER for one in path.iterdir()):
            return _drivers(path)
        return _files(path, target)
    kind = path.suffix.lower()
    return _registry(path) if kind == REGISTRY else _cabinet(path) if kind in (CABINET, UPDATE) else _script(path)


def _script(path: Path) -> Piece:
    step = writing.table({"kind": "script", "run": f"extras/{path.name}"})
    step.add("probe", [])
    step.add("reverse", "")
    writing.remarked(step, "reverse", "the command line that undoes it; without one its work stays")
    step.add("timeout", "30 min")
    return Piece(step, {path.name: path}, open={"probe": ACHIEVES}, marked=True)


def _registry(path: Path) -> Piece:
    if path.stat().st_size > MAX_REGISTRY:
        raise Usage(f"{path.name} is larger than {MAX_REGISTRY >> 20} MB; export only what the package needs")
    try:
        items = imported(text_of(path.read_bytes()))
    except ValueError as error:
        raise Usage(f"{path.name}: {error}; export it again as .reg version 5") from error
    step = writing.table({"kind": "registry", "import": f"extras/{path.name}"})
    if any(item.hive == PERSON for item in items):
        step.add("each_user", True)
        writing.remarked(step, "each_user", "it sets values of people's own")
    rules: list[Rule] = []
    for item in items:
        if item.hive != MACHINE:
            continue
        key = paths.join(item.hive, item.key)
        wanted: dict[str, str | int] = {
            name: data if kind in ("sz", "dword") and isinstance(data, str | int) else "*"
            for name, kind, data in item.values
        }
        if len(wanted) > 1:
            rules.append(RegistryListRule(key=key, view=item.view, values=wanted))
        for name, value in wanted.items() if len(wanted) == 1 else ():
            equals = None if value == "*" else value
            rules.append(RegistryRule(key=key, name=name, view=item.view, equals=equals))
    return Piece(step, {path.name: path}, rules, marked=not rules)


def _cabinet(path: Path) -> Piece:
    """A package of the system; a cabinet that says nothing of itself is added as a feature."""
    try:
        found = serviced.read(path)
    except Unreadable as error:
        raise Usage(f"{path.name}: {error}") from error
    if isinstance(found, SystemPackage):
        return _system_package(path, found)
    if path.suffix.lower() == UPDATE:
        raise Usage(f"{path.name} is no update that can be read")
    step = writing.table({"kind": "feature", "cabinet": f"extras/{path.name}", "timeout": "30 min"})
    question = f"{path.name} says nothing of itself; is it a part of the system? Else take the step out"
    return Piece(step, {path.name: path}, open={"cabinet": question}, marked=True)


def _system_package(path: Path, found: SystemPackage) -> Piece:
    """The step, the rules that it is installed, the condition that the build fits, and whether it can be removed."""
    step = writing.table({"kind": "system-package", "from": f"extras/{path.name}"})
    own = found.manifests
    piece = Piece(step, {path.name: path}, marked=not own, when=serviced.condition(found))
    stays = [one.identity.name for one in own if one.permanent]
    piece.package = {"name": path.stem, "permanent": ""}
    if own:
        main = max(own, key=lambda one: (not one.permanent, bool(one.article), -own.index(one)))
        piece.package = {
            "name": main.shown or " ".join(filter(None, ("Windows", main.article or main.identity.name))),
            "version": main.identity.version,
            "publisher": "",
            "architecture": main.identity.processor,
            "permanent": "",
        }
        piece.rules += [SystemPackageRule(name=one.identity.name, version=f">={one.identity.version}") for one in own]
    if len(own) == 1 and not stays and own[0].identity.token:
        step.add("package", own[0].identity.whole)
    elif stays:
        piece.package["permanent"] = f"{', '.join(stays)} is permanent: Windows does not remove it"
    else:
        what = "several packages come together, which are not removed as one" if own else "what is in it is not read"
        piece.package["permanent"] = f"{path.name}: {what}"
    step.add("timeout", "2 h")
    return piece


def _media(path: Path, found: SystemMedia) -> Piece:
    """The upgrade of the system: its step, what a machine must have, the rule that it was upgraded. Raises Usage."""
    if not found.setup or found.missing or not found.build:
        why = (
            f"parts are missing: {', '.join(found.missing)}" if found.missing
            else "there is no setup program on them" if not found.setup else "their editions are of several builds"
        )  # fmt: skip
        raise Usage(f"{path.name}: media that upgrade nothing: {why}")
    build = max(found.builds, key=int)
    step = writing.table({"kind": "system-upgrade", "from": "extras/media", "build": build, "timeout": "6 h"})
    piece = Piece(step, {}, [there(build)], asks=True)
    if len(found.builds) > 1:
        piece.open["build"] = (
            f"the media say {found.build}, whose files {', '.join(found.builds[1:])} share; which one do they bring"
        )
    own = found.images
    piece.package = {
        "name": f"Windows, build {build}",
        "version": own[0].build,
        "publisher": "",
        "architecture": own[0].processor if len({one.processor for one in own}) == 1 else "",
        "permanent": _BACK,
    }
    piece.when = _demands(found, int(build))
    piece.proved_on = _proved_on(found)
    if path.is_dir():
        names = {one.relative_to(path).as_posix(): one for one in below(path)[0]}
        piece.extras = {f"media/{name}": one for name, one in names.items() if _of_media(name)}
    else:
        with DiscImage(path) as image:
            names = {entry.path: path for entry in image.entries()}
        piece.image, piece.inside = path, {f"media/{name}": name for name in names if _of_media(name)}
    piece.left = tuple(sorted({name.partition("/")[0] for name in names if not _of_media(name)}))
    return piece


def _demands(found: SystemMedia, build: int) -> str:
    """What a machine must have: what the new system asks for, and what the media can keep. A later build than theirs
    needs no condition: the step finds it there.
    """
    demands = [f'disk = "{upgrade.DISK}"', 'power = "mains"']
    if build >= upgrade.NEW_DEMANDS:
        demands = [f'os = ">={upgrade.OLDEST}"', f'memory = "{upgrade.MEMORY}"', *demands]
    kept = [line for line in found.condition.split("\n") if not line.startswith("os ")]
    return "\n".join((*demands, *kept))


def _of_media(name: str) -> bool:
    return name.partition("/")[0].lower() in _ON_MEDIA


def _proved_on(found: SystemMedia) -> list[Rule]:
    """Where the usual simulated machine has none of the editions or languages: one that has."""
    rules: list[Rule] = []
    editions = [one.edition for one in found.images if one.edition]
    if editions and machine.USUAL.edition not in editions:
        rules.append(RegistryRule(key=CURRENT, name="EditionID", equals=editions[0]))
    languages = [language for one in found.images for language in one.languages]
    if languages and machine.USUAL.language not in languages:
        number = systems.language_number(languages[0])
        if number:
            rules.append(
                RegistryRule(key=paths.join(MACHINE, systems.LANGUAGE_KEY), name="InstallLanguage", equals=number)
            )
    return rules


def _drivers(path: Path) -> Piece:
    """What the ``.inf`` files say; a publisher's own certificate goes in front, where somebody says so."""
    found, links = below(path)
    step = writing.table({"kind": "driver", "from": f"extras/{path.name}", "timeout": "10 min"})
    piece = Piece(step, named(path, found), links=links)
    for one in found:
        if one.suffix.lower() != DRIVER:
            continue
        try:
            driver = reading.read(one)
        except Unreadable as error:
            raise Usage(f"{one.name}: {error}") from error
        piece.rules.append(DriverRule(inf=one.name, version=f">={driver.version}" if driver.version else None))
        if not piece.package:
            words = {device.words for device in driver.devices}
            named_so = words.pop() if len(words) == 1 else one.stem
            piece.package = {
                "name": " ".join(filter(None, (driver.provider, named_so))),
                "version": driver.version,
                "publisher": driver.provider,
                "architecture": driver.architectures[0] if len(driver.architectures) == 1 else "",
            }
        if driver.trust.by == "publisher" and driver.trust.state == "holds":
            _trusting(piece, driver)
    return piece


def _trusting(piece: Piece, driver: Driver) -> None:
    """The step that makes the signer of a driver a trusted publisher, once, and a question of its own.

    While the question is open, check calls it an error: nothing is built before somebody has said yes.
    """
    name = f"{re.sub(r'[^A-Za-z0-9]+', '-', driver.trust.signer).strip('-').lower() or 'signer'}.cer"
    if name in piece.made:
        return
    piece.made[name] = driver.trust.certificate
    step = writing.table({"kind": "certificate", "from": f"extras/{name}", "store": "TrustedPublisher"})
    question = (
        f"{driver.trust.signer} signed the driver, not Microsoft: shall it be a trusted publisher on every machine "
        f"(SHA-256 {driver.trust.thumbprint[:16]}...)? TrustedPublisher, or take the step out"
    )
    piece.before.append((step, {"store": question}))


def _files(path: Path, target: str | None) -> Piece:
    found, links = below(path)
    if not found:
        raise Usage(f"{path} holds no files")
    place = target or rf"%ProgramData%\{path.name}"
    step = writing.table({"kind": "copy", "from": f"extras/{path.name}", "to": place, "timeout": "5 min"})
    head = paths.bare(place)
    rules = for_copies(head, {paths.join(*one.relative_to(path).parts): digest.of_file(one) for one in found})
    return Piece(step, named(path, found), rules, {} if target else {"to": "where the files belong"}, links=links)


def below(path: Path) -> tuple[list[Path], tuple[str, ...]]:
    """Its files, and the links in it, which are not taken along."""
    every = files_below(path, links=True)
    links = {name for name, one in every if one.is_symlink()}
    return [one for name, one in every if name not in links], tuple(name for name, _ in every if name in links)


def named(path: Path, found: Iterable[Path]) -> dict[str, Path]:
    """The files of a folder by their names below ``extras/``."""
    return {f"{path.name}/{one.relative_to(path).as_posix()}": one for one in found}


def guard(folder: Path, sources: Sequence[Path]) -> None:
    """Raises Usage where the workspace lies inside a folder that it would copy, or two materials have one name."""
    names: dict[str, Path] = {}
    for path in sources:
        if path.is_dir() and folder.resolve().is_relative_to(path.resolve()):
            raise Usage(f"the workspace {folder} lies inside {path}, which it would copy")
        if (other := names.setdefault(path.name.lower(), path)) != path:
            raise Usage(f"{other} and {path} have one name; rename one of them")
