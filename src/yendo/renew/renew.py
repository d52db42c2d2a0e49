"""Renewing: a workspace carried over to the vendor's next version, in a copy of it that takes its place at the end."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

import msgspec
import tomlkit

from yendo import atomic
from yendo.detect import detected, seen
from yendo.detect.derive import derive
from yendo.draft import draft, writing
from yendo.draft.office import Office
from yendo.errors import Usage, YendoError
from yendo.facts.versions import Version
from yendo.formats.msi import Database, transform
from yendo.installers import recognise
from yendo.installers.account import Account
from yendo.installers.msi import combining, intent, layers, meeting
from yendo.package import build
from yendo.plan import Plan, Rule, read, read_text
from yendo.prove import ground
from yendo.renew import merge, words
from yendo.renew.merge import MARK, Conflict, Ids, Kept, Moved
from yendo.renew.words import Difference
from yendo.terms.amounts import counted
from yendo.terms.changes import Change, PropertyChange

Old = Literal["keep", "store", "drop"]
Although = Literal["older", "same-version", "other-vendor", "other-product"]
EARLIER = "earlier"
MAX_OTHERS = 5  # of earlier versions that are kept to prove upgrades from


class Renewal(msgspec.Struct, frozen=True, kw_only=True):
    """What came of it. ``stale`` are lines of the new plan that still name the old version: ``(line, text)``.

    ``open`` is what only a person or a trial can do before the package is whole again.
    """

    old: Account
    new: Account
    differences: tuple[Difference, ...]
    moved: tuple[Moved, ...]
    kept: tuple[Kept, ...]
    conflicts: tuple[Conflict, ...]
    detection: str
    stale: tuple[tuple[int, str], ...]
    open: tuple[str, ...]
    plan: str
    written: bool


class _Refuse(msgspec.Struct, frozen=True):
    kind: Although
    text: str


def current_installer(workspace: Path, plan: Plan, new: Account) -> tuple[str, Account]:
    """The medium that a new installer takes the place of. Raises Usage where none or several could be meant."""
    found: dict[str, Account] = {}
    for step in plan.install:
        name = getattr(step, "media", None)
        path = workspace / "media" / (name or "")
        if name and path.is_file() and name not in found:
            found[name] = recognise.read(path)
    if not found:
        raise Usage(f"{workspace} has no step that runs an installer, so there is nothing to renew; is its media there?")
    for alike in (
        lambda account: new.identity.upgrade_code and account.identity.upgrade_code == new.identity.upgrade_code,
        lambda account: account.identity.name and account.identity.name == new.identity.name,
        lambda account: True,
    ):
        fitting = {name: account for name, account in found.items() if alike(account)}
        if len(fitting) == 1:
            return next(iter(fitting.items()))
    raise Usage(f"the plan runs several installers, and none is like {new.file.name}: {', '.join(found)}")


def _refusals(old: Account, new: Account) -> list[_Refuse]:
    """What should be done on purpose only."""
    found = []
    one, two = old.identity, new.identity
    if (one.publisher or "").casefold() != (two.publisher or "").casefold():
        found.append(
            _Refuse("other-vendor", f"{new.file.name} is of {two.publisher or 'nobody that it names'}, the package's installer of {one.publisher}")
        )
    elif one.upgrade_code != two.upgrade_code if one.upgrade_code and two.upgrade_code else (one.name or "") != (two.name or ""):
        found.append(
            _Refuse(
                "other-product",
                f"{new.file.name} is {two.name}, another product than {one.name}, by its {'upgrade code' if one.upgrade_code else 'name'}",
            )
        )
    try:
        before, after = Version.parse(one.version or ""), Version.parse(two.version or "")
    except ValueError:
        return found
    if after < before:
        found.append(_Refuse("older", f"{new.file.name} is {two.version}, older than {one.version}"))
    elif after == before:
        found.append(_Refuse("same-version", f"{new.file.name} is {two.version}, as the package is already"))
    return found


def renew(
    workspace: Path,
    installer: Path,
    overlays: Sequence[Path] = (),
    *,
    old: Old = "keep",
    dry: bool = False,
    although: Sequence[str] = (),
    store: Any = None,
    origin: str = "",
) -> Renewal:
    """Carries a workspace over to another installer of its program; ``overlays`` are its transforms and patches.

    With ``dry`` nothing is written. ``origin`` is known of an installer that lay in an image. ``store`` is where old media go with
    ``old="store"``. Raises Usage for what should be done on
    purpose only, Unreadable, NotCovered, PlanError.
    """
    if not installer.is_file():
        raise Usage(f"{installer} is not there")
    plan, _ = read(workspace / "plan.toml")
    new = recognise.read(installer)
    name, before = current_installer(workspace, plan, new)
    for refused in _refusals(before, new):
        if refused.kind not in although:
            raise Usage(f"{refused.text}; if that is meant: --although {refused.kind}")
    with tempfile.TemporaryDirectory(prefix="yendo-renew-") as folder:
        copy = _copy(workspace, Path(folder) / "work")
        work = _Work(copy, workspace, plan, name, installer, overlays, old, origin)
        found = work.done()
        if not dry:
            work.take_over(store)
    return msgspec.structs.replace(found, written=not dry)


def _copy(workspace: Path, target: Path) -> Path:
    """The workspace without what was built; files are shared with it where the disk allows, since nobody writes into them."""

    without = ("package", ".yendo", EARLIER)
    shutil.copytree(
        workspace, target, ignore=lambda at, names: [name for name in names if Path(at) == workspace and name in without], copy_function=_link
    )
    return target


def _link(source: str, target: str) -> str:
    try:
        os.link(source, target)
    except OSError:
        shutil.copyfile(source, target)
    return target


class _Work:
    """One renewal in a copy of the workspace."""

    def __init__(self, copy: Path, workspace: Path, plan: Plan, name: str, installer: Path, overlays: Sequence[Path], old: Old, origin: str) -> None:
        self.copy, self.workspace, self.plan, self.name, self.installer, self.old = copy, workspace, plan, name, installer, old
        shutil.copytree(copy / "media", copy.parent / "before", copy_function=_link)  # a new file may have an old one's name
        self.before = copy.parent / "before" / name
        self.open: list[str] = []
        self.office = Office(workspace, workspace / plan.house if plan.house else None)
        if plan.house:
            self.office.named = None  # the plan names it already
        patches = [step.patch for step in plan.install if getattr(step, "patch", None)]
        given = [
            path
            for step in plan.install
            for path in getattr(step, "transforms", ())
            if getattr(step, "media", None) == name and not path.startswith(":")
        ]
        self.transforms = given
        self.was = draft.propose(
            copy / "media" / name, [copy / "media" / patch for patch in patches if (copy / "media" / patch).is_file()], self.office
        )
        self.now = draft.propose(installer, overlays, self.office, origin)
        self.mine = tomlkit.parse((copy / "plan.toml").read_text("utf-8"))
        self.old_ids = Ids(name, tuple(patches), self.was.account.identity.product_code or "")
        fresh = [path.name for path in self.now.media.values() if recognise.recognise(path) == "msi-patch"]
        self.new_ids = Ids(installer.name, tuple(fresh), self.now.account.identity.product_code or "")
        self.words = (self.was.account.identity.version or name, self.now.account.identity.version or installer.name)
        if self.words[0] == self.words[1]:
            self.words = (name, installer.name)
        self.merge = merge.Merge(self.old_ids, self.new_ids, self.words)
        self.both_msi = self.was.account.family == self.now.account.family == "msi"

    # --- the steps ----------------------------------------------------------------------------------

    def done(self) -> Renewal:
        base, new = merge.plain(self.was.document), merge.plain(self.now.document)
        own_rules, from_derive = self._rules(base)
        notes = list(words.told(self.was.account, self.now.account))
        self._media()
        revision = merge.plain(self.mine)["package"].get("revision", 1)
        self.merge.document(self.mine, base, new, skip=("detect", "proof", "house"))
        self.mine["package"]["revision"] = 1
        if revision != 1:
            self.merge.moved.append(Moved("package.revision", revision, 1))
        self._changes()
        self._transforms()
        self._properties()
        self._features()
        self._observed()
        if self.both_msi:
            notes.append(self._over_the_old())
        names = {self.name: self.installer.name, **dict(zip(self.old_ids.patches, self.new_ids.patches, strict=False))}
        if self.old_ids.product and self.new_ids.product and self.old_ids.product != self.new_ids.product:
            names[self.old_ids.product] = self.new_ids.product
        for key in [key for key in self.mine if key not in ("media", "proof", "detect", "package")]:
            self.merge.moved += (
                merge.renamed(self.mine[key], {old: new for old, new in names.items() if old != new}, key)
                if isinstance(self.mine[key], list | dict)
                else []
            )
        self._others()
        detection = self._detection(own_rules, from_derive, names)
        text = self._text()
        return Renewal(
            old=self.was.account,
            new=self.now.account,
            differences=tuple(notes),
            moved=tuple(self.merge.moved),
            kept=tuple(self.merge.kept),
            conflicts=tuple(self.merge.conflicts),
            detection=detection,
            stale=tuple(self._stale(text)),
            open=tuple(self.open),
            plan=text,
            written=False,
        )

    def _media(self) -> None:
        """The new files beside the old ones, in the copy."""
        for name, path in self.now.media.items():
            target = self.copy / "media" / name
            if target.exists():
                target.unlink()  # it may be shared with the workspace
            draft.copy_media(path, target)
        for name, path in self.now.extras.items():
            draft.copy_media(path, self.copy / "extras" / name)

    def _steps(self) -> list[Any]:
        return [step for step in self.mine["install"] if step.get("media") == self.installer.name]  # type: ignore[union-attr]

    def _changes(self) -> None:
        """The wishes of a person, each tried on the new installer; what has no target leaves the plan and is listed."""
        for step in self._steps():
            wishes = step.get("change")
            if wishes is None:
                continue
            reasons: list[str | None] = []
            if self.both_msi:
                with Database(self.before) as old, Database(self.installer) as new:
                    reasons = [self._wish(wish, old, new) for wish in wishes]
            else:
                reasons = ["it is no installer database any more"] * len(wishes)
            for at, reason in reversed(list(enumerate(reasons))):
                if reason is not None:
                    plain = merge.plain(wishes[at])
                    change: Any = msgspec.convert(plain, Change)  # type: ignore[arg-type]
                    out = Conflict(
                        _named(plain),
                        _wanted(change),
                        "you asked for it",
                        "it has no target",
                        reason,
                        "taken out",
                        f"[[install.change]]\n{merge.as_toml(wishes[at])}",
                    )
                    self.merge.conflicts.append(out)
                    del wishes[at]
            if not len(wishes):
                del step["change"]

    def _wish(self, wish: Any, old: Database, new: Database) -> str | None:
        """Why a wish has no target on the new installer; None where it has."""
        change: Any = msgspec.convert(merge.plain(wish), Change)  # type: ignore[arg-type]
        if isinstance(change, PropertyChange):
            gone = self._gone(change.name)
            if gone:
                return gone
        find = self._file
        try:
            intent.transform_for(new, [change], find)
        except intent.IntentError as error:
            return "; ".join(f"{misfit.message}, {misfit.remedy}" for misfit in error.misfits)
        except YendoError as error:
            return str(error)
        try:
            made = intent.transform_for(old, [change], find)
        except YendoError:
            return None  # it never had a target: check says so
        label = _named(merge.plain(wish))
        both = [one for one in combining.move(made, old, new).conflicts if "the vendor changed" in one.message or "itself now" in one.message]
        for one in both:
            self.merge.conflicts.append(Conflict(label, _wanted(change), "you asked for it", one.message, str(one.evidence), one.outcome))
            wish.add(tomlkit.comment(f"{MARK}: {one.message}"))
        if not both:
            self.merge.kept.append(Kept(label, _wanted(change)))
        return None

    def _file(self, name: str) -> Path:
        return self.copy / name

    def _gone(self, name: str) -> str:
        """That a property is gone, and what may have taken its place; nothing where it is still known or never was."""
        known = [{one.name for one in side.properties} for side in (self.was.account, self.now.account)]
        if name not in known[0] or name in known[1]:
            return ""
        heir = words.successor(name, self.was.account, self.now.account)
        return f"{name} is gone, {f'{heir} may have taken its place' if heir else 'nothing replaces it'}"

    def _transforms(self) -> None:
        """Transforms that came from elsewhere, carried over to the new database."""
        for step in self._steps():
            names = [str(name) for name in step.get("transforms", [])]
            for name in names:
                if not self.both_msi:
                    self._transform_out(step, name, "it is no installer database any more")
                elif name.startswith(":"):
                    with Database(self.installer) as new:
                        try:
                            layers.apply_transforms(new, [name[1:]])
                        except layers.Refused as refused:
                            self._transform_out(step, name, refused.message)
                elif (self.copy / name).is_file() and Path(name).name not in self.now.extras:
                    self._move(step, name)

    def _move(self, step: Any, name: str) -> None:
        path = self.copy / name
        with Database(self.before) as old, Database(self.installer) as new:
            moved = combining.move(transform.read(path, old), old, new)
            for one in moved.conflicts:
                self.merge.conflicts.append(
                    Conflict(name, str(one.evidence), "the transform changes it", one.message, f"read from {self.words[1]}", one.outcome)
                )
            if not len(moved.transform):
                self._transform_out(step, name, "nothing that it changes is there any more")
                return
            path.unlink()  # it may be shared with the workspace
            with atomic.writing(path) as target:
                transform.write(moved.transform, target)
        self.merge.moved.append(Moved(name, f"{moved.total} changes to {self.words[0]}", f"{moved.kept} changes to {self.words[1]}"))

    def _transform_out(self, step: Any, name: str, reason: str) -> None:
        rest = [one for one in merge.plain(step["transforms"]) if one != name]
        if rest:
            step["transforms"] = rest
        else:
            del step["transforms"]
        self.merge.conflicts.append(Conflict(name, "it is applied", "you named it", "it is not", reason, "taken out", f'transforms = ["{name}"]'))

    def _properties(self) -> None:
        """Properties that a person gives and that the new installer does not know any more."""
        for step in self._steps() if self.both_msi else []:
            given = step.get("properties", {})
            for key in list(given):
                why = self._gone(key)
                if not why:
                    continue
                text = f"{key} = {merge.said(merge.plain(given[key]))}"
                place = f"install, the installer.properties.{key}"
                # a three-way conflict about it is the same one, told better here
                self.merge.conflicts[:] = [one for one in self.merge.conflicts if one.place != place]
                self.merge.kept[:] = [one for one in self.merge.kept if one.place != place]
                self.merge.conflicts.append(
                    Conflict(place, text, "you give it", "nothing takes it", why, "taken out", f"[install.properties]\n{text}")
                )
                del given[key]

    def _features(self) -> None:
        payload = self.now.account.payload
        known = {one.id for one in payload.features} if payload else set()
        for step in self._steps() if self.both_msi else []:
            for name in [name for name in merge.plain(step.get("features", [])) if name not in known and "{setting." not in name]:
                rest = [one for one in merge.plain(step["features"]) if one != name]
                if rest:
                    step["features"] = rest
                else:
                    del step["features"]
                self.merge.conflicts.append(
                    Conflict(
                        "install, the installer.features",
                        name,
                        "you chose it",
                        "it is not there",
                        f"{self.words[1]} has no feature {name}",
                        "taken out",
                        f'features = ["{name}"]',
                    )
                )

    def _observed(self) -> None:
        """What a trial of the old setup recorded says nothing of the new one."""
        steps = [step for verb in ("install", "uninstall", "repair") for step in self.mine.get(verb, []) if "observed" in step]
        for step in steps:
            del step["observed"]
        self.merge.kept[:] = [one for one in self.merge.kept if not one.place.endswith(".observed")]
        if steps:
            self.open.append(
                f"yendo try {self.installer} --into {self.workspace}: command lines, detection and recordings came from a trial of the old setup"
            )

    def _over_the_old(self) -> Difference:
        """How the new goes over the old; a step that removes the old one first, where the new does not do it itself."""
        released = {release.path: release for release in meeting.releases([self.before, self.installer])}
        _, met = meeting.matrix(list(released))
        one = next(one for one in met if one.there.path != self.installer and one.new.path == self.installer)
        if one.kind in ("minor update", "side by side") or one.lost:
            there = [merge.plain(step) for step in self.mine["install"]]  # type: ignore[union-attr]
            by = (
                {"upgrade_code": one.new.upgrade_code}
                if one.new.upgrade_code and one.new.upgrade_code == one.there.upgrade_code
                else {"product": one.there.product_code}
            )
            if not any(step.get("kind") == "remove-previous" for step in there):
                table = tomlkit.table()
                for key, text in (
                    ("kind", "remove-previous"),
                    *by.items(),
                    ("version", f"<{self.now.account.identity.version}"),
                    ("timeout", "30 min"),
                ):
                    table.add(key, text)
                table["kind"].comment(f"{self.words[1]} does not take the place of {self.words[0]} by itself")
                self.mine["install"] = writing.array(table, *self.mine["install"])  # type: ignore[misc]
                self.merge.moved.append(Moved("install", None, "remove-previous"))
        return words.of_meeting(one.kind, one.text, one.lost, {"over": self.words[0]})

    # --- detection ------------------------------------------------------------------------------------

    def _rules(self, base: Mapping[str, Any]) -> tuple[list[dict[str, Any]], bool]:
        """The rules that a person wrote, and whether the others came from a derivation rather than from the draft."""
        mine = [merge.plain(rule) for rule in self.mine.get("detect", [])]
        drafted = [dict(rule) for rule in base.get("detect", [])]
        rest = [rule for rule in mine if rule not in drafted]
        if not rest:
            return [], False
        known = self._derived(self.copy, self.plan)
        if known is None:
            return rest, False
        derived = [msgspec.to_builtins(rule) for rule in known]
        own = [rule for rule in rest if _normal(rule) not in [_normal(one) for one in derived]]
        return own, len(own) < len(rest)

    def _derived(self, folder: Path, plan: Plan) -> list[Rule] | None:
        """The rules that derivation gives for a workspace; None where the simulated machine cannot carry it out."""
        others = [self.workspace / name for name in plan.proof.others]
        try:
            with tempfile.TemporaryDirectory(prefix="yendo-derive-") as target:
                package = build.build(folder, plan, output=Path(target)).folder
                made = ground.make(package, [other for other in others if other.is_file()], updates=plan.proof.updates_itself)
                made = ground.everywhere(made, package)
                return [ground.with_places(one.rule, made) for one in derive(made.ground, made.environment).rules]
        except YendoError:
            return None

    def _detection(self, own: list[dict[str, Any]], from_derive: bool, names: Mapping[str, str]) -> str:
        """The rules of the new plan; returns how they came about, in words."""
        drafted = [dict(rule) for rule in merge.plain(self.now.document).get("detect", [])]
        rules: list[dict[str, Any]] = drafted
        holder = tomlkit.document()
        holder["detect"] = writing.array(*(_as_table(rule) for rule in own))
        self.merge.moved += merge.renamed(holder["detect"], {old: new for old, new in names.items() if old != new}, "detect")
        moved_own = [merge.plain(rule) for rule in holder["detect"]]  # type: ignore[union-attr]
        self._set_rules([*rules, *moved_own])
        how = f"drafted anew, {counted(len(rules), 'rule')}"
        plan = self._parsed()
        if from_derive and plan is not None:
            derived = self._derived(self.copy, plan)
            if derived is not None:
                rules = [msgspec.to_builtins(rule) for rule in derived]
                how = f"derived anew, {counted(len(rules), 'rule')}"
            else:
                self.open.append("yendo detect derive --write: detection had been derived, and could not be derived again here")
        held = self._held(moved_own) if moved_own else {}
        stay = []
        for rule, was in zip(moved_own, own, strict=True):
            fact = held.get(repr(rule))
            if fact is None:
                stay.append(rule)
                self.merge.kept.append(Kept("detect", str(rule.get("kind"))))
            else:
                text = merge.as_toml(_as_table(was))
                self.merge.conflicts.append(
                    Conflict(
                        f"detect, {rule.get('kind')}",
                        _short(rule),
                        "you wrote the rule",
                        f"it does not hold: {fact}",
                        f"judged after {self.words[1]} on a simulated machine",
                        "taken out",
                        f"[[detect]]\n{text}",
                    )
                )
        self._set_rules([*rules, *[rule for rule in stay if _normal(rule) not in [_normal(one) for one in rules]]])
        return how + (f", and {counted(len(stay), 'rule')} of yours" if stay else "")

    def _held(self, rules: list[dict[str, Any]]) -> dict[str, str]:
        """Which of a person's rules do not hold once the new version is installed: the rule, and the fact against it."""
        plan = self._parsed()
        if plan is None:
            return {}
        try:
            with tempfile.TemporaryDirectory(prefix="yendo-held-") as target:
                package = build.build(self.copy, plan, output=Path(target)).folder
                made = ground.make(package)
        except YendoError:
            return {}
        judged = {repr(rule): msgspec.convert(rule, Rule) for rule in rules}  # type: ignore[arg-type,var-annotated]
        found = {}
        for key, rule in judged.items():
            settled = next((one for one in made.manifest.detect if _alike(one, rule, made)), rule)
            holds, verdicts = detected((settled,), seen(made.ground.after, made.environment))
            if not holds:
                found[key] = verdicts[0].fact
        return found

    def _set_rules(self, rules: list[dict[str, Any]]) -> None:
        self.mine.pop("detect", None)
        if rules:
            self.mine["detect"] = writing.array(*(_as_table(rule) for rule in rules))

    def _parsed(self) -> Plan | None:
        try:
            return read_text(self._dumped(), "plan.toml", self.workspace)[0]
        except YendoError:
            return None

    # --- the end --------------------------------------------------------------------------------------

    def _others(self) -> None:
        """The earlier version becomes one that the package upgrades from."""
        if self.old != "keep" or self.now.account.family not in ("msi", "script-exe"):
            return
        path = f"{EARLIER}/{self.words[0]}/{self.name}"
        proof = self.mine.get("proof")
        if proof is None:
            proof = tomlkit.table()
            self.mine.add("proof", proof)
        others = [*merge.plain(proof.get("others", [])), path]
        proof["others"] = list(dict.fromkeys(others))[-MAX_OTHERS:]
        self.merge.moved.append(Moved("proof.others", None, path))

    def _dumped(self) -> str:
        text = re.sub(r"\n{3,}(?=\[)", "\n\n", writing.spaced(tomlkit.dumps(self.mine)))
        asks = [f"# the installer itself asks: {one.in_words}" for one in self.now.account.conditions]
        lines = text.split("\n")
        there = [at for at, line in enumerate(lines) if line.startswith("# the installer itself asks: ")]
        if there:  # as the draft writes them, in one place
            lines = [*lines[: there[0]], *asks, *(line for at, line in enumerate(lines[there[0] :], there[0]) if at not in there)]
        return "\n".join(lines)

    def _text(self) -> str:
        text = self._dumped().rstrip("\n") + "\n"
        blocks = []
        for one in self.merge.conflicts:
            if one.taken_out:
                lines = [
                    f"# {MARK}: {one.place}: {one.why_theirs}. What stood there, by your hand:",
                    *(f"#   {line}" for line in one.taken_out.splitlines()),
                ]
                blocks.append("\n".join(lines))
        return text + ("\n" + "\n\n".join(blocks) + "\n" if blocks else "")

    def _stale(self, text: str) -> list[tuple[int, str]]:
        """Lines that still name the old version."""
        if self.words[0] != self.was.account.identity.version:
            return []  # both are of one version
        word = re.compile(rf"(?<![\d.]){re.escape(self.words[0])}(?![\d]|\.\d)")
        lines = [(number, line.strip()) for number, line in enumerate(text.splitlines(), 1)]
        return [
            (number, line) for number, line in lines if word.search(line.partition(" # ")[0]) and not line.startswith("#") and EARLIER not in line
        ]

    def take_over(self, store: Any) -> None:
        """Puts the new files, then the plan, into the workspace, and sees to the old media. The plan is the last to change."""
        text = self._text()
        read_text(text, str(self.workspace / "plan.toml"), self.workspace)  # what cannot be read is not written
        for name in self.now.media:
            draft.copy_media(self.copy / "media" / name, self.workspace / "media" / name) if name not in self.was.media else None
        old_dir = self.workspace / EARLIER / self.words[0]
        replaced = [name for name in self.was.media if name in self.now.media]
        gone = [name for name in self.was.media if name not in self.now.media and f'"{name}"' not in text.replace(f"{EARLIER}/", "")]
        for name in (*gone, *replaced):
            self._keep(name, old_dir, store)
        for name in replaced:
            draft.copy_media(self.copy / "media" / name, self.workspace / "media" / name)
        for path in sorted((self.copy / "extras").rglob("*")) if (self.copy / "extras").is_dir() else []:
            target = self.workspace / path.relative_to(self.copy)
            if path.is_file() and not (target.is_file() and target.read_bytes() == path.read_bytes()):
                draft.copy_media(path, target)
        base = self.office.plan(self.workspace, writing.spaced(tomlkit.dumps(self.now.document)), self.now.account, self.now.decisions).encode()
        evidence = draft.evidence_of(self.now.account, base) | {"renewed_from": {"version": self.words[0], "installer": self.name}}
        draft.write_evidence(self.workspace, evidence)
        atomic.write(self.workspace / "plan.toml", text.encode())
        for name in gone:
            (self.workspace / "media" / name).unlink(missing_ok=True)

    def _keep(self, name: str, folder: Path, store: Any) -> None:
        source = self.copy / "media" / name
        if not source.is_file():
            source = self.workspace / "media" / name
        if self.old == "keep":
            draft.copy_media(self.workspace / "media" / name, folder / name)
        elif self.old == "store":
            if store is None:
                raise Usage("no media store is known; name one by --store or in the house file")
            store.add(self.workspace / "media" / name, origin=f"{self.plan.package.name} {self.words[0]}, from a workspace that was renewed")


