"""What is known of a package for macOS from reading it."""

from __future__ import annotations

from typing import Literal

import msgspec

from yendo.terms.severity import Severity

SCHEMA = "yendo.mac-package/1"


class MacItem(msgspec.Struct, frozen=True):
    """Something that a payload places. ``path`` is from the root of the volume; ``mode`` in octal digits with the bits
    for set-user and the like; ``user`` and ``group`` are numbers.
    """

    path: str
    kind: str
    mode: str
    user: int
    group: int
    size: int = 0
    target: str = ""


class MacBundle(msgspec.Struct, frozen=True):
    """A bundle that the package knows by name: where it goes, its identifier and versions."""

    path: str
    identifier: str
    version: str


class MacScript(msgspec.Struct, frozen=True):
    """A script that the installer runs. ``when`` is ``preinstall``, ``postinstall`` or a name of its own."""

    when: str
    interpreter: str
    text: str


class MacComponent(msgspec.Struct, frozen=True):
    """One component. ``location`` is where its payload is laid; ``relocatable`` bundles follow one that was moved.

    ``trouble`` says what of it could not be read; ``folder`` is where in the archive it lies. ``unlike`` are paths of
    which its bill says something else than the payload.
    """

    identifier: str
    version: str
    location: str
    as_root: bool
    restart: str = ""
    items: tuple[MacItem, ...] = ()
    bundles: tuple[MacBundle, ...] = ()
    relocatable: tuple[str, ...] = ()
    scripts: tuple[MacScript, ...] = ()
    trouble: str = ""
    folder: str = ""
    unlike: tuple[str, ...] = ()

    @property
    def starts(self) -> tuple[MacItem, ...]:
        """What launchd would start: daemons and agents."""
        folders = ("/Library/LaunchDaemons/", "/Library/LaunchAgents/")
        return tuple(item for item in self.items if item.path.startswith(folders) and item.path.endswith(".plist"))


class MacChoice(msgspec.Struct, frozen=True):
    """What a person may choose: ``packages`` are identifiers; ``selected`` and ``visible`` are what the file says, a
    script perhaps.
    """

    identifier: str
    title: str
    packages: tuple[str, ...]
    selected: str
    visible: str


class MacSignature(msgspec.Struct, frozen=True):
    """``state``: ``none``, ``holds``, ``broken``, or ``not judged``. ``chain`` are names, the signer first; whether
    macOS trusts its end is not known here.
    """

    state: Literal["none", "holds", "broken", "not judged"]
    chain: tuple[str, ...] = ()
    ends: str = ""
    problem: str = ""

    @property
    def words(self) -> str:
        if self.state == "none":
            return "not signed"
        by = f"signed by {self.chain[0]}" if self.chain else "signed"
        return {
            "holds": f"{by}, the signature holds",
            "broken": f"{by}, THE SIGNATURE DOES NOT HOLD",
            "not judged": f"{by}; not judged: {self.problem}",
        }[self.state]


class MacFinding(msgspec.Struct, frozen=True):
    """``id`` is its name in the table of ``docs/macos.md``; ``where`` a script and its line, or a path."""

    id: str
    level: Severity
    what: str
    advice: str
    where: str = ""


class MacPackage(msgspec.Struct, frozen=True):
    """``form`` is ``distribution`` (a product archive), ``component``, or ``older``: a folder.

    ``architectures`` are those that the file states, ``oldest`` the oldest system, ``newest`` the first that is too
    new; all may be empty. ``checks`` are its scripts that decide whether it may run.
    """

    file: str
    form: Literal["distribution", "component", "older"]
    title: str
    identifier: str
    version: str
    architectures: tuple[str, ...]
    oldest: str
    signature: MacSignature
    components: tuple[MacComponent, ...]
    choices: tuple[MacChoice, ...] = ()
    checks: tuple[str, ...] = ()
    newest: str = ""
    findings: tuple[MacFinding, ...] = ()
