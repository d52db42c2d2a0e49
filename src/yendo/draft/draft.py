"""Starting a workspace: the media as they came, extras, and the plan that carries them out."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path

import msgspec
import tomlkit
from tomlkit.items import Table

from yendo import atomic
from yendo.draft import materials, proposing, writing
from yendo.draft.office import Office
from yendo.effects import File
from yendo.errors import Usage
from yendo.installers.account import InstallerAccount
from yendo.installers.images import DiscImage

NOTES = "notes.md"
_NOTHING = proposing.Known()


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
    if (
        not target.exists()
        or target.stat().st_size != source.stat().st_size
        or proposing.measured(target) != proposing.measured(source)
    ):
        part = target.with_name(target.name + ".part")
        shutil.copyfile(source, part)
        part.replace(target)


def from_installer(
    folder: Path,
    installer: Path,
    overlays: Sequence[Path] = (),
    *,
    named_house: Path | None = None,
    origin: str = "",
    take: Sequence[str] = (),
) -> Drafted:
    """Drafts from one installer; see :func:`from_sources`."""
    return from_sources(folder, [installer], overlays, named_house=named_house, origin=origin, take=take)


def _strays(installer: Path, media: Iterable[str], more: Iterable[str]) -> tuple[str, ...]:
    """What lies beside an installer and does not come along."""
    tops = {Path(name).parts[0].lower() for name in (*media, *more)}
    return tuple(sorted(entry.name for entry in installer.parent.iterdir() if entry.name.lower() not in tops))


def _needless(account: InstallerAccount) -> bool:
    """Whether the installer is known to need nothing else."""
    return account.family == "msi" or bool(account.effects and not account.blind_spots)


def _to_try(account: InstallerAccount, document: tomlkit.TOMLDocument) -> bool:
    """Whether a run has to answer something of a setup program: how it is silent, how it goes, or what betrays it."""
    lines = (account.silent.install, account.silent.uninstall)
    guessed = account.silent.install is None or any(line and line.confidence != "certain" for line in lines)
    return account.program is not None and (guessed or "uninstall" not in document or "detect" not in document)


def from_sources(
    folder: Path,
    sources: Sequence[Path],
    overlays: Sequence[Path] = (),
    *,
    target: str | None = None,
    named_house: Path | None = None,
    origin: str = "",
    take: Sequence[str] = (),
    known: proposing.Known = _NOTHING,
) -> Drafted:
    """Drafts from installers, scripts, registry files, drivers, cabinets and folders of files, carried out in their
    order. ``target`` is where the files of folders belong.

    Transforms, patches and what is known of switches go with the first installer. Raises Usage, Unreadable, NotCovered,
    HouseError, TemplateProblem.
    """
    office = Office(folder, named_house)
    _guard(folder)
    materials.guard(folder, sources)
    proposals: dict[Path, proposing.Proposal] = {}
    for path in materials.installers(sources):
        given = ((), (), _NOTHING) if proposals else (overlays, take, known)
        proposals[path] = proposing.propose(path, given[0], office, origin, given[1], given[2])
    pieces = {path: materials.piece(path, target) for path in sources if path not in proposals}
    main = next(iter(proposals.values()), None)
    if main is None and (overlays or take):
        raise Usage("--with and --take go with an installer")
    said = next((piece.package for piece in pieces.values() if piece.package), {})
    document = main.document if main else _bare(sources, office, said)
    decisions = list(main.decisions) if main else _bare_decisions(sources, said)
    _compose(document, sources, proposals, pieces, decisions)
    if main is None:
        office.leave_to_the_house(document, decisions)
    media, extras = _brought(folder, list(proposals.values()), list(pieces.values()))
    if main is None:
        _finish(folder, document, None, decisions, office)
        links = tuple(link for one in pieces.values() for link in (*one.links, *one.left))
        return Drafted(folder / "plan.toml", tuple(media), links, (), tuple(decisions), (), False, True)
    _finish(folder, document, main.account, decisions, office)
    names = {*extras, folder.name, *(path.name for path in sources)}
    return Drafted(
        folder / "plan.toml",
        tuple(media),
        _strays(next(iter(proposals)), media, names),
        main.missing,
        tuple(decisions),
        main.defaults,
        any(_to_try(one.account, one.document) for one in proposals.values()),
        _needless(main.account),
    )


def _brought(
    folder: Path, proposals: Sequence[proposing.Proposal], pieces: Sequence[materials.Piece]
) -> tuple[dict[str, Path], dict[str, Path]]:
    """Puts the media and extras into the workspace; where each is from, by its name there. Raises Usage."""
    media: dict[str, Path] = {}
    for one in proposals:
        for name, path in one.media.items():
            if media.setdefault(name, path) != path:
                raise Usage(f"{media[name]} and {path} have one name in the workspace; draft them apart")
    extras = {name: path for one in proposals for name, path in one.extras.items()}
    extras |= {name: path for one in pieces for name, path in one.extras.items()}
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "extras").mkdir(exist_ok=True)
    for name, path in media.items():
        copy_media(path, folder / "media" / name)
    for name, path in extras.items():
        copy_media(path, folder / "extras" / name)
    for piece in pieces:
        for name, data in piece.made.items():
            atomic.write(folder / "extras" / name, data)
        if piece.image is not None:
            with DiscImage(piece.image) as image:
                for name, inner in piece.inside.items():
                    image.extract(inner, folder / "extras" / name)
    return media, extras


def _compose(
    document: tomlkit.TOMLDocument,
    sources: Sequence[Path],
    proposals: Mapping[Path, proposing.Proposal],
    pieces: Mapping[Path, materials.Piece],
    decisions: list[str],
) -> None:
    """Puts the steps of every source into the plan, in order, and what takes them back, in reverse."""
    install: list[Table] = []
    uninstall: list[Table] = []
    more: dict[str, list[Table]] = {"repair": [], "need": [], "detect": []}
    media: list[Table] = []
    for path in sources:
        if path in proposals:
            theirs = proposals[path].document
            if theirs is not document:
                decisions += [one for one in proposals[path].decisions if one not in decisions]
            install += _tables(theirs, "install")
            uninstall[:0] = _tables(theirs, "uninstall")
            media += _tables(theirs, "media")
            for name, tables in more.items():
                tables += _tables(theirs, name)
            continue
        _put(pieces[path], install, decisions)
        more["detect"] += list(writing.rules_of(pieces[path].rules))
    if any(not piece.package.get("permanent") for piece in pieces.values()):
        uninstall.append(writing.table({"kind": "take-back", "timeout": "5 min"}))
    _asking(document, pieces.values())
    _for_builds(document, [piece.when for piece in pieces.values() if piece.when], decisions)
    if any(piece.marked for piece in pieces.values()):
        document.add("mark", True)
        writing.remarked(document, "mark", "nothing else tells that all of it was done")
    if len(sources) == 1 and proposals:
        return  # the one installer's plan is whole as it is
    if len(proposals) > 1:
        document["media"] = writing.array(*media)
    proof = document.pop("proof", None)
    for name, tables in {"install": install, "uninstall": uninstall, **more}.items():
        document.pop(name, None)
        if tables:
            document.add(name, writing.array(*tables))
    if proof is not None:
        document.add("proof", proof)


def _asking(document: tomlkit.TOMLDocument, pieces: Collection[materials.Piece]) -> None:
    """That a person is asked first, and what the machine of the proof has, where a material wants it."""
    if any(piece.asks for piece in pieces) and "in_the_way" not in document:
        way = {"ask": True, "always": True, "wait": "10 min", "postpone": 3, "postpone_for": "3 days"}
        document.add("in_the_way", writing.table(way))
        writing.part(document, "in_the_way").add("text", writing.entry({"en": materials.ASKED}))
    if (held := [rule for piece in pieces for rule in piece.proved_on]) and "proof" not in document:
        proof = tomlkit.table()
        proof.add("there", writing.inline(*map(msgspec.to_builtins, held)))
        document.add("proof", proof)


def _put(piece: materials.Piece, install: list[Table], decisions: list[str]) -> None:
    """The steps of a material, each question beside the key that it is about."""
    for step, questions in (*piece.before, (piece.install, piece.open)):
        install.append(step)
        for key, question in questions.items():
            writing.remarked(step, key, f"{proposing.DECIDE}: {question}")
            decisions.append(f"install.{len(install)}.{key}: {question}")


def _for_builds(document: tomlkit.TOMLDocument, lines: Sequence[str], decisions: list[str]) -> None:
    """The run condition that what is brought fits the build of Windows; where there is one already, a question."""
    for line in dict.fromkeys(lines):
        if "when" in document:
            decisions.append(f"when: {line}, since what is added is for these builds")
        else:
            document.add("when", tomlkit.parse(f"[when]\n{line}\n")["when"])  # type: ignore[arg-type]


def _tables(document: tomlkit.TOMLDocument, name: str) -> list[Table]:
    return list(writing.part(document, name)) if name in document else []


def _bare_decisions(sources: Sequence[Path], said: Mapping[str, str]) -> list[str]:
    what = "these files" if len(sources) == 1 and sources[0].is_dir() else "the package"
    version = [] if said.get("version") else [f"package.version: the version of {what}"]
    return [*version, "package.contact: who answers for this package"]


def _bare(sources: Sequence[Path], office: Office, said: Mapping[str, str]) -> tomlkit.TOMLDocument:
    """A plan without a vendor's installer: named after the first of its materials, or by what a driver says."""
    name = said.get("name") or (sources[0].stem if sources[0].is_file() else sources[0].name)
    document = proposing.header(name)
    package = tomlkit.table()
    for key, value in (
        ("id", office.identifier(said.get("publisher"), name)),
        ("name", name),
        ("version", said.get("version") or "1"),
        ("revision", 1),
        *([("publisher", said["publisher"])] if said.get("publisher") else []),
        ("architecture", said.get("architecture") or "any"),
        ("scope", "machine"),
        ("contact", ""),
        *([("permanent", said["permanent"])] if said.get("permanent") else []),
    ):
        package.add(key, value)
    for decision in _bare_decisions(sources, said):
        key, _, question = decision.removeprefix("package.").partition(": ")
        package[key].comment(f"{proposing.DECIDE}: {question}")
    document.add("package", package)
    return document


def evidence_of(account: InstallerAccount, text: bytes) -> dict[str, object]:
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
    folder: Path, document: tomlkit.TOMLDocument, account: InstallerAccount | None, decisions: list[str], office: Office
) -> None:
    text = office.plan(folder, writing.spaced(tomlkit.dumps(document)), account, decisions).encode()
    bare: dict[str, object] = {"schema": "yendo.evidence/1", "plan_sha256": hashlib.sha256(text).hexdigest()}
    write_evidence(folder, evidence_of(account, text) if account else bare)
    if account and not (folder / NOTES).exists():
        atomic.write(folder / NOTES, office.notes(account, decisions).encode())
    atomic.write(folder / "plan.toml", text)
