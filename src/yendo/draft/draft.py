"""Starting a workspace: the media as they came, and a plan with every derived value filled in."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Mapping, Sequence
from fnmatch import fnmatch
from pathlib import Path
from typing import Any

import msgspec
import tomlkit
from tomlkit.items import Table

from yendo import atomic, digest
from yendo.detect import for_copies, for_effects
from yendo.draft import leftovers, rehearsal, setups, writing
from yendo.draft.office import Office
from yendo.effects import Effect, File
from yendo.errors import Usage
from yendo.facts.surroundings import windows
from yendo.formats.msi import Database, transform
from yendo.installers import recognise
from yendo.installers.account import Account
from yendo.installers.msi import changes, describe, engine, fitting, layers
from yendo.terms.rules import Rule

DECIDE, NOTES = "DECIDE", "notes.md"
DEFAULT = "# stands:"  # before whose default a value is, in a plan's comments
_PERMANENT = 0x10  # Component.Attributes: it stays when the product is removed
_NEEDS_SAYING = {"x64": ["x64"], "arm64": ["arm64"]}  # a 32-bit installer runs on every Windows


class Drafted(msgspec.Struct, frozen=True):
    """What was started: the plan, media that came along, files beside the installer that did not, open questions.

    ``defaults`` are the values that stand where nobody decides, ``NAME: value``. ``to_try`` says that a run has to
    answer what reading could not; ``needless`` that the installer is known to need none of ``strays``.
    """

    plan: Path
    media: tuple[str, ...]
    strays: tuple[str, ...]
    missing: tuple[str, ...]
    decisions: tuple[str, ...]
    defaults: tuple[str, ...] = ()
    to_try: bool = False
    needless: bool = True


def _digest(path: Path) -> tuple[str, int]:
    return digest.of_file(path), path.stat().st_size


def _guard(folder: Path) -> None:
    """Refuses where a person's edits would be lost."""
    plan, evidence = folder / "plan.toml", folder / "evidence.json"
    if not plan.exists():
        return
    try:
        drafted = json.loads(evidence.read_text("utf-8")).get("plan_sha256")
    except (OSError, ValueError):
        drafted = None
    if drafted != hashlib.sha256(plan.read_bytes()).hexdigest():
        raise Usage(
            f"{plan} has been edited since it was drafted; it is not overwritten. Draft into another folder, or move "
            "the plan away first"
        )


def copy_media(source: Path, target: Path) -> None:
    """A vendor's file into a workspace, whole or not at all."""
    target.parent.mkdir(parents=True, exist_ok=True)
    if not target.exists() or target.stat().st_size != source.stat().st_size or _digest(target) != _digest(source):
        part = target.with_name(target.name + ".part")
        shutil.copyfile(source, part)
        part.replace(target)


class _Overlays(msgspec.Struct, frozen=True):
    """Transforms and patches that came with an installer: what they say, and where it all leads."""

    transforms: tuple[Path, ...] = ()
    patches: tuple[Path, ...] = ()
    notes: tuple[str, ...] = ()
    version: str | None = None
    versions: tuple[str, ...] = ()  # after each patch
    effects: tuple[Effect, ...] = ()
    said: dict[str, tuple[str, str]] = {}  # properties that a transform sets: its name and the value


def _overlays(installer: Path, account: Account, files: Sequence[Path]) -> _Overlays:
    """Raises Usage where one does not fit the installer: better now than on a machine."""
    if not files:
        return _Overlays()
    if account.family != "msi":
        raise Usage(
            f"transforms and patches go onto installer databases; {installer.name} is of family {account.family}"
        )
    transforms, patches, notes, versions = [], [], [], []
    said: dict[str, tuple[str, str]] = {}
    for path in files:
        family = recognise.recognise(path)
        if family == "msi-transform":
            transforms.append(path)
        elif family == "msi-patch":
            patches.append(path)
        else:
            raise Usage(f"{path.name} is of family {family}; what goes with an installer is a transform or a patch")
    try:
        with Database(installer) as base:
            at: Database = base
            for path in transforms:
                found = transform.read(path, at)
                fit = fitting.fit(at, found)
                if not fit.fits:
                    raise Usage(f"{path.name} {fit.in_words}; see `yendo transform fits {path.name} {installer.name}`")
                notes += [
                    f"transform {path.name}: {change.text} ({change.risk})"
                    for change in changes.in_words(at, found)
                    if change.risk
                ]
                before, at = fitting.facts(at), layers.apply_transforms(at, [path])
                said |= {
                    name: (path.name, value) for name, value in fitting.facts(at).items() if before.get(name) != value
                }
        for count in range(1, len(patches) + 1):
            with layers.layered(installer, transforms, patches[:count]) as after:
                versions.append(fitting.facts(after).get("ProductVersion", ""))
        surroundings = windows()
        state = describe.baseline(surroundings)
        with layers.layered(installer, transforms, patches) as after:
            outcome = engine.predict(after, surroundings, state)
    except layers.Refused as refused:
        raise Usage(refused.message) from refused
    return _Overlays(
        tuple(transforms),
        tuple(patches),
        tuple(notes),
        versions[-1] if versions else None,
        tuple(versions),
        outcome.effects,
        said,
    )


