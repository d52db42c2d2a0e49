"""Renewing: a workspace carried over to the vendor's next version, in a copy of it that takes its place at the end."""

from __future__ import annotations

import re
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import msgspec
import tomlkit

from yendo import atomic
from yendo.detect.derive import is_version
from yendo.draft import draft, writing
from yendo.errors import Usage
from yendo.facts.versions import Version
from yendo.installers import recognise
from yendo.installers.account import InstallerAccount
from yendo.installers.msi import meeting
from yendo.plan import Plan, read, read_text
from yendo.renew import detection, merge, targets, words
from yendo.renew.merge import MARK, Kept, MergeConflict, Moved
from yendo.renew.words import Difference
from yendo.renew.work import EARLIER, Work, copied

Old = Literal["keep", "store", "drop"]
Although = Literal["older", "same-version", "other-vendor", "other-product"]
MAX_OTHERS = 5  # of earlier versions that are kept to prove upgrades from


class Renewal(msgspec.Struct, frozen=True, kw_only=True):
    """What came of it. ``stale`` are lines of the new plan that still name the old version: ``(line, text)``.

    ``open`` is what only a person or a trial can do before the package is whole again.
    """

    old: InstallerAccount
    new: InstallerAccount
    differences: tuple[Difference, ...]
    moved: tuple[Moved, ...]
    kept: tuple[Kept, ...]
    conflicts: tuple[MergeConflict, ...]
    detection: str
    stale: tuple[tuple[int, str], ...]
    open: tuple[str, ...]
    plan: str
    written: bool


class _Refuse(msgspec.Struct, frozen=True):
    kind: Although
    text: str


def current_installer(workspace: Path, plan: Plan, new: InstallerAccount) -> tuple[str, InstallerAccount]:
    """The medium that a new installer takes the place of. Raises Usage where none or several could be meant."""
    found: dict[str, InstallerAccount] = {}
    for step in plan.install:
        name = getattr(step, "media", None)
        path = workspace / "media" / (name or "")
        if name and path.is_file() and name not in found:
            found[name] = recognise.read(path)
    if not found:
        raise Usage(
            f"{workspace} has no step that runs an installer, so there is nothing to renew; is its media there?"
        )
    for alike in (
        lambda account: new.identity.upgrade_code and account.identity.upgrade_code == new.identity.upgrade_code,
        lambda account: account.identity.name and account.identity.name == new.identity.name,
        lambda account: True,
    ):
        fitting = {name: account for name, account in found.items() if alike(account)}
        if len(fitting) == 1:
            return next(iter(fitting.items()))
    raise Usage(f"the plan runs several installers, and none is like {new.file.name}: {', '.join(found)}")


