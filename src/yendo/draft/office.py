"""The office that a new workspace stands in: what it says already, how it names things, and its templates."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path

import tomlkit

from yendo import templates
from yendo.draft import writing
from yendo.installers.account import InstallerAccount
from yendo.plan import PlanError, house, read_text
from yendo.plan.house import HouseError


def identifier(*parts: str | None) -> str:
    """A package id from a publisher and a name."""
    given = [part for part in parts if part]
    if len(given) == 2 and given[1].lower().startswith(given[0].lower() + " "):
        given = given[1:]  # the publisher stands in the name already
    words = "-".join(given)
    plain = re.sub(r"[^a-z0-9]+", "-", words.lower()).strip("-")
    return plain[:64] or "package"


class Office:
    """The house that a new workspace stands in, or none."""

    def __init__(self, folder: Path, named: Path | None = None) -> None:
        self.folder, self.named = folder, named
        self.file = named or house.find(folder if folder.exists() else folder.resolve().parent)
        self.house = house.read(self.file)[0] if self.file else None

    @property
    def name(self) -> str:
        return self.house.name if self.house else ""

    def template(self, name: str) -> Path | None:
        if self.house is None or self.file is None or getattr(self.house.templates, name) is None:
            return None
        return house.HouseGiven(self.file, self.house).beside(getattr(self.house.templates, name))

    def identifier(self, publisher: str | None, name: str) -> str:
        pattern = self.house.naming.id if self.house else house.Naming().id
        if pattern == house.Naming().id:
            return identifier(publisher, name)
        return identifier(pattern.replace("{publisher}", publisher or "").replace("{name}", name))

    def leave_to_the_house(self, document: tomlkit.TOMLDocument, decisions: list[str]) -> None:
        """Takes out what the house says, so that it stays said in one place; names the house file where it
        was named.
        """
        said = self.house.plan if self.house else {}
        for table, key in (("package", "contact"), ("when", "os")):
            if said.get(table, {}).get(key) and key in document.get(table, {}):
                held = writing.part(document, table)
                del held[key]
                held.add(tomlkit.comment(f"{key}: from the house, {self.file.name if self.file else ''}"))
                decisions[:] = [one for one in decisions if not one.startswith(f"{table}.{key}:")]
        if self.named and self.file:
            path = os.path.relpath(self.file.resolve(), self.folder.resolve()).replace(os.sep, "/")
            document["house"] = path

    def plan(self, folder: Path, plan: str, account: InstallerAccount | None, decisions: Sequence[str]) -> str:
        """The plan as the office's template has it. Raises TemplateProblem, HouseError."""
        own = self.template("plan")
        if own is None:
            return plan
        identity, family = (account.identity, account.family) if account else (None, "files")
        text = templates.render(
            "plan.toml", own, plan=plan, identity=identity, family=family, decisions=decisions, office=self.name
        )
        try:
            read_text(text, str(own), folder)
        except PlanError as error:
            raise HouseError(f"{own}: what it makes is no plan: {error}") from error
        return text

    def notes(self, account: InstallerAccount, decisions: Sequence[str]) -> str:
        """What the packager starts a note book with. Raises TemplateProblem, HouseError."""
        lines = [(verb, getattr(account.silent, verb)) for verb in ("install", "uninstall", "repair")]
        return templates.render(
            "notes.md",
            self.template("notes"),
            identity=account.identity,
            family=account.family,
            installer=account.file.name,
            decisions=decisions,
            blind_spots=account.blind_spots,
            silent=[(verb, line.command, line.confidence) for verb, line in lines if line],
            office=self.name,
        )