class Proposal(msgspec.Struct, frozen=True):
    """What a plan for an installer would be, before anything is written.

    ``media`` are files by their names in the workspace, ``extras`` transforms that came along; ``document`` is the
    plan. ``at_first_sight`` are the rules that a draft of an earlier release had.
    """

    account: Account
    document: tomlkit.TOMLDocument
    media: dict[str, Path]
    extras: dict[str, Path]
    missing: tuple[str, ...]
    decisions: list[str]
    defaults: tuple[str, ...] = ()
    at_first_sight: tuple[Rule, ...] = ()


def _refuse_links(share: Path, name: str) -> None:
    """What a link leads to is not the vendor's. Raises Usage."""
    at = share
    for part in Path(name).parts:
        at = at / part
        if at.is_symlink():
            raise Usage(f"{at} is a link, and is not taken along; put the vendor's file itself there")


def beside(installer: Path, patterns: Sequence[str]) -> dict[str, Path]:
    """The files beside an installer, in subfolders too, that one of the patterns names; by their names in the media.

    Raises Usage for a pattern that nothing fits, and for a link.
    """
    found: dict[str, Path] = {}
    for wanted in patterns:
        fitting = {
            name: path
            for path in sorted(installer.parent.rglob("*"))
            for name in [path.relative_to(installer.parent).as_posix()]
            if path != installer
            and not path.is_dir()
            and (fnmatch(name, wanted) or name.startswith(wanted.rstrip("/") + "/"))
        }
        if not fitting:
            raise Usage(f"--take {wanted}: nothing beside {installer.name} is called so")
        for name in fitting:
            _refuse_links(installer.parent, name)
        found |= fitting
    return found


def propose(
    installer: Path, overlays: Sequence[Path], office: Office, origin: str = "", take: Sequence[str] = ()
) -> Proposal:
    """A plan for an installer with the transforms and patches that go onto it, in order; ``origin`` is known of what
    lay in an image, ``take`` are patterns of files beside the installer that come along.

    Raises Usage, Unreadable, NotCovered.
    """
    account = recognise.read(installer)
    account, folder = setups.placed(account, installer, account.identity.name or installer.stem)
    along = _overlays(installer, account, overlays)
    media = {installer.name: installer}
    missing = []
    for medium in account.payload.media if account.payload else ():
        if medium.kind != "embedded":
            if medium.present and medium.path:
                _refuse_links(installer.parent, medium.path)
                media[Path(medium.path).as_posix()] = installer.parent / medium.path
            else:
                missing.append(medium.name)
    media |= {path.name: path for path in along.patches} | beside(installer, take)
    decisions: list[str] = []
    digests = {name: _digest(path) for name, path in media.items()}
    document = _plan(account, installer, digests, decisions, along, office, origin)
    office.leave_to_the_house(document, decisions)
    standing = tuple(f"{name}: {value}" for name, value, _ in _defaults(account, along))
    if folder:
        standing = (f"install folder: {folder}; by itself it installs into the folder it stands in", *standing)
    return Proposal(
        account,
        document,
        media,
        {path.name: path for path in along.transforms},
        tuple(missing),
        decisions,
        standing,
        tuple(for_effects(along.effects or account.effects, account.processes)),
    )


