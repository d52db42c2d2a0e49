"""The manifest: a plan with everything resolved, as it lies in the package."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import msgspec

from yendo.errors import Unreadable, Usage
from yendo.facts import secrets
from yendo.plan import Plan, mark
from yendo.plan.model import VERBS, Way, Wishes
from yendo.platforms.windows import exit_codes, paths
from yendo.platforms.windows.surroundings import expand
from yendo.steps import Action, At, Step, expanded, kind_of
from yendo.steps import home as layout
from yendo.steps.base import below
from yendo.steps.host import HOME, STEP_FAILED, TIMED_OUT
from yendo.steps.msi import MsiStep, delivered, product_code
from yendo.steps.msi import command as _msi_command
from yendo.steps.take_back import TakeBackStep
from yendo.terms import settings as places
from yendo.terms.amounts import seconds
from yendo.terms.rules import Rule
from yendo.terms.settings import Setting
from yendo.terms.when import Node
from yendo.terms.when import resolve as resolve_condition

SCHEMA = "yendo.manifest/2"
CONTENT = ("media/", "extras/", "transforms/", "made/")  # what the steps use, so what must be whole

# The runner's own exit codes; every other one is the installer's.
LATER = exit_codes.BUSY
NOT_APPLICABLE, DAMAGED, WRONG_USE, NO_LOG, RUNNING, POSTPONED = 20, 21, 24, 25, 26, 27
RESTRICTED, NEED_MISSING, NOT_DETECTED, REFUSED, UNSETTLED, EXPOSED, NEEDED, UNSAFE, UNSIGNED = (
    28,
    29,
    30,
    31,
    32,
    33,
    34,
    35,
    36,
)


class ExitCode(msgspec.Struct, frozen=True):
    """What the runner's exit code means, and which of the usual outcomes of management systems it is."""

    meaning: str
    outcome: str


EXIT_CODES: dict[int, ExitCode] = {
    0: ExitCode("done", "success"),
    exit_codes.NEEDS_RESTART: ExitCode("done, a restart is needed", "success with restart"),
    exit_codes.RESTARTING: ExitCode(
        "done or in the middle, a restart has been started; what is left goes on after it", "success with restart"
    ),
    LATER: ExitCode(
        "not now: another installation was running the whole time, or a condition that can change does not hold",
        "retry later",
    ),
    NOT_APPLICABLE: ExitCode("not applicable on this machine (run conditions)", "not applicable"),
    DAMAGED: ExitCode("the package is damaged: a file is missing or has changed", "failure"),
    TIMED_OUT: ExitCode("a step took longer than its time limit and did nothing any more", "failure"),
    STEP_FAILED: ExitCode("a step failed that has no exit code of its own", "failure"),
    WRONG_USE: ExitCode("called with an unknown verb or value", "failure"),
    NO_LOG: ExitCode("the log cannot be written, so nothing was begun", "failure"),
    RUNNING: ExitCode("this package is at work on this machine already", "in progress"),
    POSTPONED: ExitCode("the person has postponed it", "retry later"),
    RESTRICTED: ExitCode(
        "PowerShell runs in a restricted language mode here; the script has to be signed and trusted", "failure"
    ),
    NEED_MISSING: ExitCode(
        "a prerequisite is missing and this package does not bring it, or nobody is there to agree to it", "failure"
    ),
    NOT_DETECTED: ExitCode("every step ended well, and the package is still not detected", "failure"),
    REFUSED: ExitCode("the person did not agree to a prerequisite", "failure"),
    UNSETTLED: ExitCode("a setting is unknown, missing, or not as its plan allows; nothing was begun", "failure"),
    EXPOSED: ExitCode(
        "the file with the values can be read or changed by others, or a secret was given on a command line", "failure"
    ),
    NEEDED: ExitCode("another package needs this one, so it was not removed", "failure"),
    UNSIGNED: ExitCode(
        "this machine takes signed packages only, and this one is not signed by one of its signers, or has changed "
        "since",
        "failure",
    ),
    UNSAFE: ExitCode(
        "what it keeps on the machine could be written by others and cannot be made safe, so nothing was begun",
        "failure",
    ),
}


class PackedFile(msgspec.Struct, frozen=True):
    """A file of the package; ``size`` in bytes."""

    path: str
    size: int
    sha256: str


