"""The hand-over sheet: all that a person at a management system types, uploads or chooses, in one order.

Identity, contents, commands, conditions, detection, proof, and what the office wishes. No system's own form is written;
the same as JSON, or a template of the house, renders it into whatever is wanted.
"""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import msgspec

from yendo import templates, texts
from yendo.errors import YendoError
from yendo.formats.msi import Database
from yendo.formats.pe import Image
from yendo.package import manifest as form
from yendo.plan.house import HouseGiven
from yendo.plan.model import VERBS
from yendo.prove.proof import Proof
from yendo.prove.prove import digest_of, kept
from yendo.steps.host import signed
from yendo.steps.restart import RestartData

SCHEMA = "yendo.sheet/1"
MAX_ICON = 1 << 20


class Command(msgspec.Struct, frozen=True):
    """What is typed for a verb, and how long it may take at most, in seconds."""

    verb: str
    line: str
    most_seconds: int


class ReturnCode(msgspec.Struct, frozen=True):
    code: int
    meaning: str
    outcome: str


class SheetChoice(msgspec.Struct, frozen=True):
    """A value to choose at delivery. ``usual`` is None where it has to be given."""

    name: str
    meaning: str
    allowed: str
    usual: str | None
    secret: bool


class Proved(msgspec.Struct, frozen=True):
    """A proof of these bytes: in which scenario, on which machine, how it ended, seconds that the commands took."""

    scenario: str
    machine: str
    verdict: str
    seconds: float
    runner_executed: bool


class Sheet(msgspec.Struct, frozen=True, kw_only=True):
    """Sizes in bytes, dates as ISO. ``icon`` is a data URI, empty where there is none."""

    schema: str = SCHEMA
    id: str
    name: str
    version: str
    revision: int
    publisher: str
    description: str
    notes: str
    permanent: str
    owner: str
    contact: str
    support: str
    category: str
    keywords: tuple[str, ...]
    date: str
    language: str
    architecture: str
    office: str
    icon: str
    digest: str
    files: int
    size: int
    stays: int
    commands: tuple[Command, ...]
    account: str
    exit_codes: tuple[ReturnCode, ...]
    restart: str
    closes: tuple[str, ...]
    asks: bool
    settings: tuple[SheetChoice, ...]
    sites: tuple[str, ...]
    conditions: tuple[str, ...]
    needs: tuple[str, ...]
    detection: tuple[str, ...]
    detection_script: str
    logs: str
    proofs: tuple[Proved, ...]
    wishes: dict[str, Any] | None


def sheet(package: Path, furnished: HouseGiven | None = None) -> Sheet:
    """The sheet of a built package. Raises Unreadable."""
    manifest = form.read(package)
    about, digest = manifest.about, digest_of(package)
    size = sum(file.size for file in manifest.files)
    stays = {"all": size, "nothing": 0}.get(
        manifest.keep, sum(file.size for file in manifest.files if not file.path.startswith("media/"))
    )
    return Sheet(
        id=manifest.id,
        name=manifest.name,
        version=manifest.version,
        revision=manifest.revision,
        publisher=manifest.publisher,
        description=about.description,
        notes=about.notes,
        permanent=manifest.permanent,
        owner=about.owner,
        contact=manifest.contact,
        support=about.support,
        category=about.category,
        keywords=about.keywords,
        date=about.date,
        language=about.language,
        architecture=manifest.architecture,
        office=furnished.house.name if furnished else "",
        icon=_icon(package, manifest),
        digest=digest,
        files=len(manifest.files) + 1,
        size=size,
        stays=stays,
        commands=_commands(manifest),
        account=_account(manifest),
        exit_codes=_codes(manifest),
        restart=_restart(manifest),
        closes=tuple(dict.fromkeys(name for way in manifest.in_the_way.values() for name in way.programs)),
        asks=any(way.ask for way in manifest.in_the_way.values()),
        settings=_settings(manifest),
        sites=tuple(site for site in form.sites_of(manifest) if site),
        conditions=tuple(node.in_words for node in manifest.when),
        needs=tuple(need.in_words for need in manifest.needs),
        detection=tuple(rule.title for rule in manifest.detect),
        detection_script="detect.ps1",
        logs=manifest.logs,
        proofs=tuple(_proved(proof) for proof in kept(package) if proof.digest == digest),
        wishes=None if about.wishes is None else msgspec.to_builtins(about.wishes),
    )


