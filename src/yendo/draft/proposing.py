"""What the plan for a vendor's installer would be, with every derived value filled in, before anything is written."""

from __future__ import annotations

from collections.abc import Sequence
from fnmatch import fnmatch
from pathlib import Path

import msgspec
import tomlkit
from tomlkit.items import Table

from yendo import digest
from yendo.detect import for_effects
from yendo.draft import leftovers, rehearsal, setups, writing
from yendo.draft.office import Office
from yendo.effects import Effect
from yendo.effects.things import Part
from yendo.errors import Usage
from yendo.evidence import Evidence
from yendo.formats.msi import Database, transform
from yendo.installers import recognise
from yendo.installers.account import CommandLine, InstallerAccount
from yendo.installers.msi import changes, describe, engine, fitting, layers
from yendo.platforms.windows import systems
from yendo.platforms.windows.surroundings import windows
from yendo.terms.rules import Rule
from yendo.terms.rules.parts import AppRule

DECIDE = "DECIDE"
DEFAULT = "# stands:"  # before whose default a value is, in a plan's comments
_PERMANENT = 0x10  # Component.Attributes: it stays when the product is removed
_NEEDS_SAYING = {"x64": ["x64"], "arm64": ["arm64"]}  # a 32-bit installer runs on every Windows


def measured(path: Path) -> tuple[str, int]:
    """A file's hash and size."""
    return digest.of_file(path), path.stat().st_size


class _Overlays(msgspec.Struct, frozen=True):
    """Transforms and patches that came with an installer: what they say, and where it all leads."""

    transforms: tuple[Path, ...] = ()
    patches: tuple[Path, ...] = ()
    notes: tuple[str, ...] = ()
    version: str | None = None
    versions: tuple[str, ...] = ()  # after each patch
    effects: tuple[Effect, ...] = ()
    said: dict[str, tuple[str, str]] = {}  # properties that a transform sets: its name and the value


def _overlays(installer: Path, account: InstallerAccount, files: Sequence[Path]) -> _Overlays:
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

    account: InstallerAccount
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


class Known(msgspec.Struct, frozen=True):
    """What a person knows of a setup program: the arguments that make it silent, and the command line that removes
    it.
    """

    silent: str | None = None
    uninstall: str | None = None


def _as_known(account: InstallerAccount, installer: Path, known: Known | None) -> InstallerAccount:
    """The account with what a person knows in place of what reading proposes. Raises Usage."""
    if known is None or known == Known():
        return account
    if account.family == "msi":
        raise Usage(f"{installer.name} is a database; how it is silent needs no telling")
    silent = account.silent
    if known.silent is not None:
        line = CommandLine(f'"{installer.name}" {known.silent}'.strip(), "certain", Evidence("person", "--silent"))
        silent = msgspec.structs.replace(silent, install=line)
    if known.uninstall is not None:
        line = CommandLine(known.uninstall, "certain", Evidence("person", "--uninstall"))
        if setups.removal(line) is None:
            raise Usage(
                "--uninstall begins with the program in double quotes, as "
                '"C:\\Program Files\\Tidewell\\remove.exe" /S, or is msiexec /x {PRODUCT CODE}'
            )
        silent = msgspec.structs.replace(silent, uninstall=line)
    return msgspec.structs.replace(account, silent=silent)


def propose(
    installer: Path,
    overlays: Sequence[Path],
    office: Office,
    origin: str = "",
    take: Sequence[str] = (),
    known: Known | None = None,
) -> Proposal:
    """A plan for an installer with the transforms and patches that go onto it, in order; ``origin`` is known of what
    lay in an image, ``take`` are patterns of files beside the installer that come along.

    Raises Usage, Unreadable, NotCovered.
    """
    account = _as_known(recognise.read(installer), installer, known)
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
    digests = {name: measured(path) for name, path in media.items()}
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


