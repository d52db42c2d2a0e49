"""Steps that provide a modern app package to everybody."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from yendo.errors import Unreadable, Usage
from yendo.facts.versions import Version
from yendo.formats import app_manifest, app_package
from yendo.installers import modern_app
from yendo.steps.base import Action, ActionData, At, Kind, Result, Step, below, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class MsixStep(Step, tag="msix", frozen=True, kw_only=True):
    """Provides a modern app package to every user of the machine, those to come too. What bars it since somebody took
    it away is lifted; taken back, it goes from everybody who has it as well.

    ``needs`` are packages that it depends on.
    """

    media: Text
    needs: tuple[Text, ...] = ()


class MsixData(ActionData, frozen=True):
    """``people`` is the command that takes it from who has it, ``barred`` the key that keeps it from coming back."""

    people: str = ""
    barred: str = ""


class MsixKind(Kind[MsixStep]):
    step = MsixStep
    reversal = "by record"
    executed = ("simulation", "stand-in")

    def resolve(self, step: MsixStep, at: At) -> Action:
        needs = "".join(f' /dependencypackagepath:"{packaged("media/" + name)}"' for name in step.needs)
        identity = app_package.identity(below(at.base, f"media/{step.media}", "media"))
        family, full = f"{identity.name}_{identity.publisher_id}", identity.full_name
        try:
            people = modern_app.from_people(identity.name)
        except Unreadable as error:
            raise Usage(f"{step.media}: {error}") from error
        return Action(
            "msix",
            f"provide {step.media}",
            "dism.exe /online /quiet /norestart /add-provisionedappxpackage "
            f'/packagepath:"{packaged("media/" + step.media)}"{needs} /skiplicense',
            codes={"0": "done", "3010": "restart"},
            reverse=f"dism.exe /online /quiet /norestart /remove-provisionedappxpackage /packagename:{full}",
            data=MsixData(people, modern_app.barred(family)).plain(),
        )

    def mistakes(self, step: MsixStep, at: At) -> Iterator[tuple[str, str, str]]:
        """What Windows would refuse: a signature of another, one that has ended, a package that it needs and nobody
        brings.
        """
        try:
            path = below(at.base, f"media/{step.media}", "media")
            problems, manifest = modern_app.wrong(path), app_manifest.read(path)
            brought = [app_package.identity(below(at.base, f"media/{name}", "media")) for name in step.needs]
        except (Usage, Unreadable):
            return  # other rules say so
        yield from (("media", message, remedy) for message, remedy in problems)
        for need in manifest.needs:
            there = next((one for one in brought if one.name == need.name), None)
            if there is None:
                yield "needs", f"it needs {need.name} {need.version} or later", "put that package into media/ and needs"
            elif _older(there.version, need.version):
                words = f"it needs {need.name} {need.version} or later, and {there.version} comes along"
                yield "needs", words, "bring a later one"

    def perform(self, action: Action, host: Host) -> Result:
        own = MsixData.of(action)
        if own.barred:  # a package built by an earlier version has it not
            host.drop_keys("HKLM", "64", own.barred)
            host.remember("U", own.people)
        return run_or_assume(action, host)


def _older(one: str, other: str) -> bool:
    """Whether a version comes before another; a text that is none before nothing."""
    try:
        return Version.parse(one) < Version.parse(other)
    except ValueError:
        return False
