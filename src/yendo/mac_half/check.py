"""Looks the half for macOS over as a colleague would: what the system or a management service refuses, what works here
and not there, what is detected for the wrong reason.

Source: what each rule says in its ``why``; the findings about scripts and places are those of ``yendo.mac``.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from yendo.check.workspace import Finding
from yendo.errors import YendoError
from yendo.mac import bundles, reading
from yendo.mac.app import MacApp
from yendo.mac.findings import item_findings, script_findings
from yendo.mac.package import MacFinding, MacPackage, MacScript
from yendo.mac_half import detection, model, profiles
from yendo.mac_half import reading as plans
from yendo.mac_half.build import FOLDER, digest_of, held, name_of
from yendo.mac_half.model import MacPlan
from yendo.mac_half.work import MacWork, Workshop
from yendo.package import delivered
from yendo.plan import places
from yendo.terms.severity import Severity

MAX_SCRIPT = 1 << 20
_BRINGS = ("/bin/", "/sbin/", "/usr/bin/", "/usr/sbin/", "/usr/libexec/", "/System/")


class MacWorkspace:
    """A workspace's half for macOS, opened for checking. Raises PlanError."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.resolve()
        self.plan: MacPlan
        self.plan, self._lines = plans.read(self.folder)
        self.work: MacWork | None = None
        self.apps: dict[int, list[MacApp]] = {}
        self.packages: dict[int, MacPackage] = {}
        self.trouble = ""

    def line(self, *path: str | int) -> int:
        return places.nearest(self._lines, tuple(path))

    def open(self, place: Path) -> None:
        """Takes in all that the steps name; what cannot be taken is ``trouble``."""
        try:
            self.work = Workshop(self.folder, self.plan, place).done
            profiles.payloads_of(self.plan, self.work)
            detection.script_of(self.plan, self.work.items)
            for at, step in enumerate(self.plan.install):
                if isinstance(step, model.AppStep):
                    self.apps[at] = list(self._apps(step, place))
                elif isinstance(step, model.VendorPackageStep):
                    self.packages[at] = reading.read(self.folder / "media" / step.source)
        except YendoError as error:
            self.trouble = str(error)

    def _apps(self, step: model.AppStep, place: Path) -> Iterator[MacApp]:
        for source in filter(None, (step.source, step.intel)):
            path = self.folder / "media" / source
            if step.inside:
                found = next((one for one in place.glob(f"image-*/{step.inside}") if one.is_dir()), None)
                path = found or path
            yield bundles.read(path)


def check(folder: Path) -> list[Finding]:
    """All findings, in the order of their lines. Raises PlanError."""
    workspace = MacWorkspace(folder)
    with tempfile.TemporaryDirectory(prefix="yendo-mac-") as place:
        workspace.open(Path(place))
        found = [one for rule in _RULES for one in rule(workspace)]
    return sorted(found, key=lambda one: (one.line, one.rule))


def _finding(
    workspace: MacWorkspace, rule: str, severity: Severity, where: tuple[str | int, ...], what: str, why: str, do: str
) -> Finding:
    return Finding(rule, severity, workspace.line(*where), what, why, do, plans.NAME)


def _media(workspace: MacWorkspace) -> Iterator[Finding]:
    for at, (medium, problem) in enumerate(held(workspace.folder, workspace.plan)):
        if problem:
            why = "what is built has to be what was looked at"
            do = "get it again, or draft again"
            yield _finding(workspace, "medium", "error", ("media", at), f"{medium}: {problem}", why, do)
    if workspace.trouble:
        why, do = "nothing can be built of it", "mend the step that it is about"
        yield _finding(workspace, "cannot-be-built", "error", ("install", 0), workspace.trouble, why, do)
    known = {medium.file for medium in workspace.plan.media}
    for at, step in enumerate(workspace.plan.install):
        for name in _sources(step):
            if name not in known and not (workspace.folder / "extras" / name).exists():
                what = f"{name} is no medium of this plan"
                do = "add it under [[media]] with its digest, or put it below extras/"
                yield _finding(workspace, "medium", "error", ("install", at), what, "nobody holds what it is", do)


def _sources(step: model.AnyMacStep) -> list[str]:
    match step:
        case model.AppStep():
            return [step.source, *([step.intel] if step.intel else [])]
        case model.VendorPackageStep() | model.FilesStep():
            return [step.source]
    return []