def header(name: str) -> tomlkit.TOMLDocument:
    """An empty plan with its first line."""
    document = tomlkit.document()
    document.add(
        tomlkit.comment(
            writing.remark(
                f"What the package for {name} is. Lines marked {DECIDE} wait for a person; then: yendo check"
            )
        )
    )
    return document


def _defaults(account: InstallerAccount, along: _Overlays) -> list[tuple[str, str, str]]:
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


def default_lines(account: InstallerAccount, said: dict[str, tuple[str, str]]) -> list[str]:
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
    account: InstallerAccount,
    path: Path,
    media: dict[str, tuple[str, int]],
    decisions: list[str],
    along: _Overlays,
    office: Office,
    origin: str,
) -> tomlkit.TOMLDocument:
    name = writing.remark(account.identity.name or path.name)
    document = header(name)
    document.add("package", _package(account, path.name, along, office, decisions))
    document.add("media", _media(media, origin, decisions))
    document.add("when", _when(account, decisions))
    if account.processes:
        way = tomlkit.table()
        way.add("programs", list(account.processes))
        way["programs"].comment("the installer's own programs; they must not run meanwhile")
        document.add("in_the_way", way)
    if account.family == "msix":
        return _app(document, account, path, decisions)
    if account.family != "msi":
        return _setup(document, account, path, decisions)
    document.add("install", writing.array(*_database(account, path.name, along, decisions)))
    _taken_back(document, account, path.name)
    if account.takes:
        titles = ", ".join(systems.system(name).title for name in account.takes)
        document["when"]["os"] = _range_of(account.takes)
        document["when"]["os"].comment(writing.remark(f"{DECIDE}: the installer refuses others: {account.refused}"))
        decisions[:] = [one for one in decisions if not one.startswith("when.os:")]
        decisions.append(f"when.os: the installer refuses others ({account.refused}); it takes {titles}")
    elif account.refused and not account.wanting:
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
        proof.add("there", writing.inline(*(msgspec.to_builtins(one.there) for one in account.wanting)))
    if rehearsed is not None and any(one.effects for one in rehearsed.left or ()):
        _left(document, proof, rehearsed, path, decisions)
    if proof:
        document.add("proof", proof)
    return document


def _range_of(takes: Sequence[str]) -> str:
    """The builds of these Windows, as a range that leaves out what is known not to be taken."""
    known = {name: one.build for name, one in systems.systems().items()}
    taken = [known[name] for name in takes]
    above = [build for name, build in known.items() if name not in takes and build > max(taken)]
    return f">=10.0.{min(taken)}" + (f", <10.0.{min(above)}" if above else "")


def _need(account: InstallerAccount, decisions: list[str]) -> tomlkit.items.AoT:
    """What the vendor asks for and a fresh machine has not: expected from outside, unless a person says what brings
    it.
    """
    table = tomlkit.table()
    table.add("note", writing.remark(account.refused or ""))
    question = "which package brings it (package, from); until then it is expected to be there"
    table["note"].comment(f"{DECIDE}: {question}")
    table.add("holds", writing.inline(*(msgspec.to_builtins(one.holds) for one in account.wanting)))
    decisions.append(f"need.note: the installer refuses without it: {account.refused}; {question}")
    return writing.array(table)


def _rehearsed(account: InstallerAccount, installer: Path, along: _Overlays) -> rehearsal.Rehearsed | None:
    known = account.wanting or account.takes
    small = rehearsal.is_small(account)
    if (account.refused and not known) or (account.family == "msi" and not small):
        return None
    lines: rehearsal.Lines | None
    if account.family == "msi":
        defaults = {name: value for name, value, _ in _defaults(account, along)}
        lines = rehearsal.of_database(installer, account, along.transforms, along.patches, defaults)
    else:
        lines = rehearsal.of_setup(installer, account.silent)
    return rehearsal.rehearse(lines, derives=small) if lines is not None else None


