"""One renewal at work: a copy of the workspace, the two drafts, the plan that is being made."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import tomlkit

from yendo.draft import proposing, writing
from yendo.draft.office import Office
from yendo.errors import YendoError
from yendo.installers import recognise
from yendo.plan import Plan, read_text
from yendo.renew import merge, words
from yendo.renew.merge import Ids
from yendo.steps.msi import MsiStep

EARLIER = "earlier"


def copied(workspace: Path, target: Path) -> Path:
    """The workspace without what was built; files are shared with it where the disk allows, since nobody writes into
    them.
    """

    without = ("package", ".yendo", EARLIER)
    shutil.copytree(
        workspace,
        target,
        ignore=lambda at, names: [name for name in names if Path(at) == workspace and name in without],
        copy_function=_link,
    )
    return target


def _link(source: str, target: str) -> str:
    try:
        os.link(source, target)
    except OSError:
        shutil.copyfile(source, target)
    return target


class Work:
    """One renewal in a copy of the workspace."""

    def __init__(
        self, copy: Path, workspace: Path, plan: Plan, name: str, installer: Path, overlays: Sequence[Path], origin: str
    ) -> None:
        self.copy, self.workspace, self.plan, self.name, self.installer = copy, workspace, plan, name, installer
        shutil.copytree(
            copy / "media", copy.parent / "before", copy_function=_link
        )  # a new file may have an old one's name
        self.before = copy.parent / "before" / name
        self.open: list[str] = []
        self.office = Office(workspace, workspace / plan.house if plan.house else None)
        if plan.house:
            self.office.named = None  # the plan names it already
        patches = [step.patch for step in plan.install if isinstance(step, MsiStep) and step.patch]
        self.was = proposing.propose(
            copy / "media" / name,
            [copy / "media" / patch for patch in patches if (copy / "media" / patch).is_file()],
            self.office,
        )
        self.now = proposing.propose(installer, overlays, self.office, origin)
        self.mine = tomlkit.parse((copy / "plan.toml").read_text("utf-8"))
        self.old_ids = Ids(name, tuple(patches), self.was.account.identity.product_code or "")
        fresh = [path.name for path in self.now.media.values() if recognise.recognise(path) == "msi-patch"]
        self.new_ids = Ids(installer.name, tuple(fresh), self.now.account.identity.product_code or "")
        self.words = (self.was.account.identity.version or name, self.now.account.identity.version or installer.name)
        if self.words[0] == self.words[1]:
            self.words = (name, installer.name)
        self.merge = merge.Merge(self.old_ids, self.new_ids, self.words)
        self.both_msi = self.was.account.family == self.now.account.family == "msi"

    @property
    def shelf_mark(self) -> str:
        """The old version as the name of a folder; it is the installer's word, so nothing in it may lead elsewhere."""
        return re.sub(r"[^A-Za-z0-9.-]+", "-", self.words[0]).strip(".-")[:64] or "before"

    def steps(self) -> list[Any]:
        """The steps of the plan that run the new installer."""
        return [step for step in writing.part(self.mine, "install") if step.get("media") == self.installer.name]

    def file(self, name: str) -> Path:
        """A file that a plan names, in the copy."""
        return self.copy / name

    def gone(self, name: str) -> str:
        """That a property is gone, and what may have taken its place; nothing where it is still known or never was."""
        known = [{one.name for one in side.properties} for side in (self.was.account, self.now.account)]
        if name not in known[0] or name in known[1]:
            return ""
        return words.property_gone(name, self.was.account, self.now.account)

    def parsed(self) -> Plan | None:
        """The plan as it stands; None where it cannot be read yet."""
        try:
            return read_text(self.dumped(), "plan.toml", self.workspace)[0]
        except YendoError:
            return None

    def dumped(self) -> str:
        """The plan's text, with what the new installer asks for in the draft's own words."""
        text = re.sub(r"\n{3,}(?=\[)", "\n\n", writing.spaced(tomlkit.dumps(self.mine)))
        asks = [f"# the installer itself asks: {one.in_words}" for one in self.now.account.conditions]
        lines = text.split("\n")
        there = [at for at, line in enumerate(lines) if line.startswith("# the installer itself asks: ")]
        if there:  # as the draft writes them, in one place
            lines = [
                *lines[: there[0]],
                *asks,
                *(line for at, line in enumerate(lines[there[0] :], there[0]) if at not in there),
            ]
        # and what stands without a decision, below the step's properties
        stands = [at for at, line in enumerate(lines) if line.startswith("# ") and f" {proposing.DEFAULT} " in line]
        if stands:
            fresh = [
                f"# {line}"
                for line in proposing.default_lines(self.now.account, {})
                if f" {proposing.DEFAULT} " in line
            ]
            lines = [
                *lines[: stands[0]],
                *fresh,
                *(line for at, line in enumerate(lines[stands[0] :], stands[0]) if at not in stands),
            ]
        return "\n".join(lines)