def _named(wish: Mapping[str, Any]) -> str:
    return f"install, {wish.get('kind')} {wish.get('name') or wish.get('to') or wish.get('key') or ''}".rstrip()


def _wanted(change: Any) -> str:
    fields = {name: value for name, value in msgspec.to_builtins(change).items() if name not in ("kind", "note", "name", "to", "key")}
    return ", ".join(f"{name} = {merge.said(value)}" for name, value in fields.items())


def _as_table(rule: Mapping[str, Any]) -> Any:
    table = tomlkit.table()
    for key, value in rule.items():
        table.add(key, writing.literal(value) if isinstance(value, str) else value)
    return table


def _normal(rule: Mapping[str, Any]) -> Any:
    try:
        return msgspec.to_builtins(msgspec.convert(rule, Rule))  # type: ignore[arg-type,call-overload]
    except msgspec.ValidationError:
        return dict(rule)


def _short(rule: Mapping[str, Any]) -> str:
    return ", ".join(f"{key} = {value}" for key, value in rule.items() if key != "kind")


def _alike(settled: Any, rule: Any, made: Any) -> bool:
    """Whether a rule of a manifest is this one with its places filled."""
    from yendo.terms.settings import fill, fill_text

    if not made.manifest.settings:
        return bool(settled == rule)
    known, values = made.manifest.settings, {name: made.manifest.chosen.get(name, "") for name in made.manifest.settings}
    return bool(msgspec.to_builtins(settled) == fill(msgspec.to_builtins(rule), lambda text: fill_text(text, known, values)))


__all__ = ["Difference", "Renewal", "renew"]