def from_installer(
    folder: Path,
    installer: Path,
    overlays: Sequence[Path] = (),
    *,
    named_house: Path | None = None,
    origin: str = "",
    take: Sequence[str] = (),
) -> Drafted:
    """Drafts from a vendor's installer, with the transforms and patches that go onto it, in order, and the files beside
    it that patterns name.

    Raises Usage, Unreadable, NotCovered, HouseError, TemplateProblem.
    """
    office = Office(folder, named_house)
    _guard(folder)
    found = propose(installer, overlays, office, origin, take)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "extras").mkdir(exist_ok=True)
    for name, path in found.media.items():
        copy_media(path, folder / "media" / name)
    for name, path in found.extras.items():
        copy_media(path, folder / "extras" / name)
    tops = {Path(name).parts[0].lower() for name in found.media} | {name.lower() for name in found.extras}
    strays = tuple(sorted(entry.name for entry in installer.parent.iterdir() if entry.name.lower() not in tops))
    _finish(folder, found.document, found.account, found.decisions, office)
    return Drafted(
        folder / "plan.toml",
        tuple(found.media),
        strays,
        found.missing,
        tuple(found.decisions),
        found.defaults,
        _to_try(found.account, found.document),
        found.account.family == "msi" or bool(found.account.effects and not found.account.blind_spots),
    )


def _to_try(account: Account, document: tomlkit.TOMLDocument) -> bool:
    """Whether a run has to answer something of a setup program: how it is silent, how it goes, or what betrays it."""
    lines = (account.silent.install, account.silent.uninstall)
    guessed = account.silent.install is None or any(line and line.confidence != "certain" for line in lines)
    return account.program is not None and (guessed or "uninstall" not in document or "detect" not in document)


def _header(name: str) -> tomlkit.TOMLDocument:
    document = tomlkit.document()
    document.add(
        tomlkit.comment(
            writing.remark(
                f"What the package for {name} is. Lines marked {DECIDE} wait for a person; then: yendo check"
            )
        )
    )
    return document


def _defaults(account: Account, along: _Overlays) -> list[tuple[str, str, str]]:
    """What is installed where nobody decides otherwise: property, value, and whose it is.

    Nothing for an installer that is no database.
    """
    found = []
    for known in account.properties if account.family == "msi" else ():
        if "Directory" in known.used_in or not known.in_silence:
            continue
        by, value = along.said.get(known.name, ("the vendor's default", known.default))
        if value is not None:
            found.append((known.name, value, f"{by}; used in {', '.join(known.used_in)}" if known.used_in else by))
    return found


def default_lines(account: Account, said: dict[str, tuple[str, str]]) -> list[str]:
    """The same as the comments of a plan: a default is what happens anyway, no decision."""
    lines = [
        f"{writing.remark(f'{name} = {tomlkit.item(value).as_string()}')}   {DEFAULT} {writing.remark(words)}"
        for name, value, words in _defaults(account, _Overlays(said=said))
    ]
    return (
        ["take the # away in front of what you decide otherwise, or say it as a change; not both", *lines]
        if lines
        else []
    )


def _plan(
    account: Account,
    path: Path,
    media: dict[str, tuple[str, int]],
    decisions: list[str],
    along: _Overlays,
    office: Office,
    origin: str,
) -> tomlkit.TOMLDocument:
    name = writing.remark(account.identity.name or path.name)
    document = _header(name)
    document.add("package", _package(account, path.name, along, office, decisions))
    document.add("media", _media(media, origin, decisions))
    document.add("when", _when(account, decisions))
    if account.processes:
        way = tomlkit.table()
        way.add("programs", list(account.processes))
        way["programs"].comment("the installer's own programs; they must not run meanwhile")
        document.add("in_the_way", way)
    if account.family != "msi":
        return _setup(document, account, path, decisions)
    document.add("install", writing.array(*_database(account, path.name, along, decisions)))
    _taken_back(document, account, path.name)
    if account.refused and not account.wanting:
        refusal = (
            f"{DECIDE}: the installer refuses a fresh machine ({account.refused}), so no detection could be derived"
        )
        document.add(tomlkit.comment(writing.remark(refusal)))
        decisions.append(f"detect: none could be derived, the installer refuses a fresh machine: {account.refused}")
    if account.wanting:
        document.add("need", _need(account, decisions))
    rehearsed = _rehearsed(account, path, along)
    if rules := _rules(rehearsed, account, along):
        document.add("detect", writing.rules_of(rules))
    proof = tomlkit.table()
    if account.wanting:
        proof.add("there", _inline(*(msgspec.to_builtins(one.there) for one in account.wanting)))
    if rehearsed is not None and rehearsed.left:
        _left(document, proof, rehearsed, path, decisions)
    if proof:
        document.add("proof", proof)
    return document