def _refusals(old: InstallerAccount, new: InstallerAccount) -> list[_Refuse]:
    """What should be done on purpose only."""
    found = []
    one, two = old.identity, new.identity
    if (one.publisher or "").casefold() != (two.publisher or "").casefold():
        found.append(
            _Refuse(
                "other-vendor",
                f"{new.file.name} is of {two.publisher or 'nobody that it names'}, the package's installer of "
                f"{one.publisher}",
            )
        )
    elif (
        one.upgrade_code != two.upgrade_code
        if one.upgrade_code and two.upgrade_code
        else (one.name or "") != (two.name or "")
    ):
        found.append(
            _Refuse(
                "other-product",
                f"{new.file.name} is {two.name}, another product than {one.name}, by its "
                f"{'upgrade code' if one.upgrade_code else 'name'}",
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

    With ``dry`` nothing is written. ``origin`` is known of an installer that lay in an image. ``store`` is where old
    media go with ``old="store"``. Raises Usage for what should be done on
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
        copy = copied(workspace, Path(folder) / "work")
        work = _Renewing(copy, workspace, plan, name, installer, overlays, origin, old)
        found = work.done()
        if not dry:
            work.take_over(store)
    return msgspec.structs.replace(found, written=not dry)


class _Renewing(Work):
    """The way from the old plan to the new one."""

    def __init__(
        self,
        copy: Path,
        workspace: Path,
        plan: Plan,
        name: str,
        installer: Path,
        overlays: Sequence[Path],
        origin: str,
        old: Old,
    ) -> None:
        super().__init__(copy, workspace, plan, name, installer, overlays, origin)
        self.old = old

    # --- the steps ----------------------------------------------------------------------------------

    def done(self) -> Renewal:
        base, new = merge.plain(self.was.document), merge.plain(self.now.document)
        own_rules, from_derive = detection.rules(self, base)
        notes = list(words.told(self.was.account, self.now.account))
        self._media()
        revision = merge.plain(self.mine)["package"].get("revision", 1)
        self.merge.document(self.mine, base, new, skip=("detect", "proof", "house"))
        self.mine["package"]["revision"] = 1
        if revision != 1:
            self.merge.moved.append(Moved("package.revision", revision, 1))
        targets.changes(self)
        targets.transforms(self)
        targets.properties(self)
        targets.features(self)
        targets.observed(self)
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
        how = detection.again(self, own_rules, from_derive, names)
        text = self._text()
        return Renewal(
            old=self.was.account,
            new=self.now.account,
            differences=tuple(notes),
            moved=tuple(self.merge.moved),
            kept=tuple(self.merge.kept),
            conflicts=tuple(self.merge.conflicts),
            detection=how,
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

    def _over_the_old(self) -> Difference:
        """How the new goes over the old; a step that removes the old one first, where the new does not do it itself."""
        released = {release.path: release for release in meeting.releases([self.before, self.installer])}
        _, met = meeting.matrix(list(released))
        one = next(one for one in met if one.there.path != self.installer and one.new.path == self.installer)
        if one.kind in ("minor update", "side by side") or one.lost:
            there = [merge.plain(step) for step in writing.part(self.mine, "install")]
            by = (
                {"upgrade_code": one.new.upgrade_code}
                if one.new.upgrade_code and one.new.upgrade_code == one.there.upgrade_code
                else {"product": one.there.product_code}
            )
            if not any(step.get("kind") == "remove-previous" for step in there):
                table = tomlkit.table()
                below = {"version": f"<{one.new.version}"} if is_version(one.new.version) else {}
                for key, text in {"kind": "remove-previous", **by, **below, "timeout": "30 min"}.items():
                    table.add(key, text)
                table["kind"].comment(f"{self.words[1]} does not take the place of {self.words[0]} by itself")
                self.mine["install"] = writing.array(table, *writing.part(self.mine, "install"))
                self.merge.moved.append(Moved("install", None, "remove-previous"))
        return words.of_meeting(one.kind, one.text, one.lost, self.words[0])

    # --- the end --------------------------------------------------------------------------------------

    def _others(self) -> None:
        """The earlier version becomes one that the package upgrades from."""
        if self.old != "keep" or self.now.account.family not in ("msi", "script-exe"):
            return
        path = f"{EARLIER}/{self.shelf_mark}/{self.name}"
        proof = self.mine.get("proof")
        if proof is None:
            proof = tomlkit.table()
            self.mine.add("proof", proof)
        others = [*merge.plain(proof.get("others", [])), path]
        proof["others"] = list(dict.fromkeys(others))[-MAX_OTHERS:]
        self.merge.moved.append(Moved("proof.others", None, path))

    def _text(self) -> str:
        text = self.dumped().rstrip("\n") + "\n"
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
            (number, line)
            for number, line in lines
            if word.search(line.partition(" # ")[0]) and not line.startswith("#") and EARLIER not in line
        ]

    def take_over(self, store: Any) -> None:
        """Puts the new files, then the plan, into the workspace, and sees to the old media.

        The plan is the last to change.
        """
        text = self._text()
        read_text(text, str(self.workspace / "plan.toml"), self.workspace)  # what cannot be read is not written
        for name in self.now.media:
            draft.copy_media(
                self.copy / "media" / name, self.workspace / "media" / name
            ) if name not in self.was.media else None
        old_dir = self.workspace / EARLIER / self.shelf_mark
        replaced = [name for name in self.was.media if name in self.now.media]
        gone = [
            name
            for name in self.was.media
            if name not in self.now.media and f'"{name}"' not in text.replace(f"{EARLIER}/", "")
        ]
        for name in (*gone, *replaced):
            self._keep(name, old_dir, store)
        for name in replaced:
            draft.copy_media(self.copy / "media" / name, self.workspace / "media" / name)
        for path in sorted((self.copy / "extras").rglob("*")) if (self.copy / "extras").is_dir() else []:
            target = self.workspace / path.relative_to(self.copy)
            if path.is_file() and not (target.is_file() and target.read_bytes() == path.read_bytes()):
                draft.copy_media(path, target)
        base = self.office.plan(
            self.workspace, writing.spaced(tomlkit.dumps(self.now.document)), self.now.account, self.now.decisions
        ).encode()
        evidence = draft.evidence_of(self.now.account, base) | {
            "renewed_from": {"version": self.words[0], "installer": self.name}
        }
        draft.write_evidence(self.workspace, evidence)
        atomic.write(self.workspace / "plan.toml", text.encode())
        for name in gone:
            (self.workspace / "media" / name).unlink(missing_ok=True)

    def _keep(self, name: str, folder: Path, store: Any) -> None:
        if self.old == "keep":
            draft.copy_media(self.workspace / "media" / name, folder / name)
        elif self.old == "store":
            if store is None:
                raise Usage("no media store is known; name one by --store or in the house file")
            store.add(
                self.workspace / "media" / name,
                origin=f"{self.plan.package.name} {self.words[0]}, from a workspace that was renewed",
            )