def _identity(workspace: MacWorkspace) -> Iterator[Finding]:
    own = workspace.plan.package.identifier
    where = ("package", "identifier")
    if own.startswith("local."):
        why = "a receipt of this name is nobody's, and the next package may have it too"
        do = "write one that begins with your office's own name, backwards: example.marrowby.lantern"
        yield _finding(workspace, "undecided", "error", where, f"identifier {own} was left as drafted", why, do)
    theirs = {bundle.identifier for bundle in workspace.work.bundles} if workspace.work else set()
    theirs |= {one.identifier for package in workspace.packages.values() for one in package.components}
    if own in theirs:
        why = "the vendor's own package and yours would take each other's files, and each other's receipt"
        do = "give the package a name of your office's"
        yield _finding(workspace, "identifier-taken", "error", where, f"{own} is the vendor's own", why, do)
    for path in sorted(workspace.folder.parent.glob(f"*/{plans.NAME}")):
        if path.parent.resolve() == workspace.folder:
            continue
        try:
            other, _ = plans.read(path.parent)
        except YendoError:
            continue  # its own check tells that
        if other.package.identifier == own:
            what = f"{path.parent.name} has the identifier {own} too"
            why = "the one that is installed last takes the other's receipt, and its files go with it"
            yield _finding(workspace, "identifier-taken", "error", where, what, why, "each package needs its own")


def _programs(workspace: MacWorkspace) -> Iterator[Finding]:
    package = workspace.plan.package
    for at, apps in workspace.apps.items():
        where = ("install", at)
        there = {one for app in apps if app.code for one in app.code[0].processors}
        for missing in sorted(set(package.processors) - there if there else ()):
            what = f"{apps[0].name} has nothing for {missing}"
            why = "on such a machine it is installed and does not start" + (
                ", or asks for Rosetta" if missing == "arm64" else ""
            )
            do = f"take {missing} out of processors, or bring the program for it with intel"
            yield _finding(workspace, "processor-missing", "error", ("package", "processors"), what, why, do)
        for app in apps:
            if app.oldest and _order(app.oldest) > _order(package.oldest):
                what = f"{app.name} needs macOS {app.oldest}, and the package takes {package.oldest}"
                why, do = "there it is installed and does not start", f'oldest = "{app.oldest}"'
                yield _finding(workspace, "too-old", "error", ("package", "oldest"), what, why, do)
            if app.sealed == "broken":
                names = ", ".join(name for name, _ in app.differing[:3])
                what = f"{app.name} is not what its maker sealed: {names}"
                why = "the system says that it is damaged and does not open it"
                do = "settings belong into a step of settings, and not into the bundle"
                yield _finding(workspace, "broken-seal", "error", where, what, why, do)
            yield from _notary(workspace, at, app)
            yield from _asked(workspace, at, app)
            if app.code and app.code[0].held in ("none", "ad hoc"):
                what = f"{app.name} is {app.code[0].words}"
                runs = {
                    "none": "on Apple's own processors unsigned code does not run",
                    "ad hoc": "where it was fetched, the system does not open it",
                }
                why = f"{runs[app.code[0].held]}, and no rule can name who made it"
                yield _finding(workspace, "unsigned", "warning", where, what, why, "ask its maker for a signed one")


def _notary(workspace: MacWorkspace, at: int, app: MacApp) -> Iterator[Finding]:
    """What the notary or Gatekeeper would say of a bundle that somebody has signed; of others there is no question."""
    if not app.code or app.code[0].held not in ("holds", "broken"):
        return
    for found in app.findings:
        if found.id in _NOTARY:
            where = f"{found.where}: " if found.where else ""
            level: Severity = "note" if found.level == "note" else "warning"
            why = "a bundle that is not notarised is refused where it was fetched, and the vendor alone can mend it"
            yield _finding(workspace, found.id, level, ("install", at), where + found.what, why, found.advice)


# What a profile can allow in the person's place, by what the bundle says it will ask for.
_ALLOWED: dict[str, tuple[model.PrivacyService, ...]] = {
    "contacts": ("AddressBook",),
    "calendars": ("Calendar",),
    "reminders": ("Reminders",),
    "photos": ("Photos",),
    "the Desktop folder": ("SystemPolicyDesktopFolder", "SystemPolicyAllFiles"),
    "the Documents folder": ("SystemPolicyDocumentsFolder", "SystemPolicyAllFiles"),
    "the Downloads folder": ("SystemPolicyDownloadsFolder", "SystemPolicyAllFiles"),
    "removable volumes": ("SystemPolicyRemovableVolumes", "SystemPolicyAllFiles"),
    "network volumes": ("SystemPolicyNetworkVolumes", "SystemPolicyAllFiles"),
    "settings of the system": ("SystemPolicySysAdminFiles",),
}


