"""Setup engines driven by answer files, often round an installer database (``answers-exe``)."""

from __future__ import annotations

import configparser
import io
import re
from collections.abc import Callable, Iterator, Sequence
from typing import BinaryIO

import msgspec

from yendo import host_os
from yendo.effects import Effect, File, Folder, State, UninstallEntry
from yendo.effects.things import parent
from yendo.errors import NotCovered, Unreadable, YendoError
from yendo.evidence import BlindSpot, Evidence
from yendo.formats import answers
from yendo.formats.ini import IniParser
from yendo.formats.pe import Image
from yendo.formats.slices import part_of
from yendo.installers import answers_script
from yendo.installers.account import Aspect, CommandLine, Identity, Silent, Switch
from yendo.installers.family import FoundContent, InstalledDatabase, Prediction, Told, offset
from yendo.installers.msi import commandline
from yendo.installers.parts import MAX_LOOKED_INTO, InstallerPart, whole
from yendo.platforms.windows.surroundings import Surroundings, windows

FAMILY = "answers-exe"
MAX_DATABASE = 512 << 20
_SYSTEM_FOLDER = "c:\\windows\\system32"
# Source: the codes of the engine's silent mode, written to its log as ResultCode.
RESULTS = {
    0: "done", -1: "general error", -2: "invalid mode", -3: "required data is not in the answer file",
    -4: "not enough memory",
    -5: "a file does not exist (the answer file, most often)", -6: "cannot write the answer file",
    -7: "cannot write its log", -8: "the path of the answer file is wrong",
    -9: "not a valid list type", -10: "data of a wrong type", -11: "unknown error",
    -12: "dialogs come in another order than in the answer file",
    -51: "cannot create a folder", -52: "cannot reach a file or folder", -53: "a wrong option was chosen",
}  # fmt: skip


class AnswersSettings(msgspec.Struct, frozen=True):
    """What ``setup.ini`` says: the wrapped database's name or '', and its sections."""

    package: str
    sections: dict[str, dict[str, str]]
    written: dict[str, dict[str, str]] = {}  # the same as it was written, upper case and all

    def get(self, section: str, key: str) -> str:
        return self.sections.get(section.lower(), {}).get(key.lower(), "")


def find(file: BinaryIO, image: Image) -> FoundContent | None:
    begin, end = image.appended
    if end - begin < 64:
        return None
    records = answers.find(file, begin, end)
    if records is None:
        return None
    names = {record.name.lower() for record in records.records}
    if records.form == "plain" and not names & {"setup.ini", "setup.inx", "setup.ins", "data1.cab", "data1.hdr"}:
        return None
    words = {
        "plain": "records with plain names",
        "listed": "a list of records behind its mark",
        "later": "a list of records of a later form behind its mark",
    }
    return FoundContent(FAMILY, offset(records.offset, words[records.form]), records, words[records.form])


def _open(file: BinaryIO, record: answers.Record) -> Callable[[int], BinaryIO]:
    def open_it(limit: int) -> BinaryIO:
        if not record.folding:
            return part_of(file, record.offset, min(record.size, limit))
        return whole(answers.pieces(file, record), limit)

    return open_it


def parts(file: BinaryIO, image: Image, found: FoundContent) -> list[InstallerPart]:
    listed = [
        InstallerPart(
            record.path.replace("\\", "/"),
            None if record.folding else record.size,
            record.offset,
            record.size,
            _open(file, record),
            "",
            not record.folding,
        )
        for record in found.reading(answers.Records).records
    ]
    try:
        return listed + _of_cabinets(file, found.reading(answers.Records))
    except YendoError as error:  # the records are certain all the same
        damaged = f"cannot be read: {error}"
        return [
            msgspec.structs.replace(part, note=damaged, unread=True)
            if part.name.lower().endswith(("data1.hdr", "data1.cab"))
            else part
            for part in listed
        ]


def _of_cabinets(file: BinaryIO, records: answers.Records) -> list[InstallerPart]:
    """The files of the engine's own cabinets, by the header that lists them."""
    by_name = {record.name.lower(): record for record in records.records}
    header = by_name.get("data1.hdr") or by_name.get("data1.cab")
    if header is None:
        return []
    listed = []
    for held in answers.cabinet_files(_open(file, header)(16 << 20).read()):
        volume = by_name.get(f"data{held.volume}.cab")
        if not held.size or not held.offset or volume is None:
            continue

        def open_it(limit: int, volume: answers.Record = volume, held: answers.HeldFile = held) -> BinaryIO:
            inner = part_of(file, volume.offset, volume.size)
            return io.BytesIO(answers.unpack(inner, held, max(MAX_LOOKED_INTO, held.size))[:limit])

        listed.append(
            InstallerPart(
                f"{volume.name}/{held.path.replace(chr(92), '/')}",
                held.size,
                volume.offset + held.offset,
                held.packed,
                open_it,
            )
        )
    return listed