def _need(account: Account, decisions: list[str]) -> tomlkit.items.AoT:
    """What the vendor asks for and a fresh machine has not: expected from outside, unless a person says what brings
    it.
    """
    table = tomlkit.table()
    table.add("note", writing.remark(account.refused or ""))
    question = "which package brings it (package, from); until then it is expected to be there"
    table["note"].comment(f"{DECIDE}: {question}")
    table.add("holds", _inline(*(msgspec.to_builtins(one.holds) for one in account.wanting)))
    decisions.append(f"need.note: the installer refuses without it: {account.refused}; {question}")
    return writing.array(table)


def _rehearsed(account: Account, installer: Path, along: _Overlays) -> rehearsal.Rehearsed | None:
    if (account.refused and not account.wanting) or not rehearsal.is_small(account):
        return None
    lines: rehearsal.Lines | None
    if account.family == "msi":
        defaults = {name: value for name, value, _ in _defaults(account, along)}
        lines = rehearsal.of_database(installer, account, along.transforms, along.patches, defaults)
    else:
        lines = rehearsal.of_setup(installer, account.silent)
    return rehearsal.rehearse(lines) if lines is not None else None


def _rules(rehearsed: rehearsal.Rehearsed | None, account: Account, along: _Overlays) -> list[Rule]:
    """Detection derived from what the installer does, else what tells the product at first sight."""
    if rehearsed is not None and rehearsed.rules:
        return list(rehearsed.rules)
    effects = along.effects or account.effects
    return [rehearsal.anywhere(rule) for rule in for_effects(effects, account.processes)]


def _left(
    document: tomlkit.TOMLDocument, proof: Table, rehearsed: rehearsal.Rehearsed, installer: Path, decisions: list[str]
) -> None:
    """What a database's own removal leaves: accepted where the vendor means it, else taken away."""
    with Database(installer) as database:
        kept = [row.text("Component") for row in database["Component"] if row.number("Attributes") & _PERMANENT]
    steps = None if kept else leftovers.undoing(rehearsed.left, rehearsed.before, windows("system").environment)
    if steps:
        first, *_ = steps.values()
        first["kind"].comment("its own uninstall leaves this behind")
        for step in steps.values():
            document["uninstall"].append(step)  # type: ignore[union-attr]
        return
    proof.add("accept", tomlkit.array())
    proof["accept"].extend(writing.literal(effect.left) for effect in rehearsed.left)
    proof["accept"].multiline(len(rehearsed.left) > 1)
    if kept:
        proof["accept"].comment(writing.remark(f"the vendor keeps it: permanent components {', '.join(kept[:5])}"))
    else:
        proof["accept"].comment(f"{DECIDE}: nothing removes it; accept it, or add steps to [[uninstall]]")
        decisions.append("proof.accept: nothing removes it; accept it, or add steps to [[uninstall]]")


def _package(account: Account, installer: str, along: _Overlays, office: Office, decisions: list[str]) -> Table:
    """What the package is, as the installer says it of itself."""
    identity = account.identity
    name = writing.remark(identity.name or installer)
    package = tomlkit.table()
    package.add("id", office.identifier(identity.publisher, identity.name or installer))
    package.add("name", name)
    package.add("version", writing.remark(along.version or identity.version or "0"))
    package.add("revision", 1)
    package["revision"].comment("yours: raise it with every change of the package to the same vendor version")
    if identity.publisher:
        package.add("publisher", writing.remark(identity.publisher))
    package.add("architecture", identity.architecture if identity.architecture in ("x64", "x86", "arm64") else "any")
    if why := account.why.get("identity.architecture"):
        package["architecture"].comment(writing.remark(str(why)))
    if identity.language:
        package.add("language", identity.language)
    package.add("scope", "user" if identity.scope == "user" else "machine")
    if identity.scope == "user":
        package["scope"].comment('the database sets no ALLUSERS; for everyone, add ALLUSERS = "1" to the properties')
    package.add("contact", "")
    package["contact"].comment(f"{DECIDE}: who answers for this package")
    decisions.append("package.contact: who answers for this package")
    return package


def _media(media: dict[str, tuple[str, int]], origin: str, decisions: list[str]) -> tomlkit.items.AoT:
    """The vendor's files with their hashes."""
    entries = tomlkit.aot()
    for name, (sha256, size) in media.items():
        entry = tomlkit.table()
        entry.add("file", name)
        entry.add("sha256", sha256)
        entry.add("size", size)
        entry.add("origin", origin)
        if not origin:
            entry["origin"].comment(f"{DECIDE}: where the file came from")
        entries.append(entry)
    if not origin:
        decisions.append("media.origin: where the vendor's file came from")
    return entries