def _asked(workspace: MacWorkspace, at: int, app: MacApp) -> Iterator[Finding]:
    """What a person will be asked for though a profile could answer, and what nobody else can answer."""
    steps = [step for step in workspace.plan.install if isinstance(step, model.PrivacyStep)]
    allowed = {service for step in steps if step.bundle == app.identifier for service in step.allow}
    asks = [what for what, _ in app.asks if what in bundles.ASKED.values()]
    answered = [what for what in asks if allowed.intersection(_ALLOWED.get(what, ()))]
    open_ones = [what for what in asks if what in _ALLOWED and what not in answered]
    if open_ones:
        what = f"{app.name} will ask the person for: {', '.join(open_ones)}"
        names = ", ".join(f'"{_ALLOWED[one][0]}"' for one in open_ones)
        do = f'a step of kind "privacy", bundle = "{app.identifier}", allow = [{names}], where the office decided so'
        yield _finding(workspace, "person-asked", "note", ("install", at), what, "a profile can answer that before", do)
    rest = [what for what in asks if what not in _ALLOWED]
    if rest:
        what = f"{app.name} will ask the person for: {', '.join(rest)}"
        why = "no profile can answer that"
        do = "tell the people before"
        yield _finding(workspace, "person-asked", "note", ("install", at), what, why, do)


_NOTARY = frozenset({
    "not-hardened", "no-time-stamp", "debuggable", "no-ticket", "unsigned-inside", "ad-hoc-inside", "other-team",
    "other-root",
})  # fmt: skip


def _order(version: str) -> tuple[int, ...]:
    parts = [int(part) if part.isdigit() else 0 for part in version.split(".")]
    while parts and not parts[-1]:
        parts.pop()
    return tuple(parts)


def _laid(workspace: MacWorkspace) -> Iterator[Finding]:
    if workspace.work is None:
        return
    told: set[str] = set()
    for item in workspace.work.items:
        for found in item_findings(item.path, f"{item.mode:04o}", item.user, item.kind):
            if found.id not in told:  # of a whole folder one is enough
                told.add(found.id)
                yield _of(workspace, found, _step_of(workspace, item.path))
        name = item.path.rpartition("/")[2]
        if (name.startswith("._") or "/__MACOSX/" in item.path) and "leftover" not in told:
            told.add("leftover")
            why = "they carry marks of where the files were copied, the one of quarantine among them"
            what = f"{item.path} is what a copy left behind"
            where = ("install", _step_of(workspace, item.path))
            yield _finding(workspace, "leftover", "warning", where, what, why, "copy it again without them")


def _step_of(workspace: MacWorkspace, path: str) -> int:
    for at, step in enumerate(workspace.plan.install):
        if isinstance(step, model.FilesStep | model.AppStep) and path.startswith(step.to.rstrip("/") + "/"):
            return at
    return 0


def _of(workspace: MacWorkspace, found: MacFinding, at: int) -> Finding:
    where = f"{found.where}: " if found.where else ""
    return _finding(workspace, found.id, found.level, ("install", at), where + found.what, "", found.advice)


def _scripts(workspace: MacWorkspace) -> Iterator[Finding]:
    for at, step in enumerate(workspace.plan.install):
        if not isinstance(step, model.ShellStep):
            continue
        if not step.undo:
            what = f"what {step.file} does is not taken back"
            why, do = "the removal does not know of it", 'undo = "..." names a script that does'
            yield _finding(workspace, "no-way-back", "warning", ("install", at), what, why, do)
        for name in filter(None, (step.file, step.undo)):
            path = workspace.folder / "extras" / name
            if not path.is_file() or path.stat().st_size > MAX_SCRIPT:
                continue
            text = path.read_bytes().decode("utf-8", "replace")
            first = text.partition("\n")[0].rstrip("\r")
            script = MacScript(name, first[2:].strip() if first.startswith("#!") else "", text)
            for found in script_findings(script):
                yield _of(workspace, found, at)


