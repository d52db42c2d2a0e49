"""Interprets a compiled script on a machine's state, as its stub would when called silently.

What cannot be known without running it (the answer of a library, of a window) becomes a marked
unknown text; a decision that hangs on one is taken as "not so" and told as a blind spot.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import ClassVar, NoReturn

import msgspec

from yendo.effects import Effect, Environment, State, Thing, net
from yendo.effects.effect import Change
from yendo.effects.things import Data, RegistryKey, RegistryValue, View, key_of, parent
from yendo.errors import NotCovered, Unreadable
from yendo.evidence import BlindSpot, Evidence
from yendo.formats.script_exe import Instruction, ScriptExe
from yendo.installers.script_exe.texts import Nested, Shell, Texts, Variable, Worded
from yendo.platforms.windows import systems
from yendo.platforms.windows.registry_keys import SCOPES, things_of_key, value_of
from yendo.platforms.windows.surroundings import MENU, Surroundings

MAX_STEPS, MAX_CALLS, MAX_TEXT, MAX_STACK = 400_000, 200, 8192, 4096
OPEN, CLOSE = "\ue000", "\ue001"  # round the name of something unknown inside a text
CMDLINE, INSTDIR, OUTDIR, EXEDIR, LANGUAGE, TEMP, PLUGINSDIR, EXEPATH, EXEFILE = range(20, 29)
AUTOCLOSE, EVERYONE, ERRORS, ABORTED, RESTART, _, _, _, SILENT, _, _, CODE, OTHER_VIEW, DETAILS = range(
    14
)  # the flags, by number

# Shell folders by number, as folder names of the surroundings. Source: the CSIDL constants of shlobj.h.
_SHELL = {
    0x02: "ProgramMenuFolder", 0x05: "PersonalFolder", 0x06: "FavoritesFolder", 0x07: "StartupFolder",
    0x08: "RecentFolder",
    0x09: "SendToFolder", 0x0B: "StartMenuFolder", 0x10: "DesktopFolder", 0x13: "NetHoodFolder", 0x14: "FontsFolder",
    0x15: "TemplateFolder", 0x1A: "AppDataFolder", 0x1B: "PrintHoodFolder", 0x1C: "LocalAppDataFolder",
    0x23: "CommonAppDataFolder",
    0x24: "WindowsFolder", 0x25: "SystemFolder", 0x26: "ProgramFilesFolder", 0x27: "MyPicturesFolder",
    0x2B: "CommonFilesFolder",
    0x30: "AdminToolsFolder",
}  # fmt: skip
_SHELL_EVERYONE = {
    0x16: "StartMenuFolder",
    0x17: "ProgramMenuFolder",
    0x18: "StartupFolder",
    0x2D: "TemplateFolder",
    0x2F: "AdminToolsFolder",
}
_SYSTEM = ("software\\microsoft\\", "software\\classes\\", "system\\")
_OF_CLASSES_REDIRECTED = ("clsid", "interface", "directshow", "media type", "mediafoundation")


class Started(msgspec.Struct, frozen=True):
    """A program that the script runs, and whether it waits for its end."""

    command: str
    waits: bool
    instruction: int


class Asked(msgspec.Struct, frozen=True):
    """A message box that was reached: its text, and the answer it takes by itself when silent (None: it shows)."""

    text: str
    answer: int | None
    instruction: int


class Stopped(Exception):
    """The script ends: by itself, or by an abort."""


class ScriptOutcome(msgspec.Struct, frozen=True):
    """What a run did. ``registry`` values are told as what they stand for; ``restarts``: no, asked for, or started."""

    effects: tuple[Effect, ...]
    started: tuple[Started, ...]
    asked: tuple[Asked, ...]
    blind_spots: tuple[BlindSpot, ...]
    exit_code: int
    restarts: str
    folder: str
    uninstallers: tuple[tuple[str, int], ...]
    switches: tuple[str, ...]
    architectures: tuple[str, ...] = ()


class ScriptKey:
    """One registry key as the script leaves it."""

    def __init__(self, hive: str, view: View, key: str) -> None:
        self.hive, self.view, self.key = hive, view, key
        self.values: dict[str, tuple[str, str, Data]] = {}
        self.gone, self.by = False, -1


class ScriptRun:
    """One run of a script. ``state`` is changed. ``operations`` are what each number does; ``doing`` fills them in."""

    operations: ClassVar[dict[int, Handler]] = {}

    def __init__(
        self,
        script: ScriptExe,
        surroundings: Surroundings,
        state: State,
        *,
        program: str,
        arguments: str = "/S",
        folder: str = "",
        bits: int = 32,
    ) -> None:
        self.script, self.surroundings, self.state, self.bits = script, surroundings, state, bits
        self.before = state.copy()
        self.texts = Texts(script)
        self._choose_language()
        self.variables: dict[int, str] = {}
        self.stack: list[str] = []
        self.flags = [0] * 16
        self.flags[SILENT] = 1
        self.remembered = list(self.flags)
        self.effects: list[Effect] = []
        self.keys: dict[tuple[str, View, str], ScriptKey] = {}
        self.started: list[Started] = []
        self.asked: list[Asked] = []
        self.blind: dict[tuple[str, str], BlindSpot] = {}
        self.uninstallers: list[tuple[str, int]] = []
        self.architectures: set[str] = set()
        self.steps = 0
        self.restarts = "no"
        self.selected = {number: bool(section.flags & 1) for number, section in enumerate(script.sections)}
        self.redirected = bits == 32
        self.made = 0
        self.here: Instruction | None = None
        self._nested: Nested | None = None  # while a text is put together
        name = program.rpartition("\\")[2]
        self.variables |= {
            CMDLINE: f'"{program}" {arguments}'.strip(),
            EXEDIR: parent(program),
            EXEPATH: program,
            EXEFILE: name,
            TEMP: surroundings.environment["TEMP"],
        }
        self.variables[LANGUAGE] = str(self.texts.language.number if self.texts.language else surroundings.language)
        self.variables[29] = "0"
        self.variables[INSTDIR] = folder or self._folder()
        self.variables[OUTDIR] = self.variables[INSTDIR]

    def _choose_language(self) -> None:
        for mask in (0xFFFF, 0x3FF, 0):
            for language in self.script.languages:
                if language.number & mask == self.surroundings.language & mask:
                    self.texts.language = language
                    return

    def _folder(self) -> str:
        known = self.script.remembered
        if known["key"]:
            found = self.read_registry(known["root"], self.text(known["key"]), self.text(known["value"]))
            if found is not None and str(found[1]):
                return self.clean(str(found[1]))
        return self.clean(self.text(self.script.folder))

    # --- texts ------------------------------------------------------------------------------------

    def text(self, operand: int) -> str:
        """A text as it is on this machine; one that lies in another, by words or by a folder, to a depth."""
        if self._nested is not None:
            with self._nested as deeper:
                return self._text(operand) if deeper else ""
        self._nested = Nested()
        try:
            return self._text(operand)
        finally:
            self._nested = None

    def _text(self, operand: int) -> str:
        out = ""
        for part in self.texts.parts(operand):
            match part:
                case Variable(number):
                    out += self.variables.get(number, "")
                case Shell(mine, everyone):
                    out += self.shell(mine, everyone)
                case Worded(number):
                    out += self.text(-number - 1) if len(out) < MAX_TEXT else ""
                case _:
                    out += part
            if len(out) > MAX_TEXT:
                return out[:MAX_TEXT]
        return out

    def shell(self, mine: int, everyone: int) -> str:
        """A folder of the shell, or of the registry's list of the system's folders."""
        if mine & 0x80:
            name = self.texts.shown(mine & 0x3F)
            wide = bool(mine & 0x40) or self.bits == 64
            folder = {"ProgramFilesDir": "ProgramFiles", "CommonFilesDir": "CommonFiles"}.get(name)
            if folder:
                return self.surroundings.folders.get(f"{folder}64Folder" if wide else f"{folder}Folder", "")
            return self.text(everyone)
        number = everyone if self.flags[EVERYONE] else mine
        data = self.surroundings.folders["CommonAppDataFolder"]
        if number in _SHELL_EVERYONE:
            return f"{data}\\{MENU[_SHELL_EVERYONE[number]]}"
        if number in (0x19, 0x2E):
            return self.surroundings.environment["PUBLIC"] + (r"\Desktop" if number == 0x19 else r"\Documents")
        if number == 0x28:
            return self.surroundings.environment["USERPROFILE"]
        known = _SHELL.get(number)
        if known == "SystemFolder":
            return r"C:\Windows\System32"
        return self.surroundings.folders[known] if known else self.unknown(f"shell folder {number:#x}")

    def number(self, operand: int) -> int:
        """A text as a number, as the stub reads it: decimal, hexadecimal after 0x, octal after 0."""
        match = re.match(r"\s*(-?)(0[xX][0-9a-fA-F]+|0[0-7]*|[1-9][0-9]*)", self.text(operand))
        if not match:
            return 0
        base = 16 if match[2][:2].lower() == "0x" else 8 if match[2][0] == "0" else 10
        value = int(match[2], base) & 0xFFFFFFFF
        value = -value if match[1] else value
        return (value + 0x80000000) % 0x100000000 - 0x80000000

    def path(self, operand: int) -> str:
        return self.absolute(self.text(operand))

    def absolute(self, path: str) -> str:
        """A path as the machine has it: relative ones below the output folder, the 32-bit system folder in
        its place.
        """
        path = self.clean(path)
        if not path:
            return self.variables.get(OUTDIR, "")
        if path.startswith("\\") and not path.startswith("\\\\"):
            path = self.variables.get(OUTDIR, "")[:2] + path  # from the root of the drive
        if not re.match(r"[A-Za-z]:|\\\\", path) and not path.startswith(OPEN):
            path = f"{self.variables.get(OUTDIR, '')}\\{path}"
        if self.redirected and path.lower().startswith(r"c:\windows\system32"):
            path = r"C:\Windows\SysWOW64" + path[19:]
        return path

    @staticmethod
    def clean(path: str) -> str:
        """Without what a file name cannot hold; a trailing backslash goes too."""
        head, rest = (path[:2], path[2:]) if path[1:2] == ":" else ("", path)
        rest = re.sub(r'[*?|<>/":]', "", rest)
        lead = "\\\\" if rest.startswith("\\\\") and not head else ""
        return head + lead + re.sub(r"\\+", r"\\", rest[len(lead) :]).rstrip("\\ ")

    def unknown(self, what: str) -> str:
        return f"{OPEN}{what[:60]}{CLOSE}"

    @staticmethod
    def is_unknown(text: str) -> bool:
        return OPEN in text

    # --- telling ------------------------------------------------------------------------------------

    @property
    def evidence(self) -> Evidence:
        return Evidence("offset", f"instruction {self.here.number if self.here else '?'}")

    def spot(self, what: str, why: str) -> None:
        what, why = shown(what), shown(why)
        if len(self.blind) < 200:
            self.blind.setdefault((what, why), BlindSpot(what, why, self.evidence))

    def did(self, change: Change, thing: Thing) -> None:
        self.effects.append(Effect(change, thing, "predicted", self.evidence))

    def put(self, thing: Thing) -> None:
        """Adds a thing to the machine, unless its place is not known."""
        if self.is_unknown(thing.identity):
            self.spot(f"{key_of(thing)[0]} {thing.identity}", "its place hangs on something that only a run knows")
            return
        old = self.state.add(thing)
        self.did("change" if old is not None else "add", thing)

    def make_folders(self, path: str) -> None:
        if path and not self.is_unknown(path):
            for folder in self.state.add_folders(path):
                self.did("add", folder)

    def take(self, kind: str, path: str) -> bool:
        thing = self.state.remove(kind, path)
        if thing is not None:
            self.did("remove", thing)
            for inside in self.state.values_in(path) if kind == "file" else ():
                self.take("ini", inside.identity)
        return thing is not None

    def failed(self) -> None:
        self.flags[ERRORS] = 1

    # --- registry -----------------------------------------------------------------------------------

    def locate(self, root: int, key: str) -> tuple[str, View, str]:
        """Hive, view and key of a root number and a path below it. Source: the predefined keys of winreg.h."""
        root &= 0xFFFFFFFF
        hive = {
            0x80000000: "HKLM",
            0x80000001: "HKCU",
            0x80000002: "HKLM",
            0x80000003: "HKU",
            0: "HKLM" if self.flags[EVERYONE] else "HKCU",
        }.get(root, "HKLM")
        key = key.strip("\\")
        if root == 0x80000000:
            key = f"Software\\Classes\\{key}"
        lowered = key.lower()
        view: View = "64"
        if hive == "HKLM" and lowered.split("\\")[0] == "software":
            narrow = (self.bits == 32 and not self.flags[OTHER_VIEW] & 0x100) or bool(self.flags[OTHER_VIEW] & 0x200)
            classes = (
                lowered.startswith("software\\classes") and lowered[17:].split("\\")[0] not in _OF_CLASSES_REDIRECTED
            )
            view = "32" if narrow and not classes else "64"
        return hive, view, key

    def key(self, root: int, path: str, *, make: bool = False) -> ScriptKey | None:
        hive, view, key = self.locate(root, path)
        place = (hive, view, key.lower())
        found = self.keys.get(place)
        if found is None and make:
            found = self.keys[place] = ScriptKey(hive, view, key)
        return found

    def read_registry(self, root: int, path: str, name: str) -> tuple[str, Data] | None:
        """Type and data of a value, as the script itself or the machine before it set it."""
        known = self.key(root, path)
        if known and name.lower() in known.values:
            return known.values[name.lower()][1:]
        if known and known.gone:
            return None
        hive, view, key = self.locate(root, path)
        there = self.state.get("registry", f"{hive}/{view}\\{key}!{name}")
        if isinstance(there, RegistryValue):
            return there.type or "sz", there.data
        try:
            found = value_of(self.state, hive, view, key, name)
        except NotCovered:
            found = None
        if found is not None:
            return "sz", found
        if systems.may_have(hive, key) and not systems.knows(self.surroundings.windows, key, name):
            self.spot(
                f"whether {hive}\\{key} has {name or 'a value'}",
                "the data of this Windows do not say; taken for not there, and a real machine has to confirm it",
            )
        return None

    def _registry_effects(self) -> None:
        """Puts the touched keys into the state as the things they stand for."""
        for place, key in self.keys.items():
            hive, view, lowered = place
            if self.is_unknown(lowered):
                self.spot(f"registry {key.hive}\\{key.key}", "its place hangs on something that only a run knows")
                continue
            self.here = self.script.instructions[key.by] if 0 <= key.by < len(self.script.instructions) else None
            old = [
                thing
                for thing in self.state
                if isinstance(thing, RegistryValue) and (thing.hive, thing.view, thing.key.lower()) == place
            ]
            head = lowered + "\\"
            below = any(
                other[:2] == (hive, view) and other[2].startswith(head) and not kept.gone
                for other, kept in self.keys.items()
            )
            variables = self._variables(key)
            values: dict[str, tuple[str, Data]] = {}
            if not key.gone:
                values = {thing.name: (thing.type or "sz", thing.data) for thing in old}
                values |= {thing.name: ("sz", thing.value) for thing in variables}
            lower = {name.lower(): name for name in values}
            for low, (name, kind, data) in key.values.items():
                values[lower.get(low, name)] = (kind, data)
            values = {name: value for name, value in values.items() if value[0] != "gone"}
            found = (
                []
                if key.gone and not values
                else list(things_of_key(key.hive, key.key, key.view, values, has_children=below))
            )
            keep = {key_of(thing) for thing in found}
            for thing in (*old, *self._derived(key), *variables):
                if key_of(thing) not in keep and self.state.remove(*key_of(thing)) is not None:
                    self.did("remove", thing)
            for thing in found:
                self.put(_known_only(thing))

    def _left_empty(self) -> None:
        """The keys above deleted ones that then hold nothing; those of the system always hold something else."""
        held = {
            (thing.hive, thing.view, f"{thing.key}\\".lower())
            for thing in self.state
            if isinstance(thing, RegistryValue | RegistryKey)
        }
        for (hive, view, lowered), key in list(self.keys.items()):
            above, _, _ = key.key.rpartition("\\")
            head = above.lower() + "\\"
            if not key.gone or head.count("\\") < 2 or head.startswith(_SYSTEM) or self.is_unknown(lowered):
                continue
            if not any(place[:2] == (hive, view) and place[2].startswith(head) for place in held):
                self.put(RegistryKey(key.hive, above, key.view))

    def _variables(self, key: ScriptKey) -> list[Environment]:
        """The environment variables that the machine has in place of this key's values."""
        scope = SCOPES.get((key.hive, key.key.lower()))
        known = [thing for thing in self.state.of("environment") if isinstance(thing, Environment)]
        return [thing for thing in known if thing.scope == scope]

    def _derived(self, key: ScriptKey) -> list[Thing]:
        """What the machine has in place of the key's values: an uninstall entry, a service."""
        last = key.key.rpartition("\\")[2]
        names = (
            ("uninstall-entry", f"{key.hive}/{key.view}\\{last}"),
            ("service", last),
            ("registry-key", f"{key.hive}/{key.view}\\{key.key}"),
        )
        suits = {"uninstall-entry": "\\uninstall\\", "service": "\\services\\", "registry-key": ""}
        return [
            thing
            for kind, name in names
            if suits[kind] in key.key.lower() and (thing := self.state.get(kind, name)) is not None
        ]

    # --- control --------------------------------------------------------------------------------------

    def jump(self, operand: int) -> int | None:
        """Where an instruction leads: a number, or None for the next one."""
        if operand < 0:
            text = self.variables.get(-operand - 1, "")
            operand = int(text) if text.isdigit() else 0
        return operand - 1 if operand > 0 else None

    def segment(self, start: int, depth: int = 0) -> None:
        """Interprets from an instruction until the return that belongs to it. Raises Stopped, Unreadable."""
        at = start
        while True:
            self.steps += 1
            if self.steps > MAX_STEPS:
                raise Unreadable(f"the script does not end within {MAX_STEPS} instructions; it was at {at}")
            if not 0 <= at < len(self.script.instructions):
                raise Unreadable(f"the script jumps to instruction {at} of {len(self.script.instructions)}")
            instruction = self.here = self.script.instructions[at]
            if instruction.operation == 1:
                return
            if instruction.operation == 5:
                target = self.jump(instruction.operands[0])
                if depth > MAX_CALLS:
                    raise Unreadable(f"the script calls itself more than {MAX_CALLS} times, at instruction {at}")
                if target is not None:
                    self.segment(target, depth + 1)
                at += 1
                continue
            does = self.operations.get(instruction.operation)
            if does is None:
                self.spot(
                    f"instruction {at}: operation {instruction.operation}", "this version does not know what it does"
                )
            following = does(self, *instruction.operands) if does else None
            at = at + 1 if following is None else following

    def stop(self) -> NoReturn:
        raise Stopped

    def whole(self) -> ScriptOutcome:
        """Runs everything that a silent call runs: the first function, the chosen sections, the last function."""
        functions = self.script.functions
        try:
            if functions[0] >= 0:
                self.segment(functions[0])
            for number, section in enumerate(self.script.sections):
                if self.selected[number] and section.code >= 0 and section.length:
                    self.segment(section.code)
            if functions[1] >= 0:
                self.segment(functions[1])
        except Stopped:
            pass
        except RecursionError as error:
            raise Unreadable("the script nests too deeply") from error
        code = self.flags[CODE] or (2 if self.flags[ABORTED] else 0)
        folder = self.variables.get(INSTDIR, "")
        self._registry_effects()
        self._left_empty()
        if scratch := self.variables.get(PLUGINSDIR):
            for kind, identity in [
                key
                for key in self.state.items()
                if key[0] in ("file", "folder", "ini") and key[1].startswith(scratch.lower())
            ]:
                self.state.remove(kind, identity)
        if self.flags[RESTART] and self.restarts == "no":
            self.restarts = "asked for"
        return ScriptOutcome(
            tuple(net(self.effects, self.before, self.state)),
            tuple(self.started),
            tuple(self.asked),
            tuple(self.blind.values()),
            code,
            self.restarts,
            folder,
            tuple(self.uninstallers),
            self._switches(),
            tuple(sorted(self.architectures)),
        )

    def _switches(self) -> tuple[str, ...]:
        """Texts that look like switches, where the script looks at its command line at all."""
        found: dict[str, None] = {}
        line = any(
            isinstance(part, Variable) and part.number == CMDLINE
            for instruction in self.script.instructions
            if instruction.operation in (25, 26, 31)
            for operand in instruction.operands[:2]
            for part in self.texts.parts(operand)
        )
        for instruction in self.script.instructions if line else ():
            if (instruction.operation == 31 and not instruction.operands[1]) or instruction.operation == 26:
                for operand in instruction.operands[:2] if instruction.operation == 26 else instruction.operands[:1]:
                    text = self.texts.shown(operand)
                    if re.fullmatch(r"[/-]{1,2}[A-Za-z][A-Za-z0-9_-]{1,30}[=:]?", text):
                        found[text] = None
        return tuple(found)


def shown(text: str) -> str:
    """A text with what is unknown in it, for a person."""
    return text.replace(OPEN, "‹").replace(CLOSE, "›")


def _known_only(thing: Thing) -> Thing:
    """A thing without the fields whose text is not known."""
    texts = {
        name: getattr(thing, name) for name in thing.__struct_fields__ if name not in ("path", "key", "name", "hive")
    }
    unknown = {name: None for name, text in texts.items() if isinstance(text, str) and OPEN in text}
    return msgspec.structs.replace(thing, **unknown) if unknown else thing


Handler = Callable[..., int | None]
