"""A whole package inside a database: for those who can deliver nothing else. Its files lie in a folder that only
administrators write, and the package's own runner does the work, started by a small library of ours
(``programs/carry.c``).
"""

from __future__ import annotations

import tempfile
from importlib.resources import as_file, files
from pathlib import Path, PureWindowsPath

import msgspec

from yendo.errors import Usage
from yendo.forms import within
from yendo.forms.composer import Composer
from yendo.forms.database import compose
from yendo.forms.form import ENVELOPE, FormBuilt, authored, put
from yendo.forms.places import escaped, key, property_of
from yendo.package import build as packages
from yendo.plan import Plan
from yendo.platforms.windows.capture_record import Promise
from yendo.platforms.windows.surroundings import expand, windows

_PLACE = r"%ProgramFiles%\Yendo envelopes"  # beside the runner's own home, which keeps nothing that others put there
# Source: the types of custom actions: a library in table Binary; in the script, not as the person, for undoing.
_LIBRARY, _SET, _DEFERRED, _AS_SYSTEM, _UNDOING = 1, 51, 1024, 2048, 256
_REMOVING = 'REMOVE~="ALL"'
# What is called when: the action, the verb, its condition, its place in the sequence, whether it undoes.
_CALLS = (
    ("CarryRemove", "uninstall", _REMOVING, 1560, False),
    ("CarryBack", "uninstall", "NOT Installed", 6510, True),
    ("CarryInstall", "install", "NOT Installed", 6530, False),
    ("CarryRepair", "repair", f"Installed AND REINSTALL AND NOT {_REMOVING}", 6550, False),
)
_ODD = ("%", ";")
_BEHIND = 6650  # the restart is asked for once everything is done


def build_envelope(base: Path, plan: Plan, *, entry: bool = True) -> FormBuilt:
    """Makes a database with the package inside, and the workspace ``forms/envelope`` that proves it.

    ``entry``: whether it has a line of its own in the list of programs. Raises NotWithin where a step cannot be carried
    out inside an installation, Usage where the package cannot be removed or has secrets.
    """
    wrong, unknown = within.judged(plan, base)
    if wrong:
        raise within.NotWithin(wrong)
    if "x86" in plan.when.architecture:
        raise Usage("an envelope is for 64-bit Windows, and [when] admits one of 32 bits: take x86 out of it")
    if secrets := [name for name, setting in plan.settings.items() if setting.secret]:
        raise Usage(f"the secret {secrets[0]} would stand in a command line: an installation has no other way for it")
    _handed_on(plan)
    with tempfile.TemporaryDirectory(prefix="yendo-envelope-") as place:
        built = packages.build(base, plan, output=Path(place))
        if not built.manifest.uninstall:
            raise Usage("the plan has no uninstall steps, so a database with it inside could not be removed")
        head = rf"{_PLACE}\{plan.package.id}"
        wanted = [
            authored(path, rf"{head}\{PureWindowsPath(path.relative_to(built.folder))}", Path(place))
            for path in sorted(built.folder.rglob("*"))
            if path.is_file()
        ]
        verbs = {"install", "uninstall", *(["repair"] if built.manifest.repair else [])}

        def more(made: Composer, product: str) -> None:
            _called(made, product, rf"{head}\apply.cmd", plan, verbs, entry=entry)

        # whatever is inside: the library and the folders are those of a 64-bit Windows
        outside = msgspec.structs.replace(plan, package=msgspec.structs.replace(plan.package, architecture="x64"))
        composed = compose(outside, wanted, Path(place), more)
        with as_file(files("yendo.forms").joinpath("programs/carry.dll")) as library:
            return put(
                ENVELOPE,
                base,
                outside,
                composed,
                Promise(kept=tuple(one.caught.effect for one in wanted), left=()),
                streams={"Binary.Carry": library},
                notes=tuple(unknown),
                more={
                    "detect": _detection(composed.product, composed.version, plan),
                    "proof": {"machines": ["wine"], "accept": _logs(built.manifest.logs)},
                },
            )


def _handed_on(plan: Plan) -> None:
    """Raises Usage where a value of a setting cannot be handed on in a command line."""
    for site, values in plan.site.items():
        for name, value in values.items():
            text = plan.settings[name].text_of(value, said=True)
            if any(odd in text for odd in (*_ODD, '"')):
                raise Usage(
                    f'the value of {name} for {site} holds a character of % ; " and cannot be handed on: {text}'
                )


def _logs(folder: str) -> list[str]:
    """The logs of the package inside, which stay on purpose, as a plan accepts them."""
    where = expand(folder, windows("system").environment)
    return [f"folder {where}", f"file {where}\\*"]


def _detection(product: str, version: str, plan: Plan) -> list[object]:
    """What the package itself is detected by, and that the database is installed."""
    own = {"kind": "msi-product", "code": product, "version": f"=={version}"}
    return [own, *msgspec.to_builtins(plan.detect)]


def _called(made: Composer, product: str, runner: str, plan: Plan, verbs: set[str], *, entry: bool) -> None:
    """The actions that start the runner, and what they are told."""
    made.add("Binary", "Carry", 1)
    set_by = "".join(f"{name}=[{property_of(name)}];" for name in plan.settings).rstrip(";")
    options = f' -Set "{set_by}"' if set_by else ""
    line = f'"[%ComSpec]" /d /s /c ""[#{key("F", runner)}]" {{}}"'
    sequence = made.tables["InstallExecuteSequence"]
    for name, verb, condition, at, undoes in _CALLS:
        meant = verb if verb in verbs else "install"
        given = "" if meant == "uninstall" else options
        back = line.format("uninstall") if verb == "install" else ""
        made.add("CustomAction", f"Set{name}", _SET, name, f"{product}|{back}|{line.format(meant + given)}")
        kind = _LIBRARY | _DEFERRED | _AS_SYSTEM | (_UNDOING if undoes else 0)
        made.add("CustomAction", name, kind, "Carry", "Carry")
        sequence += [(f"Set{name}", condition, at - 5), (name, condition, at)]
    for name, setting in plan.settings.items():  # the shell would take these for its own, or for the end of a value
        for odd in _ODD:
            words = f"{property_of(name)} holds the character {odd}, which cannot be handed on: {setting.meaning}"
            made.add("LaunchCondition", f'NOT ({property_of(name)} >< "{odd}")', escaped(words))
    made.add("CustomAction", "AskRestart", _LIBRARY, "Carry", "Restart")
    sequence.append(("AskRestart", None, _BEHIND))
    if not entry:
        made.add("Property", "ARPSYSTEMCOMPONENT", "1")