def settings(file: BinaryIO, records: answers.Records) -> AnswersSettings:
    """What the launcher's own settings file says. Empty where there is none."""
    record = next((record for record in records.records if record.name.lower() == "setup.ini"), None)
    if record is None:
        return AnswersSettings("", {})
    raw = _open(file, record)(1 << 20).read()
    text = raw.decode("utf-16" if raw[:2] == b"\xff\xfe" else "cp1252", "replace")
    parser = IniParser(strict=False, interpolation=None, allow_no_value=True, comment_prefixes=(";",))
    try:
        parser.read_string(text)
    except configparser.Error:
        return AnswersSettings("", {})
    sections = {
        name.lower(): {key.lower(): value or "" for key, value in parser.items(name)} for name in parser.sections()
    }
    written = {name: {key: value or "" for key, value in parser.items(name)} for name in parser.sections()}
    return AnswersSettings(sections.get("startup", {}).get("packagename", ""), sections, written)


def wrapped(file: BinaryIO, records: answers.Records, name: str) -> BinaryIO | None:
    """The wrapped database in memory, or None."""
    record = next((record for record in records.records if record.name.lower() == name.lower()), None)
    return _open(file, record)(MAX_DATABASE) if record else None


def predict(
    file: BinaryIO,
    image: Image,
    found: FoundContent,
    program: str,
    arguments: str,
    surroundings: Surroundings,
    state: State,
) -> Prediction:
    """Of one round a database: what the database does, and the copy of it that the launcher keeps. Of one with a
    compiled script: what its engine does by itself, where an answer file is given. ``state`` is left as it is."""
    known = settings(file, found.reading(answers.Records))
    inner = wrapped(file, found.reading(answers.Records), known.package) if known.package else None
    if inner is None:
        if not known.package and not re.search(r"(?i)(?:^|\s)[/-]f1", arguments):
            return Prediction((), (_script_spot(found), _unanswered(found)))
        return Prediction(tuple(_by_engine(file, found, known, surroundings, state)), (_script_spot(found),))
    from yendo.formats.msi import Database
    from yendo.installers.msi import engine

    copy = kept_copy(known, surroundings, image.bits)
    package = f"{copy}\\{known.package}" if copy else rf"{surroundings.environment['TEMP']}\{known.package}"
    with host_os.nameless(inner) as path, Database(path) as database:
        outcome = engine.run(database, surroundings, state.copy(), _handed_on(arguments), package=package)
    effects = [*outcome.effects, *_kept(copy, known, inner, state)]
    installed = (InstalledDatabase(outcome.memory, _content(inner)),) if outcome.done and outcome.memory else ()
    return Prediction(tuple(effects), tuple(outcome.blind_spots), outcome.exit_code, databases=installed)


def _content(inner: BinaryIO) -> bytes:
    inner.seek(0)
    return inner.read()


def _handed_on(arguments: str) -> dict[str, str]:
    """The properties that the launcher hands on to the Windows Installer, behind ``/v``."""
    match = re.search(r'(?i)(?:^|\s)/v(?:"((?:\\"|[^"])*)"|(\S+))', arguments)
    if match is None:
        return {}
    text = match[1].replace('\\"', '"') if match[1] is not None else match[2]
    try:
        return dict(commandline.parse(f'msiexec /i "x.msi" {text}').properties)
    except commandline.CommandError:
        return {}


def kept_copy(known: AnswersSettings, surroundings: Surroundings, bits: int) -> str:
    """The folder below the user's profile where the launcher keeps a copy of the database; empty where it keeps none.

    A 32-bit program is led past the 64-bit system folder, below which the system account has its profile.
    """
    if not known.get(known.package, "cachefolder") or known.get(known.package, "cacheroot") != "28":
        return ""
    base = surroundings.environment["LOCALAPPDATA"] + "\\" + known.get(known.package, "cachefolder")
    if bits == 32 and base.lower().startswith(_SYSTEM_FOLDER) and surroundings.architecture != "x86":
        base = r"C:\Windows\SysWOW64" + base[len(_SYSTEM_FOLDER) :]
    return f"{base}\\{known.get('startup', 'packagecode')}"