def _vendors(workspace: MacWorkspace) -> Iterator[Finding]:
    for at, package in workspace.packages.items():
        where = ("install", at)
        if package.signature.state != "holds":
            what, why = f"{package.file} is {package.signature.words}", "nobody stands behind what runs as root here"
            yield _finding(workspace, "unsigned-inside", "warning", where, what, why, "ask its maker for a signed one")
        step = workspace.plan.install[at]
        if package.form == "distribution" and not (isinstance(step, model.VendorPackageStep) and step.as_is):
            what = f"{package.file} is installed from a script of this package"
            why = "it waits where the system lets one installation run at a time, and its own windows are not shown"
            do = "install it by itself where the management service takes it as it is"
            yield _finding(workspace, "package-in-a-script", "note", where, what, why, do)
        for component in package.components:
            if component.relocatable:
                what = f"{component.identifier} follows a copy that somebody moved"
                why = "detection looks where it belongs, and it is updated where it lies"
                do = "detect it with anywhere = true"
                yield _finding(workspace, "relocatable", "warning", where, what, why, do)
            for script in component.scripts:
                for found in script_findings(script):
                    if found.level == "error":
                        yield _of(workspace, found, at)


def _jobs(workspace: MacWorkspace) -> Iterator[Finding]:
    laid = {item.path for item in workspace.work.items} if workspace.work else set()
    for at, step in enumerate(workspace.plan.install):
        if isinstance(step, model.JobStep) and not step.program[0].startswith(_BRINGS) and step.program[0] not in laid:
            what = f"{step.program[0]} is laid by no step"
            why = "launchd loads the job, and it fails each time it starts"
            yield _finding(
                workspace, "no-such-program", "error", ("install", at), what, why, "bring it, or mend the path"
            )


def _detection(workspace: MacWorkspace) -> Iterator[Finding]:
    rules = workspace.plan.detect
    where: tuple[str | int, ...] = ("detect", 0) if rules else ("package",)
    if not rules:
        what, do = "nothing says how it is seen that it is there", "a [[detect]] of kind bundle, receipt or file"
        yield _finding(workspace, "no-detection", "error", where, what, "nobody can tell where it is missing", do)
    elif all(isinstance(rule, model.ReceiptRule) for rule in rules):
        what = "only receipts are looked at"
        why = "a receipt stays when somebody drags the program into the bin"
        yield _finding(workspace, "receipt-only", "warning", where, what, why, "add a rule of kind bundle or file")
    for at, rule in enumerate(rules):
        if isinstance(rule, model.BundleRule) and not rule.version:
            what = f"any version of {rule.identifier} counts"
            why, do = "an older one is taken for this one", "state its version"
            yield _finding(workspace, "any-version", "warning", ("detect", at), what, why, do)


def _handed_over(workspace: MacWorkspace) -> Iterator[Finding]:
    """What is built now against what was handed over."""
    package = workspace.plan.package
    known = delivered.read(workspace.folder, delivered.MAC_FILE)
    if not known:
        return
    last = max(known, key=lambda one: (_order(one.version), one.revision))
    own, theirs = (_order(package.version), package.revision), (_order(last.version), last.revision)
    where = ("package", "revision" if own[0] == theirs[0] else "version")
    was = f"{last.version}, revision {last.revision}"
    why = "a service offers what is newer, and a receipt of this version or a later one is there"
    if own < theirs:
        what = f"it is {package.version}, revision {package.revision}, and {was} was handed over before"
        yield _finding(workspace, "not-rising", "error", where, what, why, "a higher version or revision")
    elif own == theirs:
        folder = workspace.folder / FOLDER / name_of(workspace.plan)
        if folder.is_dir() and digest_of(folder) not in {one.digest for one in known}:
            what = f"what is built now is not what was handed over as {was}"
            yield _finding(workspace, "not-rising", "error", where, what, why, "revision = " + str(last.revision + 1))


def count() -> int:
    """How many rules there are."""
    return len(IDS)


IDS = frozenset({
    "medium", "cannot-be-built", "undecided", "identifier-taken", "processor-missing", "too-old", "broken-seal",
    "unsigned", "leftover", "no-way-back", "unsigned-inside", "package-in-a-script", "relocatable", "no-such-program",
    "no-detection", "receipt-only", "any-version", "person-asked", "not-rising",
})  # fmt: skip
_RULES: tuple[Callable[[MacWorkspace], Iterator[Finding]], ...] = (
    _media, _identity, _programs, _laid, _scripts, _vendors, _jobs, _detection, _handed_over,
)  # fmt: skip