def _rules(rehearsed: rehearsal.Rehearsed | None, account: InstallerAccount, along: _Overlays) -> list[Rule]:
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
    left = rehearsed.left or ()
    steps = None if kept else leftovers.steps(left)
    if steps:
        steps[0]["kind"].comment("its own uninstall leaves this behind")
        for step in steps:
            writing.part(document, "uninstall").append(step)
        return
    names = list(dict.fromkeys(effect.left for one in left for effect in one.effects))
    proof.add("accept", tomlkit.array())
    proof["accept"].extend(writing.literal(name) for name in names)
    proof["accept"].multiline(len(names) > 1)
    if kept:
        proof["accept"].comment(writing.remark(f"the vendor keeps it: permanent components {', '.join(kept[:5])}"))
    else:
        proof["accept"].comment(f"{DECIDE}: nothing removes it; accept it, or add steps to [[uninstall]]")
        decisions.append("proof.accept: nothing removes it; accept it, or add steps to [[uninstall]]")


def _package(
    account: InstallerAccount, installer: str, along: _Overlays, office: Office, decisions: list[str]
) -> Table:
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


def medium(name: str, sha256: str, size: int, origin: str = "") -> Table:
    """A vendor's file in a plan; where it came from is a question where nobody knows."""
    entry = tomlkit.table()
    for key, value in (("file", name), ("sha256", sha256), ("size", size), ("origin", origin)):
        entry.add(key, value)
    if not origin:
        entry["origin"].comment(f"{DECIDE}: where the file came from")
    return entry


def _media(media: dict[str, tuple[str, int]], origin: str, decisions: list[str]) -> tomlkit.items.AoT:
    """The vendor's files with their hashes."""
    entries = tomlkit.aot()
    for name, (sha256, size) in media.items():
        entries.append(medium(name, sha256, size, origin))
    if not origin:
        decisions.append("media.origin: where the vendor's file came from")
    return entries


def _when(account: InstallerAccount, decisions: list[str]) -> Table:
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


def _database(account: InstallerAccount, installer: str, along: _Overlays, decisions: list[str]) -> list[Table]:
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
            writing.inline(
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
            writing.inline(
                {"kind": "msi-product", "code": identity.product_code or "", "version": f">={version}"}, newer
            ),
        )
        steps.append(step)
    return steps


def _taken_back(document: tomlkit.TOMLDocument, account: InstallerAccount, installer: str) -> None:
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


def _app(
    document: tomlkit.TOMLDocument, account: InstallerAccount, path: Path, decisions: list[str]
) -> tomlkit.TOMLDocument:
    """The rest of a plan whose installer is a modern app package; its removal follows from the step's record."""
    step = writing.table({"kind": "msix", "media": path.name})
    if account.needs:
        step.add("needs", [])
        words = f"the vendor's packages that it needs, in media/: {'; '.join(account.needs)}"
        step["needs"].comment(writing.remark(f"{DECIDE}: {words}"))
        decisions.append(f"install.needs: {words}")
    step.add("timeout", "30 min")
    document.add("install", writing.array(step))
    app = next(effect.thing for effect in account.effects if isinstance(effect.thing, Part))
    rule = AppRule(name=app.name, version=f">={app.value}")
    document.add("detect", writing.rules_of([rule]))
    return document


def _setup(
    document: tomlkit.TOMLDocument, account: InstallerAccount, installer: Path, decisions: list[str]
) -> tomlkit.TOMLDocument:
    """The rest of a plan whose installer is a setup program."""
    install, removal = setups.steps(account, installer.name, DECIDE, decisions)
    document.add("install", writing.array(install))
    rehearsed = _rehearsed(account, installer, _Overlays())
    left = (leftovers.steps(rehearsed.left or ()) or []) if rehearsed is not None else []
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
    if rules := _rules(rehearsed, account, _Overlays()):
        document.add("detect", writing.rules_of(rules))
    else:
        document.add(
            tomlkit.comment(f"{DECIDE}: no detection could be derived from reading; yendo try derives it from a run")
        )
        decisions.append("detect: nothing could be derived from reading; yendo try derives it from a run")
    return document