def _when(account: Account, decisions: list[str]) -> Table:
    """Where it may run: what the vendor asks for, else a question."""
    identity = account.identity
    when = tomlkit.table()
    when.add("os", ">=10.0.17763")
    if account.least_build is None:
        when["os"].comment(f"{DECIDE}: the oldest Windows you support")
        decisions.append("when.os: the oldest Windows you support")
    else:
        when["os"] = f">=10.0.{account.least_build}"
        when["os"].comment(writing.remark(f"the vendor asks for it: {account.why['conditions.build'].where}"))
    if identity.architecture in _NEEDS_SAYING:
        when.add("architecture", _NEEDS_SAYING[identity.architecture])
        when["architecture"].comment(f"the installer is for {identity.architecture}")
    for condition in account.conditions:
        when.add(tomlkit.comment(writing.remark(f"the installer itself asks: {condition.in_words}")))
    return when


def _database(account: Account, installer: str, along: _Overlays, decisions: list[str]) -> list[Table]:
    """The install steps of a database: itself, and a step for each patch."""
    identity = account.identity
    install = tomlkit.table()
    install.add("kind", "msi")
    install.add("media", installer)
    install.add("timeout", "30 min")
    properties = tomlkit.table()
    for line in default_lines(account, along.said):
        properties.add(tomlkit.comment(line))
    unset = [entry.name for entry in account.properties if entry.default is None and entry.in_silence]
    if unset:
        properties.add(tomlkit.comment("also known to the installer, unset: " + ", ".join(unset)))
    if along.transforms:
        install.add("transforms", [f"extras/{path.name}" for path in along.transforms])
        decisions += list(along.notes)
    steps = [install]
    newer = {"kind": "uninstall-entry", "name": identity.name or installer, "version": f">{along.version}"}
    if along.patches:
        install.add(
            "unless",
            _inline(
                {"kind": "msi-product", "code": identity.product_code or "", "version": f">={identity.version}"}, newer
            ),
        )
    install.add("properties", properties)
    for path, version in zip(along.patches, along.versions, strict=True):
        step = tomlkit.table()
        for key, text in (("kind", "msi"), ("patch", path.name), ("timeout", "30 min")):
            step.add(key, text)
        step.add(
            "unless",
            _inline({"kind": "msi-product", "code": identity.product_code or "", "version": f">={version}"}, newer),
        )
        steps.append(step)
    return steps


def _taken_back(document: tomlkit.TOMLDocument, account: Account, installer: str) -> None:
    """How a database is removed, and repaired."""
    identity = account.identity
    removal = tomlkit.table()
    removal.add("kind", "msi")
    if identity.product_code:
        removal.add("product", identity.product_code)
        removal["product"].comment("Property[ProductCode]")
    else:
        removal.add("media", installer)
    removal.add("timeout", "30 min")
    document.add("uninstall", writing.array(removal))
    if identity.product_code:
        mend = tomlkit.table()
        mend.add("kind", "msi")
        mend.add("product", identity.product_code)
        mend.add("timeout", "30 min")
        document.add("repair", writing.array(mend))


def _setup(
    document: tomlkit.TOMLDocument, account: Account, installer: Path, decisions: list[str]
) -> tomlkit.TOMLDocument:
    """The rest of a plan whose installer is a setup program."""
    install, removal = setups.steps(account, installer.name, DECIDE, decisions)
    document.add("install", writing.array(install))
    left = leftovers.of(installer, account.silent) or []
    if left:
        remark = "its own uninstall leaves this behind"
        if removal is None:
            remark = "it brings no uninstaller that reading knows; what reading saw it place is deleted"
        if removal is None and account.blind_spots:
            remark += ", and it may do more: yendo try tells"
            decisions.append(f"uninstall: {remark}")
            remark = f"{DECIDE}: {remark}"
        left[0]["kind"].comment(remark)
    if away := ([removal] if removal is not None else []) + left:
        document.add("uninstall", writing.array(*away))
    else:
        document.add(
            tomlkit.comment(f"{DECIDE}: how it is removed is not known from reading; yendo try finds the uninstaller")
        )
        decisions.append("uninstall: not known from reading; yendo try finds the uninstaller")
    if rules := _rules(_rehearsed(account, installer, _Overlays()), account, _Overlays()):
        document.add("detect", writing.rules_of(rules))
    else:
        document.add(
            tomlkit.comment(f"{DECIDE}: no detection could be derived from reading; yendo try derives it from a run")
        )
        decisions.append("detect: nothing could be derived from reading; yendo try derives it from a run")
    return document


