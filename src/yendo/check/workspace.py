"""What the rules look at: a plan with its lines, and its media as far as they can be read."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from functools import cached_property
from pathlib import Path
from typing import Any

import msgspec

from yendo import digest
from yendo.effects import Effect, net
from yendo.errors import NotCovered, Unreadable, Usage, YendoError
from yendo.formats.msi import Database
from yendo.formats.msi.patch import Patch
from yendo.installers import recognise
from yendo.installers.account import InstallerAccount
from yendo.installers.msi import describe, engine, fitting, intent, layers
from yendo.installers.msi.session import Memory
from yendo.package import delivered
from yendo.package import manifest as form
from yendo.plan import CopyStep, MsiStep, Plan, Step, mark, read_once
from yendo.plan.model import VERBS
from yendo.plan.places import Path as Place
from yendo.plan.places import nearest
from yendo.platforms.windows.surroundings import windows
from yendo.steps import At, expanded, transforms
from yendo.steps.base import below
from yendo.terms.severity import Severity


class Finding(msgspec.Struct, frozen=True):
    """One mistake: where it is (file and line from 1), why it matters, and what to do."""

    rule: str
    severity: Severity
    line: int
    message: str
    why: str
    remedy: str
    file: str = "plan.toml"


def _given(step: MsiStep) -> dict[str, str]:
    """The properties of a step's command line."""
    given = {name: str(value) for name, value in step.properties.items()}
    if step.features:
        given["ADDLOCAL"] = ",".join(step.features)
    return given | ({"REINSTALL": "ALL", "REINSTALLMODE": "omus"} if step.patch else {})


class Workspace:
    """A workspace opened for checking. Raises PlanError when the plan cannot be read."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.resolve()
        self.path = self.folder / "plan.toml"
        self.plan: Plan
        self.plan, self._lines = read_once(self.path)
        self.text = self.path.read_text("utf-8")
        self._digests: dict[str, str | None] = {}

    def line(self, *path: str | int) -> int:
        """The line of a value, or of the table it would stand in."""
        return nearest(self._lines, tuple(path))

    def has_line(self, *path: str | int) -> bool:
        place: Place = tuple(path)
        return place in self._lines

    def steps(self) -> list[tuple[str, int, Step]]:
        """``(verb, position, step)`` of every step."""
        return [(verb, at, step) for verb in VERBS for at, step in enumerate(self.plan.steps(verb))]

    @cached_property
    def accounts(self) -> dict[str, InstallerAccount]:
        """What each medium that can be read tells, by its file name."""
        found = {}
        for medium in self.plan.media:
            path = self.folder / "media" / medium.file
            if path.is_file():
                try:
                    found[medium.file] = recognise.read(path)
                except (Unreadable, NotCovered, Usage):
                    continue
        return found

    def at(self, verb: str, position: int) -> At:
        """Where a step of the plan stands among all that the package carries out; ``position`` from 0."""
        before = len(mark.steps(self.plan, verb)[0]) + len(self.plan.standing(verb)[0])
        with contextlib.suppress(Usage):  # what stands before counts as often as it is carried out
            before += len(expanded(self.plan.steps(verb)[:position], self.folder, form.kept(self.plan))) - position
        return form.at(self.folder, self.plan, verb, before + position + 1)

    def account_of(self, step: Step) -> InstallerAccount | None:
        return self.accounts.get(step.media) if isinstance(step, MsiStep) and step.media else None

    @cached_property
    def effects(self) -> list[Effect]:
        """What the install steps do on a fresh machine, with the plan's own properties, changes and patches."""
        surroundings = windows("system" if self.plan.package.scope == "machine" else "user")
        state = describe.baseline(surroundings)
        before = state.copy()
        found: list[Effect] = []
        memories: dict[str, Memory] = {}
        for step in self.plan.install:
            if not isinstance(step, MsiStep) or not (self.account_of(step) or step.patch):
                continue
            try:
                with self.opened(step) as database:
                    outcome = engine.run(database, surroundings, state, _given(step), memories=memories)
            except (YendoError, layers.Refused):
                continue  # other rules say so
            found += outcome.effects
            if outcome.memory:
                memories[outcome.memory.code] = outcome.memory
        return net(found, before, state)

    def goes_on(self, step: MsiStep) -> bool:
        """Whether a step's database goes on, on the usual fresh machine and with what the plan gives it."""
        surroundings = windows("system" if self.plan.package.scope == "machine" else "user")
        try:
            with self.opened(step) as database:
                return engine.run(
                    database, surroundings, describe.baseline(surroundings), _given(step), trial=True
                ).done
        except (YendoError, layers.Refused):
            return False

    @contextmanager
    def opened(self, step: MsiStep) -> Iterator[Database]:
        """The database that a step installs or patches, with everything that the plan lays over it.

        Raises YendoError, Refused.
        """
        with ExitStack() as stack:
            base = self.base_of(step) if step.patch else step
            if base is None:
                raise Usage(f"no step before {step.patch} installs anything")
            try:
                database: Database = stack.enter_context(transforms.changed(self.folder, base))
            except intent.IntentError:  # another rule says so; the rest is looked at all the same
                database = stack.enter_context(transforms.base_of(self.folder, base))
            for other in self.plan.install if step.patch else ():
                if isinstance(other, MsiStep) and other.patch:
                    patch = stack.enter_context(Patch(below(self.folder, f"media/{other.patch}", "media")))
                    after = fitting.patched(database, patch)
                    if after is None:
                        reasons = "; ".join(fitting.fit_patch(database, patch).reasons)
                        raise layers.Refused(
                            layers.PATCH_REFUSED, f"{other.patch} does not fit {base.media}: {reasons}"
                        )
                    database = after
                if other is step:
                    break
            yield database

    def base_of(self, step: MsiStep) -> MsiStep | None:
        """The step before a patch that installs what it goes onto."""
        before = self.plan.install[: self.plan.install.index(step)]
        return next((other for other in reversed(before) if isinstance(other, MsiStep) and other.media), None)

    def digest(self, name: str) -> str | None:
        """The hash of a medium, or None where it is missing. Each is read once, however many rules ask."""
        path = self.folder / "media" / name
        if name not in self._digests:
            self._digests[name] = digest.of_file(path) if path.is_file() else None
        return self._digests[name]

    @cached_property
    def copies(self) -> list[tuple[int, CopyStep]]:
        return [(at, step) for at, step in enumerate(self.plan.install) if isinstance(step, CopyStep)]

    @cached_property
    def trial(self) -> dict[str, Any] | None:
        """What the last trial of this workspace's setup program found, or None."""
        try:
            found = json.loads((self.folder / "trial" / "evidence.json").read_text("utf-8")).get("trial")
        except (OSError, ValueError, AttributeError):
            return None
        return found if isinstance(found, dict) else None

    @cached_property
    def delivered(self) -> delivered.Delivered | None:
        """What was handed over last, or None."""
        known = delivered.read(self.folder)
        return known[-1] if known else None