def _kept(folder: str, known: AnswersSettings, inner: BinaryIO, state: State) -> list[Effect]:
    """What keeping that copy does to a machine."""
    if not folder:
        return []
    where = Evidence("row", f"setup.ini [{known.package}] CacheFolder")
    made = [
        Effect("add", Folder(path), "predicted", where)
        for path in (parent(folder), folder)
        if state.get("folder", path) is None
    ]
    return [*made, Effect("add", File(f"{folder}\\{known.package}", inner.seek(0, 2)), "predicted", where)]


def _by_engine(
    file: BinaryIO, found: FoundContent, known: AnswersSettings, surroundings: Surroundings, state: State
) -> list[Effect]:
    """What an engine with a compiled script does by itself; nothing where its media cannot be read so far."""
    try:
        media = answers_script.media_of(
            file,
            found.reading(answers.Records),
            known.written,
            known.get("startup", "productguid"),
            known.get("startup", "engineversion"),
        )
        return answers_script.predict(media, surroundings, state)
    except (Unreadable, NotCovered, ValueError):
        return []


def _unanswered(found: FoundContent) -> BlindSpot:
    return BlindSpot(
        "whether it does anything",
        "without an answer file it ends with exit code 0 and ResultCode -5, and has done nothing",
        found.evidence,
    )


def _engine(image: Image, found: FoundContent, known: AnswersSettings) -> Aspect:
    """The engine's generation: by its settings, by the header of its cabinets, or by what the launcher
    says of itself.
    """
    version = known.get("startup", "engineversion")
    if version:
        return Aspect(
            "engine", f"{version}, {found.generation}", "certain", Evidence("row", "setup.ini [Startup] EngineVersion")
        )
    build = image.words.get("Internal Build Number") or image.words.get("FileVersion") or "of an unknown version"
    return Aspect(
        "engine",
        f"build {build}, {found.generation}",
        "likely",
        Evidence("offset", "resource 16, Internal Build Number"),
    )


def _script_spot(found: FoundContent) -> BlindSpot:
    return BlindSpot(
        "where its files go and what else it does",
        "its script is compiled by the vendor's tool and not interpreted here: what is told is what the engine does "
        "by itself, with everything chosen "
        "and the usual folder; try it with an answer file",
        found.evidence,
    )


ANSWERS, LOG = r"C:\answers.iss", r"C:\answers.log"  # where a line that is only told has them
_QUIETLY, _RECORDING = "/s /sms", "/r"


def answered(program: str, answers: str, log: str, words: str = "") -> str:
    """The line that takes a person's answers from a file, and tells by its log how it ended."""
    return " ".join(filter(None, (f'"{program}"', words, _QUIETLY, f'/f1"{answers}"', f'/f2"{log}"')))


def recording(program: str, answers: str) -> str:
    """The line that shows the dialogs once and writes down what a person answers."""
    return f'"{program}" {_RECORDING} /f1"{answers}"'


def recorded(line: str) -> str:
    """The same line as ``answered``, to be answered by a person once."""
    return line.replace(f" {_QUIETLY}", f" {_RECORDING}").partition(" /f2")[0]


def tell(file: BinaryIO, image: Image, found: FoundContent, name: str) -> Told:
    known = settings(file, found.reading(answers.Records))
    if known.package:
        return _round_a_database(file, image, found, name, known)
    where = found.evidence
    answer = Switch(
        '/f1"<file>"',
        "the answer file, by its whole path; without it one named setup.iss beside the program is used",
        "certain",
        where,
    )
    quiet = (
        Switch("/s", "silent: every dialog is answered from the answer file", "certain", where),
        answer,
        Switch("/sms", "waits until the engine has ended", "likely", where),
    )
    log = Switch(
        '/f2"<file>"',
        "its log, whose ResultCode tells how it ended (the exit code is 0 all the same)",
        "certain",
        where,
    )
    line = CommandLine(answered(name, ANSWERS, LOG), "likely", where, (*quiet, log))
    record = Switch('/r /f1"<file>"', "shows its dialogs once and records the answers", "certain", where)
    from yendo.installers.msi import describe

    around = windows()
    effects = _by_engine(file, found, known, around, describe.baseline(around))
    entry = next((effect.thing for effect in effects if isinstance(effect.thing, UninstallEntry)), None)
    identity = Identity(
        name=known.get("startup", "appname") or None,
        publisher=known.get("startup", "companyname") or None,
        product_code="{" + guid + "}" if (guid := known.get("startup", "productguid")) else None,
        version=entry.version if entry else None,
    )
    return Told(
        effects=tuple(effects),
        identity=identity,
        silent=Silent(line, _removal(effects, known, answer), None),
        switches=(
            *quiet,
            log,
            record,
            Switch("/uninst", "removes; with /s and an answer file of its own", "likely", where),
        ),
        behaviour=(
            _engine(image, found, known),
            Aspect("waits", "only with /sms", "likely", where),
            Aspect(
                "log", "setup.log beside the answer file, or where /f2 says; ResultCode 0 is done", "certain", where
            ),
            Aspect("exit codes", "0 whether it worked or not: look at ResultCode in its log", "certain", where),
            Aspect("folder", "as the answer file says (szDir)", "certain", where),
        ),
        blind_spots=(_script_spot(found),),
        candidates=(CommandLine(f'"{name}" {_QUIETLY}', "to be tried", where, quiet[:1]), line),
        why={"identity.name": Evidence("row", "setup.ini [Startup] AppName")},
    )


