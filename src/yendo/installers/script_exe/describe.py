"""The account of a setup program that interprets compiled instructions."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from typing import BinaryIO

from yendo.effects import Effect, State, UninstallEntry
from yendo.errors import YendoError
from yendo.evidence import BlindSpot, Evidence
from yendo.formats import script_exe as form
from yendo.formats.pe import Image
from yendo.formats.script_exe import ScriptExe
from yendo.formats.slices import part_of
from yendo.installers.account import Aspect, CommandLine, Identity, Silent, Switch
from yendo.installers.family import FoundContent, Prediction, Told, offset, programs
from yendo.installers.parts import InstallerPart
from yendo.installers.script_exe import doing  # noqa: F401 (importing it fills the table of operations)
from yendo.installers.script_exe.operations import listing
from yendo.installers.script_exe.run import ScriptOutcome, ScriptRun
from yendo.installers.script_exe.texts import Texts
from yendo.platforms.windows.surroundings import Surroundings, windows

FAMILY = "script-exe"
_ANSWERS = {
    1: "OK",
    2: "Cancel",
    3: "Abort",
    4: "Retry",
    5: "Ignore",
    6: "Yes",
    7: "No",
}  # Source: the values that MessageBox returns
_PLACE, _UNINSTALLER, _MESSAGE = 20, 62, 22


def find(file: BinaryIO, image: Image) -> FoundContent | None:
    start = form.find(file, image)
    if start is None:
        return None
    return FoundContent(FAMILY, offset(start, "the mark of a script's first header behind the program"), start)


def script_of(file: BinaryIO, image: Image, found: FoundContent) -> ScriptExe:
    return ScriptExe(file, found.reading(int), image.appended[1])


def parts(file: BinaryIO, image: Image, found: FoundContent) -> list[InstallerPart]:
    """The files that instructions place, by the names they get, and the uninstallers that are written."""
    script = script_of(file, image, found)
    texts = Texts(script)
    listed: dict[int, InstallerPart] = {}
    output = ""
    for instruction in script.instructions:
        operands = instruction.operands
        if instruction.operation == 11 and operands[1]:
            output = texts.shown(operands[0])
        if instruction.operation == _PLACE:
            name, place = texts.shown(operands[1]), operands[2]
            where = name if name.startswith("$") else f"{output}\\{name}" if output else name
            listed.setdefault(place, _part(script, where, place))
        elif instruction.operation == _UNINSTALLER:
            listed.setdefault(operands[1], _part(script, texts.shown(operands[0]), operands[1], uninstaller=True))
    return list(listed.values())


def _part(script: ScriptExe, name: str, place: int, *, uninstaller: bool = False) -> InstallerPart:
    begin = packed = size = None
    unread = False
    note = "the uninstaller that it writes" if uninstaller else ""
    try:
        if not script.solid:
            begin, packed, is_packed = script.place(place)
            size = None if is_packed else packed
        if uninstaller:
            return InstallerPart(name, None, begin, packed, lambda limit: io.BytesIO(), note)
    except YendoError as error:
        note, unread = f"cannot be read: {error}", True

    def open_it(limit: int) -> BinaryIO:
        if size is not None and begin is not None:
            return part_of(script.file, begin, min(size, limit))
        if limit <= 64 and script.solid:
            limit = form.MAX_FILE
        return io.BytesIO(script.data(place, max(limit, 64 << 20)))

    return InstallerPart(name.lstrip("\\"), size, begin, packed, open_it, note, size is not None, unread=unread)


def _run(
    script: ScriptExe,
    surroundings: Surroundings,
    state: State,
    program: str,
    arguments: str,
    bits: int,
    folder: str = "",
) -> ScriptOutcome:
    return ScriptRun(
        script, surroundings, state, program=program, arguments=arguments, bits=bits, folder=folder
    ).whole()


def predict(
    file: BinaryIO,
    image: Image,
    found: FoundContent,
    program: str,
    arguments: str,
    surroundings: Surroundings,
    state: State,
) -> Prediction:
    """What a silent run does. ``state`` is left as it is."""
    folder = re.search(r"(?:^|\s)/D=(.*)$", arguments)
    script = script_of(file, image, found)
    outcome = _run(script, surroundings, state.copy(), program, arguments, image.bits, folder[1] if folder else "")
    spots = tuple(outcome.blind_spots) + _boxes(outcome)
    return Prediction(outcome.effects, spots, outcome.exit_code, outcome.restarts != "no")


def _at(number: int) -> Evidence:
    return Evidence("offset", f"instruction {number}")


def _boxes(outcome: ScriptOutcome) -> tuple[BlindSpot, ...]:
    """Message boxes that a silent run reaches and that have no answer of their own: they wait for a person."""
    return tuple(
        BlindSpot(
            f"a message box: {box.text[:120]}",
            "a silent run shows it and waits, the script gives it no answer",
            Evidence("offset", f"instruction {box.instruction}"),
        )
        for box in outcome.asked
        if box.answer is None
    )


def _flaws(script: ScriptExe, header: Evidence) -> Iterator[BlindSpot]:
    """Damage that the reading lives with."""
    if script.missing:
        yield BlindSpot(
            f"the last {script.missing} bytes",
            "the file ends before the end that its header says: get it again; what lay there is not known",
            header,
        )
    elif script.checksum_holds() is False:
        yield BlindSpot(
            "what has changed in it",
            "its own checksum does not hold, so it refuses to run (but with /NCRC): get it again from the vendor",
            header,
        )


def tell(file: BinaryIO, image: Image, found: FoundContent, name: str) -> Told:
    from yendo.installers.msi.describe import baseline

    script = script_of(file, image, found)
    texts = Texts(script)
    around = windows()
    state = baseline(around)
    program = rf"C:\Hand over\{name}"
    outcome = _run(script, around, state, program, "/S", image.bits)
    header = found.evidence
    entry = next((effect for effect in outcome.effects if isinstance(effect.thing, UninstallEntry)), None)
    thing = entry.thing if entry else None
    boxes = _boxes(outcome)
    quiet = Switch("/S", "silent (a capital S): no window, every section that is chosen by default", "certain", header)
    install = CommandLine(f'"{name}" /S', "likely" if boxes else "certain", header, (quiet,))
    uninstall = _uninstall(script, outcome, entry)
    told = _identity(script, texts, thing if isinstance(thing, UninstallEntry) else None, outcome.architectures)
    read = tuple(
        Switch(text, "the script compares its command line with this", "likely", header) for text in outcome.switches
    )
    return Told(
        identity=told,
        silent=Silent(install, uninstall, None),
        switches=(
            quiet,
            Switch("/D=<folder>", "the folder; the last switch, without quotes even with spaces", "certain", header),
            Switch("/NCRC", "does not check its own bytes first", "certain", header),
            *read,
        ),
        behaviour=tuple(_behaviour(script, texts, outcome, header)),
        processes=programs(outcome.effects, (place for place, _ in outcome.uninstallers)),
        effects=outcome.effects,
        blind_spots=(*_flaws(script, header), *boxes, *outcome.blind_spots),
        candidates=(install,),
        listing=tuple(listing(script, texts)),
        why={"identity.name": entry.evidence} if entry and entry.evidence else {},
    )


def _identity(
    script: ScriptExe, texts: Texts, entry: UninstallEntry | None, architectures: tuple[str, ...]
) -> Identity:
    language = str(texts.language.number) if texts.language else None
    from yendo.installers.msi.describe import language_name

    scope = "machine" if entry and entry.hive == "HKLM" else "user" if entry else None
    words = texts.shown(-3) or None  # the third text of a language is the program's own name
    return Identity(
        name=entry.name if entry and entry.name else words,
        version=entry.version if entry else None,
        publisher=entry.publisher if entry else None,
        language=language_name(language),
        scope=scope,
        architecture=", ".join(architectures) or None,
    )


def _uninstall(script: ScriptExe, outcome: ScriptOutcome, entry: Effect | None) -> CommandLine | None:
    """The quiet form of what removes it: of the entry it writes, or of the uninstaller it writes."""
    thing = entry.thing if entry else None
    where = (
        entry.evidence
        if entry and entry.evidence
        else Evidence("offset", "the instruction that writes the uninstaller")
    )
    if isinstance(thing, UninstallEntry) and thing.quiet_uninstall:
        own = any(place.lower() in thing.quiet_uninstall.lower() for place, _ in outcome.uninstallers)
        wait_for = _copies(script, outcome) if own else ()
        return CommandLine(thing.quiet_uninstall, "likely", where, wait_for=wait_for)
    path = outcome.uninstallers[0][0] if outcome.uninstallers else ""
    if not path and isinstance(thing, UninstallEntry) and thing.uninstall:
        path = thing.uninstall.strip().strip('"')
    if not path:
        return None
    stays = "stays where it is until its end, and so leaves itself behind; without it a copy of itself goes on"
    switches = (Switch("/S", "silent", "certain", where), Switch("_?=<folder>", stays, "certain", where))
    return CommandLine(f'"{path}" /S', "likely", where, switches, _copies(script, outcome))


def _copies(script: ScriptExe, outcome: ScriptOutcome) -> tuple[str, ...]:
    """The name by which an uninstaller goes on as a copy of itself, so that it can delete itself: a text of its own
    header.
    """
    try:
        inner = script.data(script.follower(outcome.uninstallers[0][1]))
        removes = ScriptExe(io.BytesIO(inner), 0, len(inner))
        name = Texts(removes).shown(removes.copy_name).rpartition("\\")[2].replace("$1", "A")
    except (YendoError, IndexError):
        return ()
    return (name,) if name.lower().endswith(".exe") else ()


def _behaviour(script: ScriptExe, texts: Texts, outcome: ScriptOutcome, header: Evidence) -> list[Aspect]:
    early = next((entry for entry in outcome.started if not entry.waits), None)
    restarts = {
        "no": "no",
        "asked for": "asks for one, and does not start it when silent",
        "started": "at once, without asking",
    }
    codes = f"; a silent run ends with {outcome.exit_code}" if outcome.exit_code else ""
    where = _at(early.instruction) if early else header
    found = [
        Aspect(
            "waits", f"no: {early.command} goes on by itself" if early else "until its work is done", "certain", where
        ),
        Aspect("restarts", restarts[outcome.restarts], "certain", header),
        Aspect("log", "none of its own", "certain", header),
        Aspect("folder", f"/D=<folder>; by default {outcome.folder}", "certain", header),
        Aspect("exit codes", f"0 done, 1 stopped by a person, 2 stopped by the script{codes}", "certain", header),
    ]
    if len(script.languages) > 1:
        found.append(
            Aspect("language", f"{len(script.languages)} languages; the user's own is chosen", "certain", header)
        )
    if len(script.sections) > 1:
        chosen = sum(bool(section.flags & 1) for section in script.sections)
        found.append(
            Aspect(
                "parts",
                f"{chosen} of {len(script.sections)} sections by default; no switch of the stub chooses others",
                "certain",
                header,
            )
        )
    for number, text, answer in messages(script, texts)[:12]:
        silent = (
            f"when silent it answers {_ANSWERS.get(answer, answer)}"
            if answer
            else "no silent answer: where a silent run reaches it, it waits"
        )
        found.append(Aspect("message box", f"{text[:100]!r}: {silent}", "certain", _at(number)))
    for entry in outcome.started:
        found.append(
            Aspect(
                "runs", entry.command + ("" if entry.waits else " (without waiting)"), "certain", _at(entry.instruction)
            )
        )
    return found


def removal(
    file: BinaryIO, image: Image, found: FoundContent, program: str, surroundings: Surroundings, state: State
) -> Prediction | None:
    """What the uninstaller that it writes does, read from its own script inside; None where there is none."""
    script = script_of(file, image, found)
    after = state.copy()
    outcome = _run(script, surroundings, after, program, "/S", image.bits)
    if not outcome.uninstallers:
        return None
    path, place = outcome.uninstallers[0]
    inner = script.data(script.follower(place))
    removes = ScriptExe(io.BytesIO(inner), 0, len(inner))
    ended = _run(removes, surroundings, after, path, "/S", image.bits, path.rpartition("\\")[0])
    return Prediction(ended.effects, ended.blind_spots, ended.exit_code, ended.restarts != "no")


def messages(script: ScriptExe, texts: Texts) -> list[tuple[int, str, int | None]]:
    """Every message box of a script: its instruction, its text, the answer it takes when silent."""
    return [
        (instruction.number, texts.shown(instruction.operands[1]), (instruction.operands[0] & 0xFFFFFFFF) >> 21 or None)
        for instruction in script.instructions
        if instruction.operation == _MESSAGE
    ]