def _inline(*rules: Mapping[str, Any]) -> tomlkit.items.Array:
    """Rules within a table, a line each."""
    array = tomlkit.array()
    for rule in rules:
        entry = tomlkit.inline_table()
        entry.update({key: writing.value(value) for key, value in rule.items()})
        array.append(entry)
    return array.multiline(True)


def from_files(folder: Path, files: Path, target: str | None = None, *, named_house: Path | None = None) -> Drafted:
    """Drafts a package that only places files. Raises Usage, HouseError, TemplateProblem."""
    office = Office(folder, named_house)
    if not files.is_dir():
        raise Usage(f"{files} is no folder")
    _guard(folder)
    base = folder / "extras" / files.name
    if folder.resolve().is_relative_to(files.resolve()):
        raise Usage(f"the workspace {folder} lies inside {files}, which it would copy")
    sources = [path for path in sorted(files.rglob("*")) if path.is_file() and not path.is_symlink()]
    links = tuple(path.relative_to(files).as_posix() for path in sorted(files.rglob("*")) if path.is_symlink())
    if not sources:
        raise Usage(f"{files} holds no files")
    for path in sources:
        copy_media(path, base / path.relative_to(files))
    place = target or rf"%ProgramData%\{files.name}"
    document = _header(files.name)
    package = tomlkit.table()
    for key, value in (
        ("id", office.identifier(None, files.name)),
        ("name", files.name),
        ("version", "1"),
        ("revision", 1),
        ("architecture", "any"),
        ("scope", "machine"),
        ("contact", ""),
    ):
        package.add(key, value)
    package["version"].comment(f"{DECIDE}: the version of these files")
    package["contact"].comment(f"{DECIDE}: who answers for this package")
    document.add("package", package)
    step = tomlkit.table()
    for key, text in (("kind", "copy"), ("from", f"extras/{files.name}"), ("to", place), ("timeout", "5 min")):
        step.add(key, writing.literal(text))
    decisions = ["package.version: the version of these files", "package.contact: who answers for this package"]
    if target is None:
        step["to"].comment(f"{DECIDE}: where the files belong")
        decisions.append("install.to: where the files belong")
    document.add("install", writing.array(step))
    back = tomlkit.table()
    back.add("kind", "take-back")
    back.add("timeout", "5 min")
    document.add("uninstall", writing.array(back))
    head = place.rstrip("\\")
    rules = for_copies(("\\".join([head, *path.relative_to(files).parts]), _digest(path)[0]) for path in sources)
    document.add("detect", writing.rules_of(rules))
    office.leave_to_the_house(document, decisions)
    _finish(folder, document, None, decisions, office)
    return Drafted(folder / "plan.toml", (), links, (), tuple(decisions))


def evidence_of(account: Account, text: bytes) -> dict[str, object]:
    """What a workspace keeps of the reading that its plan came from; ``text`` is the plan as it was drafted."""
    return {
        "schema": "yendo.evidence/1",
        "plan_sha256": hashlib.sha256(text).hexdigest(),
        "installer": account.file.name,
        "family": account.family,
        "why": msgspec.to_builtins(account.why),
        "silent": msgspec.to_builtins(account.silent),
        "properties": msgspec.to_builtins(account.properties),
        "blind_spots": msgspec.to_builtins(account.blind_spots),
        "effects": len(account.effects),
        "files": sum(isinstance(effect.thing, File) for effect in account.effects),
    }


def write_evidence(folder: Path, evidence: dict[str, object]) -> None:
    atomic.write(folder / "evidence.json", (json.dumps(evidence, indent=2, ensure_ascii=False) + "\n").encode())


def _finish(
    folder: Path, document: tomlkit.TOMLDocument, account: Account | None, decisions: list[str], office: Office
) -> None:
    text = office.plan(folder, writing.spaced(tomlkit.dumps(document)), account, decisions).encode()
    bare: dict[str, object] = {"schema": "yendo.evidence/1", "plan_sha256": hashlib.sha256(text).hexdigest()}
    write_evidence(folder, evidence_of(account, text) if account else bare)
    if account and not (folder / NOTES).exists():
        atomic.write(folder / NOTES, office.notes(account, decisions).encode())
    atomic.write(folder / "plan.toml", text)