def _removal(effects: Sequence[Effect], known: AnswersSettings, answer: Switch) -> CommandLine | None:
    """The engine's copy of the launcher with the words of its uninstall entry, made silent. Source of those: runs."""
    kept = next(
        (
            effect
            for effect in effects
            if isinstance(effect.thing, File) and effect.thing.identity.endswith("}\\setup.exe")
        ),
        None,
    )
    language = known.get("languages", "default")
    if kept is None or kept.evidence is None or not language.lower().startswith("0x"):
        return None
    where = Evidence(
        "rule", "the copy that the engine keeps", "an answer file of its own is needed; yendo try --record makes one"
    )
    switches = (
        Switch(f"-l{int(language, 16):#x}", "the language", "likely", where),
        Switch("-removeonly", "removes, and offers nothing else", "likely", where),
        Switch("/s", "silent: every dialog is answered from the answer file", "likely", where),
        Switch("/sms", "waits until the engine has ended", "likely", where),
        answer,
    )
    words = " ".join(one.switch for one in switches[:-1])
    path = kept.thing.path if isinstance(kept.thing, File) else ""
    return CommandLine(f'"{path}" {words} /f1"C:\\removal.iss"', "to be tried", where, switches)


def _of_the_service(known: AnswersSettings, where: Evidence) -> Iterator[Aspect]:
    """What the Windows Installer behind it decides."""
    yield Aspect("waits", "until the Windows Installer has ended", "likely", where)
    yield Aspect("log", '/v"/l*v <file>"', "certain", where)
    yield Aspect("folder", '/v"INSTALLDIR=<folder>", or what the database calls it', "likely", where)
    yield Aspect("exit codes", "those of the Windows Installer", "likely", where)
    if line := known.get("startup", "cmdline"):
        yield Aspect("adds to every call", line, "certain", Evidence("row", "setup.ini [Startup] CmdLine"))


def _round_a_database(file: BinaryIO, image: Image, found: FoundContent, name: str, known: AnswersSettings) -> Told:
    from yendo.installers.msi import commandline, describe

    where = Evidence("row", "setup.ini [Startup] PackageName", f"it wraps {known.package}")
    through = Switch(
        '/v"<arguments>"', "hands the arguments to the Windows Installer; no space after /v", "certain", where
    )
    quiet = (Switch("/s", "silent: no window of its own", "certain", where), through)
    switches = (
        *quiet,
        Switch("/x", "removes", "certain", where),
        Switch("/l<number>", "the language, as a number", "certain", where),
    )
    line = CommandLine(f'"{name}" /s /v"/qn /norestart"', "likely", where, quiet)
    inner = wrapped(file, found.reading(answers.Records), known.package)
    aspects = [_engine(image, found, known), *_of_the_service(known, where)]
    notes = []
    if message := known.get("info", "evalmsg"):
        notes.append(BlindSpot("a message that it may show", message, Evidence("row", "setup.ini [Info] EvalMsg")))
    identity = Identity(
        name=known.get("startup", "product") or None, version=known.get("startup", "productversion") or None
    )
    account = None
    try:
        if inner is not None:
            with host_os.nameless(inner) as path:
                account = describe.account(path)
    except YendoError as error:
        notes.append(BlindSpot(f"the database {known.package} inside", f"it cannot be read: {error}", where))
    if inner is None or account is None:
        return Told(
            identity=identity,
            silent=Silent(line),
            switches=switches,
            behaviour=tuple(aspects),
            candidates=(line,),
            blind_spots=tuple(notes),
        )
    around = windows()
    kept = _kept(kept_copy(known, around, image.bits), known, inner, describe.baseline(around))
    code, there = account.identity.product_code, Evidence("row", f"{known.package} Property[ProductCode]")
    uninstall = CommandLine(commandline.uninstall(code), "certain", there) if code else None
    return Told(
        identity=account.identity,
        silent=Silent(line, uninstall, account.silent.repair),
        switches=switches,
        behaviour=tuple(aspects),
        conditions=account.conditions,
        properties=account.properties,
        processes=account.processes,
        effects=(*account.effects, *kept),
        blind_spots=(*notes, *account.blind_spots),
        candidates=(line, CommandLine(f'"{name}" /s /v"/qn"', "to be tried", where, quiet)),
        why={
            key: Evidence(value.source, f"{known.package} {value.where}", value.note)
            for key, value in account.why.items()
        },
        needs=account.needs,
    )


