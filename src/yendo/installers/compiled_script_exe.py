"""Setup programs with a compiled script and record streams of their own (``compiled-script-exe``)."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO

from yendo.effects import Effect, File, IniValue, RegistryValue, Shortcut, State, UninstallEntry
from yendo.effects.things import Thing, View, parent
from yendo.evidence import BlindSpot, Evidence, row
from yendo.formats import compiled_script as form
from yendo.formats.pe import Image
from yendo.installers import known_commands
from yendo.installers.account import Aspect, CommandLine, Identity, Silent, Switch
from yendo.installers.family import FoundContent, Prediction, Told, offset, programs
from yendo.installers.parts import InstallerPart
from yendo.platforms.windows.surroundings import MENU, Surroundings, windows

FAMILY = "compiled-script-exe"
_HIVES = {0x80000000: "HKCR", 0x80000001: "HKCU", 0x80000002: "HKLM", 0x80000003: "HKU"}
_TYPES = {0: None, 1: "sz", 2: "expand", 3: "dword", 4: "binary", 5: "multi", 6: "qword"}
_UNKNOWN = re.compile(r"\{[^{}]*\}")


def find(file: BinaryIO, image: Image) -> FoundContent | None:
    streams = form.find(file, image)
    if streams is None:
        return None
    where = streams.offsets.header
    return FoundContent(FAMILY, offset(where, f"the title of its streams: {streams.title}"), streams, streams.title)


def script_of(file: BinaryIO, found: FoundContent) -> form.Script:
    return form.read(file, found.reading(form.Streams))


def parts(file: BinaryIO, image: Image, found: FoundContent) -> list[InstallerPart]:
    script = script_of(file, found)
    packed = "packed together with others, not unpacked by this version"
    return [
        InstallerPart(entry["path"], None, None, None, lambda limit: io.BytesIO(), packed)
        for entry in (script.records or {}).get("file", ())
        if entry["path"]
    ]


class Places:
    """The constants in braces, as far as they do not hang on a run.

    Source: the documented constants of such scripts.
    """

    def __init__(self, script: form.Script, around: Surroundings, folder: str = "", *, wide: bool = False) -> None:
        self.texts, self.around, self.wide = script.header.texts, around, wide
        folders = around.folders
        self.known = {
            "win": folders["WindowsFolder"], "sd": "C:", "tmp": around.environment["TEMP"],
            "pf": folders["ProgramFiles64Folder" if wide else "ProgramFilesFolder"],
            "pf32": folders["ProgramFilesFolder"], "pf64": folders["ProgramFiles64Folder"],
            "cf": folders["CommonFiles64Folder" if wide else "CommonFilesFolder"],
            "sys": folders["System64Folder" if wide else "SystemFolder"],
            "commonappdata": folders["CommonAppDataFolder"], "userappdata": folders["AppDataFolder"],
            "localappdata": folders["LocalAppDataFolder"],
            "userdocs": folders["PersonalFolder"], "fonts": folders["FontsFolder"],
            "userdesktop": folders["DesktopFolder"],
            "commondesktop": around.environment["PUBLIC"] + r"\Desktop",
            "commondocs": around.environment["PUBLIC"] + r"\Documents",
            "commonprograms": f"{folders['CommonAppDataFolder']}\\{MENU['ProgramMenuFolder']}",
            "userprograms": folders["ProgramMenuFolder"],
            "commonstartup": f"{folders['CommonAppDataFolder']}\\{MENU['StartupFolder']}",
            "computername": around.computer, "username": around.user,
        }  # fmt: skip
        for automatic, one in (
            ("autopf", "pf"),
            ("autocf", "cf"),
            ("autoprograms", "commonprograms"),
            ("autodesktop", "commondesktop"),
            ("autoappdata", "commonappdata"),
        ):
            self.known[automatic] = self.known[one]
        for automatic, one in (
            ("commonpf", "pf"),
            ("commonpf32", "pf32"),
            ("commonpf64", "pf64"),
            ("commoncf", "cf"),
            ("syswow64", "sys"),
        ):
            self.known[automatic] = self.known[one]
        self.known["app"] = folder or self.text(self.texts.get("folder", ""))
        self.known["group"] = self.known["commonprograms"] + "\\" + self.text(self.texts.get("group", ""))

    def text(self, text: str) -> str:
        """With what is known put in; what is not known stays in its braces."""
        out = text.replace("{{", "\ue000")
        for _ in range(4):
            new = _UNKNOWN.sub(lambda match: self.known.get(match[0][1:-1].lower(), match[0]), out)
            if new == out:
                break
            out = new
        return out.replace("\ue000", "{")


def identifier(script: form.Script) -> str:
    """The key of its uninstall entry."""
    return Places(script, windows()).text(script.header.texts.get("id") or script.header.texts.get("name", "")) + "_is1"


def is_unknown(text: str) -> bool:
    return bool(re.search(r"\{[a-z][^{}]*\}", text))


def predict(
    file: BinaryIO,
    image: Image,
    found: FoundContent,
    program: str,
    arguments: str,
    surroundings: Surroundings,
    state: State,
) -> Prediction:
    """What a silent run does, from the records. ``state`` is left as it is."""
    return _predict(script_of(file, found), surroundings, state.copy())


def _predict(script: form.Script, around: Surroundings, state: State, folder: str = "") -> Prediction:
    found = _Prediction(script, around, state, folder)
    if script.records is None:
        found.spots.append(BlindSpot("its files, registry and programs", script.reason, _HERE))
    else:
        found.of_records(script.records)
    texts = script.header.texts
    if texts.get("code", "0 bytes") != "0 bytes":
        why = f"{texts['code']} of compiled code that is not interpreted here"
        found.spots.append(BlindSpot("the script's own functions", why, _HERE))
    if texts.get("uninstallable", "yes").lower() in ("", "yes", "1", "true"):
        found.of_uninstaller(script)
    return Prediction(tuple(found.effects), tuple(found.spots))


_HERE = Evidence("row", "header")


class _Prediction:
    """What the records of a script come to on a state."""

    def __init__(self, script: form.Script, around: Surroundings, state: State, folder: str) -> None:
        self.places = Places(script, around, folder)
        self._state = state
        self.effects: list[Effect] = []
        self.spots: list[BlindSpot] = []

    def _put(self, thing: Thing, where: Evidence) -> None:
        if is_unknown(thing.identity):
            why = "its place hangs on something that only a run knows"
            self.spots.append(BlindSpot(thing.identity, why, where))
            return
        old = self._state.add(thing)
        self.effects.append(Effect("change" if old is not None else "add", thing, "predicted", where))

    def _below(self, path: str, where: Evidence) -> None:
        if not is_unknown(path):
            self.effects.extend(Effect("add", made, "predicted", where) for made in self._state.add_folders(path))

    def of_records(self, records: Mapping[str, Sequence[Mapping[str, Any]]]) -> None:
        text = self.places.text
        for number, entry in enumerate(records["folder"]):
            self._below(text(entry["path"]), row("folder", number))
        for number, entry in enumerate(records["file"]):
            self._file(entry, row("file", number))
        for number, entry in enumerate(records["icon"]):
            self._icon(entry, row("icon", number))
        for number, entry in enumerate(records["registry"]):
            _registry(entry, self.places, row("registry", number), self._put, self.spots)
        for number, entry in enumerate(records["ini"]):
            value = IniValue(text(entry["path"]), entry["section"], entry["key"], text(entry["value"]))
            self._put(value, row("ini", number))
        for number, entry in enumerate(records["run"]):
            line = f"runs {text(entry['program'])} {text(entry['arguments'])}".strip()
            self.spots.append(BlindSpot(line, known_commands.unseen(line[5:]), row("run", number)))

    def _file(self, entry: Mapping[str, Any], where: Evidence) -> None:
        path = self.places.text(entry["path"])
        if entry["type"] == 1:
            return  # the uninstaller's own program, told by itself
        asked = [entry[name] for name in ("check", "parts", "jobs", "languages") if entry[name]]
        if asked:
            self.spots.append(BlindSpot(path, f"only where {' and '.join(asked)}", where))
        self._below(parent(path), where)
        self._put(File(path), where)

    def _icon(self, entry: Mapping[str, Any], where: Evidence) -> None:
        text = self.places.text
        path = text(entry["path"]) + ".lnk"
        if entry["jobs"]:
            self.spots.append(BlindSpot(path, f"only with the job {entry['jobs']}", where))
            return
        self._below(parent(path), where)
        folder = text(entry["working_folder"]) or None
        self._put(Shortcut(path, text(entry["target"]), text(entry["arguments"]), folder), where)

    def of_uninstaller(self, script: form.Script) -> None:
        """The program that removes it, with its entry in the list of programs."""
        texts, app = script.header.texts, self.places.known["app"]
        self._below(app, _HERE)
        self._put(File(f"{app}\\unins000.exe"), _HERE)
        self._put(File(f"{app}\\unins000.dat"), _HERE)
        title = self.places.text(texts.get("uninstall_name") or texts.get("full_name", ""))
        self._put(
            UninstallEntry(
                identifier(script), "HKLM", "64" if self.places.wide else "32", title, texts.get("version") or None,
                texts.get("publisher") or None,
                f'"{app}\\unins000.exe"', f'"{app}\\unins000.exe" /SILENT',
            ),
            _HERE,
        )  # fmt: skip


def _registry(entry: Mapping[str, Any], places: Places, where: Evidence, put: Any, spots: list[BlindSpot]) -> None:
    hive, kind = _HIVES.get(entry["hive"] & 0xFFFFFFFF, "HKLM"), _TYPES.get(entry["type"])
    key = places.text(entry["key"])
    if kind is None:
        return
    if hive == "HKCR":
        hive, key = "HKLM", f"Software\\Classes\\{key}"
    view: View = (
        "32"
        if hive == "HKLM"
        and key.lower().startswith("software\\")
        and not places.wide
        and "\\classes\\" not in key.lower()
        else "64"
    )
    data: Any = places.text(entry["value"])
    if kind in ("dword", "qword"):
        hexadecimal = re.fullmatch(r"(?:0x|\$)([0-9a-fA-F]{1,16})", data)
        data = int(hexadecimal[1], 16) if hexadecimal else int(data) if re.fullmatch(r"-?\d{1,20}", data) else None
    elif kind not in ("sz", "expand"):
        data = None
    if entry["check"] or entry["jobs"]:
        spots.append(BlindSpot(f"{hive}\\{key}", f"only where {entry['check'] or entry['jobs']}", where))
    put(
        RegistryValue(
            hive,
            key,
            places.text(entry["name"]),
            kind,
            None if isinstance(data, str) and is_unknown(data) else data,
            view,
        ),
        where,
    )


def _aspects(records: Mapping[str, Sequence[Mapping[str, Any]]], app: str, where: Evidence) -> Iterator[Aspect]:
    yield Aspect("waits", "until its work is done; its uninstaller goes on in a copy of itself", "likely", where)
    yield Aspect("log", "/LOG=<file>", "certain", where)
    yield Aspect("folder", f"/DIR=<folder>; by default {app}", "certain", where)
    codes = "0 done, 1 cannot start, 2 or 5 cancelled, 3 or 4 failed, 7 cannot begin, 8 needs a restart first"
    yield Aspect("exit codes", codes, "certain", where)
    for title, kind, switch in (
        ("language", "language", "/LANG=<name>"),
        ("kind", "kind", "/TYPE=<name>"),
        ("parts", "part", "/COMPONENTS=<names>"),
        ("jobs", "job", "/TASKS=<names>"),
    ):
        if names := ", ".join(f"{entry['name']} ({entry['title']})" for entry in records.get(kind, ())):
            yield Aspect(title, f"{switch}; {names}", "certain", where)


def tell(file: BinaryIO, image: Image, found: FoundContent, name: str) -> Told:
    from yendo.installers.msi.describe import baseline

    script = script_of(file, found)
    texts, where = script.header.texts, found.evidence
    around = windows()
    prediction = _predict(script, around, baseline(around))
    places = Places(script, around)
    app = places.known["app"]
    quiet = Switch("/VERYSILENT", "no window at all (/SILENT shows progress)", "certain", where)
    boxes = Switch("/SUPPRESSMSGBOXES", "answers message boxes by itself", "certain", where)
    stay = Switch("/NORESTART", "never restarts by itself", "certain", where)
    page = Switch("/SP-", "no question before it starts", "certain", where)
    usual = (quiet, boxes, stay, page)
    install = CommandLine(f'"{name}" /VERYSILENT /SUPPRESSMSGBOXES /NORESTART /SP-', "certain", where, usual)
    remove = CommandLine(
        f'"{app}\\unins000.exe" /VERYSILENT /SUPPRESSMSGBOXES /NORESTART',
        "likely" if is_unknown(app) else "certain",
        Evidence("row", "header"),
        usual[:3],
    )
    records = script.records or {}
    return Told(
        identity=Identity(
            name=texts.get("name") or None,
            version=texts.get("version") or None,
            publisher=texts.get("publisher") or None,
            product_code=identifier(script),
            scope="machine",
            language=", ".join(entry["name"] for entry in records.get("language", ())) or None,
        ),
        silent=Silent(install, remove, None),
        switches=(
            *usual,
            Switch("/DIR=<folder>", "the folder", "certain", where),
            Switch("/LOG=<file>", "writes a log", "certain", where),
        ),
        behaviour=tuple(_aspects(records, app, where)),
        effects=prediction.effects,
        blind_spots=prediction.blind_spots,
        candidates=(install,),
        processes=programs(prediction.effects, (f"{app}\\unins000.exe",)),
        why={f"identity.{field}": Evidence("row", f"header {field}") for field in ("name", "version", "publisher")},
        listing=tuple(
            _line(kind, number, entry) for kind, entries in records.items() for number, entry in enumerate(entries)
        ),
    )


def _line(kind: str, number: int, entry: dict[str, Any]) -> str:
    return f"{kind} {number}: " + ", ".join(f"{key}={value}" for key, value in entry.items() if value not in ("", 0))