def page(found: Sheet, furnished: HouseGiven | None = None) -> str:
    """The sheet as one HTML page that needs nothing else, by the office's template where it has one.

    Raises TemplateProblem, HouseError.
    """
    own = furnished.house.templates.sheet if furnished else None
    return templates.render("sheet.html", furnished.beside(own) if furnished and own else None, sheet=found)


def _commands(manifest: form.Manifest) -> tuple[Command, ...]:
    # the machine remembers the site for what comes later
    more = {"install": " -Site NAME"} if any(form.sites_of(manifest)) else {}
    return tuple(
        Command(
            verb,
            f"apply.cmd {verb}{more.get(verb, '')}",
            round(sum(action.timeout for action in manifest.actions(verb))),
        )
        for verb in VERBS
        if manifest.actions(verb)
    )


def _account(manifest: form.Manifest) -> str:
    if manifest.scope == "user":
        return "the person who uses it"
    people = [action.title for action in manifest.install if action.run_as == "person"]
    return "the system account" + (f"; it does this as whoever is logged on: {', '.join(people)}" if people else "")


def _restart(manifest: form.Manifest) -> str:
    """Whether a machine restarts, in words."""
    kinds = [action for action in manifest.install if action.kind == "restart"]
    if any(RestartData.of(action).where == "always" for action in kinds):
        return "it restarts the machine in its middle, and goes on by itself"
    if kinds:
        return "it restarts the machine in its middle where a step asks for it, and goes on by itself"
    if any("restarting" in action.codes.values() or "restart" in action.codes.values() for action in manifest.install):
        return "none by itself; exit code 3010 or 1641 where the installer asks for one"
    return "none"


def _codes(manifest: form.Manifest) -> tuple[ReturnCode, ...]:
    """The codes that matter: the runner's own, and those of a step that end a run and say something of their own."""
    own = {code: ReturnCode(code, known.meaning, known.outcome) for code, known in form.EXIT_CODES.items()}
    for action in (*manifest.install, *manifest.uninstall):
        for text, meaning in action.codes.items():
            code = signed(int(text))
            if meaning == "failed" and code not in own:
                own[code] = ReturnCode(code, f"{action.title} failed, as its vendor says it", "failure")
    return tuple(
        sorted(own.values(), key=lambda one: (one.outcome == "failure", "success" not in one.outcome, one.code))
    )


def _settings(manifest: form.Manifest) -> tuple[SheetChoice, ...]:
    return tuple(
        SheetChoice(
            name,
            one.meaning,
            one.allowed_in_words,
            None if one.default is None or one.secret else one.text_of(one.default, said=True),
            one.secret,
        )
        for name, one in manifest.settings.items()
    )


def _proved(proof: Proof) -> Proved:
    verdict = "proved" if proof.passed else "failed" if proof.outcome == "failed" else "not proved here"
    return Proved(proof.scenario, proof.label, verdict, round(proof.command_seconds, 1), proof.runner_executed)


def _icon(package: Path, manifest: form.Manifest) -> str:
    """The picture that the plan names, else that of an installer in the package, as an address; empty without one."""
    try:
        picture = _picture(package, manifest)
    except (OSError, YendoError, ValueError):
        return ""  # a sheet without a picture is a sheet
    return texts.carried(picture) if picture and len(picture) <= MAX_ICON else ""


def _picture(package: Path, manifest: form.Manifest) -> bytes | None:
    if manifest.about.icon:
        return (package / manifest.about.icon).read_bytes()
    names = [file.path for file in manifest.files if file.path.startswith("media/")]
    found = (_of_installer(package / name) for name in names if name.lower().endswith((".exe", ".msi")))
    return next(filter(None, found), None)


def _of_installer(path: Path) -> bytes | None:
    if path.suffix.lower() == ".exe":
        with path.open("rb") as file:
            return Image(file, path.name).icon()
    with Database(path) as database:
        named = next((row.text("Value") for row in database["Property"].where(Property="ARPPRODUCTICON")), "")
        entry = database.stream(f"Icon.{named}") if named else None
        data = entry.read() if entry and entry.size <= MAX_ICON else b""
    return Image(io.BytesIO(data), named).icon() if data[:2] == b"MZ" else data or None