# --- answer files -------------------------------------------------------------------------------------------


class AnswerFile(msgspec.Struct, frozen=True):
    """An answer file: its dialogs in order, each with its answers.

    ``version`` is the engine's (v7.00), ``product`` its code of the product.
    """

    version: str
    dialogs: tuple[tuple[str, dict[str, str]], ...]
    application: dict[str, str] = {}
    product: str = ""


def read_answers(text: str) -> AnswerFile:
    """Reads an answer file, or the log that the engine writes. Raises Unreadable where it is none."""
    from yendo.errors import Unreadable

    parser = IniParser(strict=False, interpolation=None, allow_no_value=True)
    try:
        parser.read_string(text.lstrip("\ufeff"))
    except configparser.Error as error:
        raise Unreadable(f"not an answer file: {str(error).splitlines()[0]}") from error
    head = next(
        (
            dict(parser.items(name))
            for name in parser.sections()
            if name.lower().endswith("silent]") or name.lower().endswith("silent")
        ),
        None,
    )
    if head is None:
        raise Unreadable("not an answer file: it has no section that names its version")
    sections = {name: {key: value or "" for key, value in parser.items(name)} for name in parser.sections()}
    title = next((name for name in sections if name.endswith("-DlgOrder") or name == "Dialogs"), "")
    order = sections.get(title, {})
    count = int(order.get("Count", "0")) if order.get("Count", "0").isdigit() else 0
    dialogs = [
        (order[f"Dlg{number}"], sections.get(order[f"Dlg{number}"], {}))
        for number in range(count)
        if f"Dlg{number}" in order
    ]
    return AnswerFile(
        head.get("Version", ""), tuple(dialogs), sections.get("Application", {}), title.removesuffix("-DlgOrder")
    )


def check_answers(file: AnswerFile) -> list[str]:
    """What is wrong with an answer file, in words: each dialog needs a Result, and folders their paths."""
    wrong = []
    if not file.dialogs:
        wrong.append("it answers no dialog: the section that gives their order is missing or empty")
    for name, given in file.dialogs:
        if not given:
            wrong.append(f"{name} is in the order and has no section of its own")
        elif "Result" not in given and not any(key.startswith("szDir") for key in given):
            wrong.append(f"{name} has no Result")
        if given.get("Result") in ("2", "12"):
            wrong.append(f"{name} answers with {given['Result']}, which goes back or cancels")
    return wrong


def write_answers(file: AnswerFile) -> str:
    """The text of an answer file, with the line ends that the engine wants."""
    mark = answers.MARK[:-1].decode() + " Silent"
    lines = [
        f"[{mark}]",
        f"Version={file.version or 'v7.00'}",
        "File=Response File",
        "[File Transfer]",
        "OverwrittenReadOnly=NoToAll",
        f"[{file.product}-DlgOrder]",
    ]
    lines += [f"Dlg{number}={name}" for number, (name, _) in enumerate(file.dialogs)]
    lines.append(f"Count={len(file.dialogs)}")
    for name, given in file.dialogs:
        lines += [f"[{name}]", *(f"{key}={value}" for key, value in given.items())]
    if file.application:
        lines += ["[Application]", *(f"{key}={value}" for key, value in file.application.items())]
    return "\r\n".join(lines) + "\r\n"


def result_of(log: str) -> int | None:
    """The ResultCode of the engine's log, or None."""
    parser = configparser.RawConfigParser(strict=False, interpolation=None, allow_no_value=True)
    try:
        parser.read_string(log)
        return int(parser.get("ResponseResult", "ResultCode"))
    except (configparser.Error, ValueError, AttributeError):  # the last where a line goes on one without a value
        return None