class ResolvedInTheWay(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is in the way of one verb, resolved; times in seconds."""

    programs: tuple[str, ...] = ()
    wait: float = 120.0
    ask: bool = False
    always: bool = False
    postpone: int = 3
    postpone_for: float = 3 * 86400.0
    in_use: tuple[str, ...] = ()
    text: dict[str, str] = {}


class Needed(msgspec.Struct, frozen=True, omit_defaults=True):
    """A prerequisite, resolved.

    ``folder`` of the package that is brought along, ``""`` where it is expected from outside.
    """

    package: str = ""
    version: str = ""
    folder: str = ""
    holds: tuple[Rule, ...] = ()
    consent: dict[str, str] = {}
    remove: bool = False

    @property
    def in_words(self) -> str:
        what = f"{self.package or 'a fact'} {self.version}".strip()
        return what + (", brought along" if self.folder else ", expected to be there")


class FromHouse(msgspec.Struct, frozen=True):
    """What the plan has from its house: the file's name, the office, and each value given with its line
    in that file.
    """

    file: str
    name: str
    given: dict[str, int] = {}


class About(msgspec.Struct, frozen=True, omit_defaults=True):
    """What people are told of the package; no machine does anything else for it. ``icon`` is a file of the package."""

    description: str = ""
    notes: str = ""
    owner: str = ""
    date: str = ""
    category: str = ""
    keywords: tuple[str, ...] = ()
    support: str = ""
    icon: str = ""
    language: str = ""
    wishes: Wishes | None = None


class Manifest(msgspec.Struct, frozen=True, kw_only=True):
    """``keep``: all, scripts or nothing. ``in_the_way`` by verb. ``chosen`` are the values that its places were filled
    with.

    ``home``: the folder where packages keep what they need later.
    """

    schema: str = SCHEMA
    id: str
    name: str
    version: str
    revision: int
    publisher: str
    architecture: str
    scope: str
    when: tuple[Node, ...] = ()
    needs: tuple[Needed, ...] = ()
    in_the_way: dict[str, ResolvedInTheWay] = {}
    progress: bool = False
    keep: str = "nothing"
    exclusive: float = 0.0
    install_mode: bool = False
    only_signed: bool = False
    logs: str
    home: str = HOME
    install: tuple[Action, ...]
    uninstall: tuple[Action, ...]
    repair: tuple[Action, ...]
    detect: tuple[Rule, ...]
    files: tuple[PackedFile, ...]
    properties: dict[str, dict[str, str]] = {}  # medium -> properties of the plan, for predictions
    tool: str = ""
    secrets: tuple[str, ...] = ()  # values that no log may show
    settings: dict[str, Setting] = {}
    sites: dict[str, dict[str, str]] = {}
    chosen: dict[str, str] = {}
    house: FromHouse | None = None
    contact: str = ""
    about: About = About()
    permanent: str = ""  # why it cannot be removed

    def actions(self, verb: str) -> tuple[Action, ...]:
        return {"install": self.install, "uninstall": self.uninstall, "repair": self.repair}[verb]

    @property
    def run(self) -> str:
        """What the runner carries out, as a hash: an unfinished run of other content is not continued."""
        import hashlib

        return hashlib.sha256(encode(msgspec.structs.replace(self, files=(), tool="", about=About()))).hexdigest()[:16]


def used(manifest: Manifest, verb: str) -> list[str]:
    """The settings that a verb cannot do without: install, uninstall, repair or detect."""
    parts = (
        [manifest.detect]
        if verb == "detect"
        else [manifest.actions(verb), manifest.when if verb != "uninstall" else ()]
    )
    names = places.names_in(
        [*parts, manifest.needs if verb == "install" else (), manifest.detect if verb == "install" else ()]
    )
    return sorted(names)


def sites_of(manifest: Manifest) -> tuple[str, ...]:
    """The named sets of values that a package is proved with; one without a name where it has none."""
    return tuple(manifest.sites) or ("",)


def with_values(
    manifest: Manifest,
    environment: Mapping[str, str],
    *layers: Mapping[str, places.SettingValue],
    verb: str | None = None,
) -> Manifest:
    """The manifest as it is with values; a later layer is stronger.

    ``verb`` asks only for what that needs. Raises SettingError.
    """
    if not manifest.settings:
        return manifest
    values = places.settle(manifest.settings, *layers, needed=used(manifest, verb) if verb else None)
    folders = {
        name: expand(value, environment) for name, value in values.items() if manifest.settings[name].type == "folder"
    }
    return settled(manifest, values | folders)


def settled(manifest: Manifest, values: Mapping[str, str]) -> Manifest:
    """The manifest with every place filled; ``values`` as ``settle`` gives them, folders expanded.

    Secrets join what no log may show.
    """
    if not manifest.settings:
        return manifest
    known = manifest.settings
    body = msgspec.to_builtins(msgspec.structs.replace(manifest, settings={}, sites={}))
    full: Manifest = msgspec.convert(places.fill(body, lambda text: places.fill_text(text, known, values)), Manifest)
    hidden = {value for name, value in values.items() if known[name].secret and value}
    chosen = {name: value for name, value in values.items() if not known[name].secret}
    return msgspec.structs.replace(
        full, settings=known, sites=manifest.sites, chosen=chosen, secrets=tuple(sorted({*manifest.secrets, *hidden}))
    )


def needed_first(need: Needed) -> Action:
    """What brings a prerequisite: the package in a folder of this one."""
    return Action(
        "include",
        f"install the prerequisite {need.package}",
        data={"folder": need.folder, "verb": "install"},
        codes={"0": "done"},
    )


def encode(manifest: Manifest) -> bytes:
    """The same manifest gives the same bytes."""
    return msgspec.json.format(msgspec.json.encode(manifest, order="deterministic"), indent=2) + b"\n"


def read(package: Path) -> Manifest:
    """The manifest of a built package. Raises Usage where there is none, Unreadable where it is damaged."""
    path = package / "manifest.json"
    if not path.is_file():
        raise Usage(f"{package} is no built package: it has no manifest.json; make one with `yendo build`")
    try:
        return msgspec.json.decode(path.read_bytes(), type=Manifest)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise Unreadable(f"{path}: {error}") from error


def at(
    workspace: Path,
    plan: Plan,
    verb: str,
    number: int,
    digest_of: dict[Path, str] = {},
    steps: tuple[Step, ...] | None = None,
) -> At:
    """Where a step of the plan stands; steps count from 1. Whoever goes through all of a verb has its ``steps``."""
    return At(
        workspace,
        verb,
        number,
        steps_of(workspace, plan, verb) if steps is None else steps,
        digest_of,
        {medium.file: medium.sha256 for medium in plan.media},
        plan.settings,
        plan.install,
    )


def _actions(workspace: Path, plan: Plan, verb: str, digest_of: dict[Path, str]) -> Iterator[Action]:
    """The steps of a verb, resolved. ``digest_of`` knows the hash of every extra file."""
    steps = steps_of(workspace, plan, verb)
    for number in range(1, len(steps) + 1):
        where = at(workspace, plan, verb, number, digest_of, steps)
        found = kind_of(where.step).action(where)
        standing = any(where.step is one for some in plan.standing(verb) for one in some)
        yield msgspec.structs.replace(found, standing=True) if standing else found


def msi_command(plan: Plan, verb: str, number: int) -> str:
    """The command line of an msi step that stands in the plan."""
    return _msi_command(At(Path(), verb, number, plan.steps(verb)))


def steps_of(workspace: Path, plan: Plan, verb: str) -> tuple[Step, ...]:
    """The steps of a verb, between those of the house; those of an uninstall that nobody wrote follow
    from the install.
    """
    written = plan.steps(verb)
    before, after = plan.standing(verb)
    own = expanded(written, workspace, kept(plan)) if written or verb != "uninstall" else derived(workspace, plan)
    steps = (*before, *own, *after) if own or verb == "install" else ()
    if written and verb == "uninstall" and not any(isinstance(step, TakeBackStep) for step in steps):
        # who wrote the plan need not know what the house adds to the install
        added = [step for some in plan.standing("install") for step in some]
        if any(kind_of(step).reversal_of(step) == "by record" for step in added):
            steps = (TakeBackStep(), *steps)
    first, last = mark.steps(plan, verb) if steps else ((), ())
    return (*first, *steps, *last)


def kept(plan: Plan) -> str:
    """The folder on the machine where the package is kept for its uninstall."""
    return layout.kept(plan.log.state, plan.package.id)


def derived(workspace: Path, plan: Plan) -> tuple[Step, ...]:
    """What takes the install back, from its last step to its first: products by their code, the rest by its record."""
    found: list[Step] = []
    before, after = plan.standing("install")
    for step in reversed((*before, *expanded(plan.install, workspace, kept(plan)), *after)):
        if isinstance(step, MsiStep):
            code = product_of(workspace, step)
            if code:
                found.append(MsiStep(product=code, timeout=step.timeout))
        elif kind_of(step).reversal_of(step) == "by record":
            if not found or not isinstance(found[-1], TakeBackStep):
                found.append(TakeBackStep())
        else:
            found += kind_of(step).undo(step)
    once = [
        step
        for number, step in enumerate(found)
        if not isinstance(step, TakeBackStep) or TakeBackStep() not in found[:number]
    ]
    return tuple(once)


def product_of(workspace: Path, step: MsiStep) -> str | None:
    """The code of the product that a step installs, from its database."""
    return product_code(workspace / "media" / step.media) if step.media else None


def _way(way: Way) -> ResolvedInTheWay:
    return ResolvedInTheWay(
        way.names, seconds(way.wait), way.ask, way.always, way.postpone, seconds(way.postpone_for), way.in_use, way.text
    )


def _secret(plan: Plan) -> tuple[str, ...]:
    steps = [step for verb in VERBS for step in plan.steps(verb) if isinstance(step, MsiStep)]
    pairs = [(name, str(value)) for step in steps for name, value in step.properties.items()]
    return tuple(
        sorted({value for name, value in pairs if value and secrets.is_secret(name) and not places.PLACE.search(value)})
    )


def keeps(plan: Plan) -> str:
    """What stays on the machine: all of it where it goes on after a restart or can be repaired, else what an uninstall
    needs.
    """
    if plan.keep:
        return plan.keep
    restarts = any("restart" in kind_of(step).needs for step in plan.install)
    return "all" if plan.repair or restarts else "scripts"


def _about(plan: Plan) -> About:
    package = plan.package
    return About(
        description=package.description,
        notes=package.notes,
        owner=package.owner,
        date=package.date,
        category=package.category,
        keywords=package.keywords,
        support=package.support,
        icon=paths.portable(package.icon),
        language=package.language,
        wishes=plan.wishes,
    )


def _need(workspace: Path, need: Any) -> Needed:
    rules = need.holds
    if need.source:
        inner = read(below(workspace, need.source, "extras"))
        if inner.id != need.package:
            raise Usage(f"the package in {need.source} is {inner.id}, not {need.package}")
        rules = rules or with_values(inner, {}, verb="detect").detect
    folder = paths.portable(need.source.rstrip("/\\")) if need.source else ""
    return Needed(need.package or "", need.version or "", folder, rules, need.consent, need.remove)


def resolve(
    workspace: Path, plan: Plan, files: tuple[PackedFile, ...], digest_of: dict[Path, str], tool: str
) -> Manifest:
    """The manifest of a plan whose files are known. Raises Usage."""
    package = plan.package
    actions = {verb: tuple(_actions(workspace, plan, verb, digest_of)) for verb in VERBS}
    return Manifest(
        id=package.id,
        name=package.name,
        version=package.version,
        revision=package.revision,
        publisher=package.publisher,
        architecture=package.architecture,
        scope=package.scope,
        contact=package.contact,
        about=_about(plan),
        permanent=package.permanent,
        when=resolve_condition(plan.when),
        needs=tuple(_need(workspace, need) for need in plan.need),
        in_the_way={verb: _way(plan.in_the_way.of(verb)) for verb in VERBS},
        progress=plan.in_the_way.progress,
        keep=keeps(plan),
        exclusive=seconds(plan.exclusive),
        install_mode=plan.install_mode,
        only_signed=plan.only_signed,
        secrets=_secret(plan),
        logs=paths.join(plan.log.folder, package.id),
        home=plan.log.state,
        house=FromHouse(plan.furnished.file.name, plan.furnished.house.name, plan.furnished.given)
        if plan.furnished
        else None,
        install=actions["install"],
        uninstall=actions["uninstall"],
        repair=actions["repair"],
        detect=plan.detect,
        files=files,
        settings=plan.settings,
        sites={
            site: {name: plan.settings[name].text_of(value, said=True) for name, value in values.items()}
            for site, values in plan.site.items()
        },
        tool=tool,
        properties={
            step.media: {name: str(value) for name, value in delivered(step).properties.items()}
            | ({"ADDLOCAL": ",".join(step.features)} if step.features else {})
            for step in plan.install
            if isinstance(step, MsiStep) and step.media
        },
    )
