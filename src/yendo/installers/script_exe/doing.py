"""What each operation of a compiled script does to a machine: one function an operation, found by its number.

Every function gets the run and the six operands; it returns the number of the next instruction, or
None for the one that follows.
"""

from __future__ import annotations

import fnmatch
import hashlib
import re
from collections.abc import Callable

from yendo.effects import File, Folder, IniValue, RegistryValue, Shortcut
from yendo.effects.things import parent
from yendo.errors import YendoError
from yendo.facts.surroundings import expand
from yendo.installers.script_exe import run as core
from yendo.installers.script_exe.run import Asked, Run, Started

DOES: dict[int, core.Handler] = {}
MAX_HASHED = 256 << 20
_NOTHING = (6, 7, 8, 9, 10, 36, 37, 39, 58, 65, 66, 67)


def does(*numbers: int) -> Callable[[core.Handler], core.Handler]:
    def note(handler: core.Handler) -> core.Handler:
        for number in numbers:
            DOES[number] = handler
        return handler

    return note


@does(*_NOTHING)
def _nothing(run: Run, *_: int) -> None:
    """Shows, waits or colours something; a machine keeps nothing of it."""


# --- control ------------------------------------------------------------------------------------------


@does(0)
def _invalid(run: Run, *_: int) -> None:
    run.spot("an invalid instruction", "a stub stops there")
    run.stop()


@does(2)
def _jump(run: Run, to: int, *_: int) -> int | None:
    return run.jump(to)


@does(3)
def _abort(run: Run, *_: int) -> None:
    run.flags[core.ABORTED] = 1
    run.stop()


@does(4)
def _quit(run: Run, *_: int) -> None:
    run.flags[core.ABORTED] = run.flags[core.ABORTED] or 1
    run.stop()


@does(13)
def _set_flag(run: Run, number: int, value: int, back: int, *_: int) -> None:
    if 0 <= number < len(run.flags):
        if back:
            run.flags[number] = run.remembered[number]
        else:
            run.remembered[number] = run.flags[number]
            run.flags[number] = run.number(value)


@does(14)
def _if_flag(run: Run, on: int, off: int, number: int, mask: int, *_: int) -> int | None:
    value = run.flags[number] if 0 <= number < len(run.flags) else 0
    if 0 <= number < len(run.flags):
        run.flags[number] &= mask
    return run.jump(on if value else off)


@does(15)
def _get_flag(run: Run, variable: int, number: int, *_: int) -> None:
    run.variables[variable] = str(run.flags[number] if 0 <= number < len(run.flags) else 0)


@does(22)
def _message(run: Run, flags: int, text: int, first: int, to_first: int, second: int, to_second: int) -> int | None:
    """A message box: when silent it takes the answer that the script gives it, and shows where it gives none."""
    answer = (flags & 0xFFFFFFFF) >> 21 or None
    run.asked.append(Asked(core.shown(run.text(text)), answer, run.here.number if run.here else -1))
    given = answer or 1
    if given == first:
        return run.jump(to_first)
    if given == second:
        return run.jump(to_second)
    return None


@does(12)
def _if_exists(run: Run, path: int, there: int, missing: int, *_: int) -> int | None:
    text = run.text(path)
    if run.is_unknown(text):
        run.spot(f"whether {text} exists", "its name hangs on something that only a run knows; read as missing")
        return run.jump(missing)
    return run.jump(there if matching(run, text) else missing)


@does(26)
def _compare_texts(run: Run, one: int, other: int, same: int, different: int, exact: int, *_: int) -> int | None:
    left, right = run.text(one), run.text(other)
    if run.is_unknown(left + right):
        run.spot(f"whether {left} is {right or 'empty'}", "only a run knows; read as not so")
        return run.jump(different)
    return run.jump(same if (left == right if exact else left.lower() == right.lower()) else different)


@does(28)
def _compare_numbers(run: Run, one: int, other: int, same: int, less: int, more: int, unsigned: int) -> int | None:
    if run.is_unknown(run.text(one) + run.text(other)):
        run.spot(f"how {run.text(one)} compares with {run.text(other)}", "only a run knows; read as equal")
        return run.jump(same)
    left, right = run.number(one), run.number(other)
    if unsigned & 1:
        left, right = left & 0xFFFFFFFF, right & 0xFFFFFFFF
    return run.jump(same if left == right else less if left < right else more)


# --- texts and numbers ------------------------------------------------------------------------------------


def assign(run: Run, variable: int, text: str) -> None:
    if variable >= 0:
        run.variables[variable] = run.clean(text) if variable == core.INSTDIR else text[: core.MAX_TEXT]


@does(24)
def _length(run: Run, variable: int, text: int, *_: int) -> None:
    value = run.text(text)
    assign(run, variable, run.unknown(f"length of {value}") if run.is_unknown(value) else str(len(value)))


@does(25)
def _assign(run: Run, variable: int, text: int, longest: int, start: int, *_: int) -> None:
    value, limit, begin = run.text(text), longest != 0, run.number(start)
    if run.is_unknown(value) and (limit or begin):
        assign(run, variable, run.unknown(f"part of {core.shown(value)}"))
        return
    if begin < 0:
        begin = max(len(value) + begin, 0)
    value = value[begin:]
    if limit:
        size = run.number(longest)
        value = value[:size] if size >= 0 else value[: max(len(value) + size, 0)]
    assign(run, variable, value)


@does(27)
def _environment(run: Run, variable: int, name: int, reads: int, *_: int) -> None:
    text = run.text(name)
    if not reads:
        assign(run, variable, expand(text, run.surroundings.environment))
        return
    known = {key.lower(): value for key, value in run.surroundings.environment.items()}
    if text.lower() not in known:
        run.failed()
    assign(run, variable, known.get(text.lower(), ""))


@does(29)
def _calculate(run: Run, variable: int, one: int, other: int, how: int, *_: int) -> None:
    if run.is_unknown(run.text(one) + run.text(other)):
        assign(run, variable, run.unknown("a calculation"))
        return
    left, right = run.number(one), run.number(other)
    if how in (3, 10) and not right:
        run.failed()
    made: dict[int, Callable[[], int]] = {
        0: lambda: left + right,
        1: lambda: left - right,
        2: lambda: left * right,
        3: lambda: int(left / right) if right else 0,
        4: lambda: left | right,
        5: lambda: left & right,
        6: lambda: left ^ right,
        7: lambda: int(not left),
        8: lambda: int(bool(left or right)),
        9: lambda: int(bool(left and right)),
        10: lambda: left - right * int(left / right) if right else 0,
        11: lambda: left << (right & 31),
        12: lambda: left >> (right & 31),
        13: lambda: (left & 0xFFFFFFFF) >> (right & 31),
    }
    value = made.get(how, lambda: 0)()
    assign(run, variable, str((value + 0x80000000) % 0x100000000 - 0x80000000))


@does(30)
def _format(run: Run, variable: int, form: int, value: int, *_: int) -> None:
    text, number = run.text(form), run.number(value)
    if run.is_unknown(run.text(value)):
        assign(run, variable, run.unknown("a number"))
        return

    def one(match: re.Match[str]) -> str:
        flags, letter = match[1], match[2]
        if letter == "%":
            return "%"
        value = number if letter in "di" else number & (0x7F if letter == "c" else 0xFFFFFFFF)
        return f"%{flags}{'d' if letter in 'iu' else letter}" % value

    made = re.sub(r"%([-0 +#]{0,4}[0-9]{0,3}(?:\.[0-9]{0,3})?)([diuxXc%])", one, text)
    assign(run, variable, made[: core.MAX_TEXT])


@does(31)
def _stack(run: Run, what: int, takes: int, swaps: int, *_: int) -> None:
    if swaps:
        if len(run.stack) > swaps:
            run.stack[-1], run.stack[-1 - swaps] = run.stack[-1 - swaps], run.stack[-1]
        else:
            run.failed()
    elif takes:
        if run.stack:
            assign(run, what, run.stack.pop())
        else:
            run.failed()
    elif len(run.stack) < core.MAX_STACK:
        run.stack.append(run.text(what))


@does(17, 18)
def _full_path(run: Run, variable: int, path: int, *_: int) -> None:
    assign(run, variable, run.absolute(run.text(path)))


@does(19)
def _temporary(run: Run, variable: int, base: int, *_: int) -> None:
    run.made += 1
    path = f"{run.path(base)}\\ns{run.made:x}.tmp"
    run.put(File(path, 0))
    assign(run, variable, path)


@does(32, 33, 35, 38)
def _window_answer(run: Run, variable: int, *_: int) -> None:
    """Asks a window; a silent run has none."""
    assign(run, variable, "0")


@does(34)
def _is_window(run: Run, window: int, there: int, missing: int, *_: int) -> int | None:
    return run.jump(missing)


@does(42, 43)
def _about_file(run: Run, high: int, low: int, path: int, *_: int) -> None:
    found = run.state.get("file", run.path(path))
    if not isinstance(found, File):
        run.failed()
        assign(run, high, "")
        assign(run, low, "")
    elif run.here and run.here.operation == 43 and found.version:
        one, two, three, four = (int(part) for part in found.version.split("."))
        assign(run, high, str(one << 16 | two))
        assign(run, low, str(three << 16 | four))
    else:
        assign(run, high, run.unknown(f"about {found.path}"))
        assign(run, low, run.unknown(f"about {found.path}"))


@does(63)
def _section(run: Run, section: int, field: int, value: int, *_: int) -> None:
    """Reads or sets a field of a section; only whether it is chosen matters here."""
    number = run.number(section)
    if not 0 <= number < len(run.script.sections):
        run.failed()
        return
    if field < 0 and -field - 1 == 2:  # sets its flags
        run.selected[number] = bool(run.number(value) & 1)
    elif field == 2:
        flags = run.script.sections[number].flags & ~1 | int(run.selected[number])
        assign(run, value, str(flags))
    elif field >= 0:
        assign(run, value, run.unknown(f"section {number}"))


@does(64)
def _kinds(run: Run, number: int, variable: int, sets: int, *_: int) -> None:
    if not sets:
        assign(run, variable, "0")


# --- files ------------------------------------------------------------------------------------------------


def matching(run: Run, pattern: str) -> list[tuple[str, str]]:
    """Kind and path of files and folders that a path with wildcards names."""
    folder, _, last = pattern.rstrip("\\").rpartition("\\")
    wild = bool(re.search(r"[*?]", last))
    head = run.absolute(folder) if folder else run.variables.get(core.OUTDIR, "")
    if not wild:
        path = run.absolute(pattern)
        return [
            (kind, thing.path) for kind in ("file", "folder", "shortcut") if isinstance(thing := run.state.get(kind, path), File | Folder | Shortcut)
        ]
    want = re.compile(fnmatch.translate(last.lower().replace("[", "[[]").replace("*.*", "*")))
    lowered = head.lower()
    found = [
        (kind, thing.path)
        for kind in ("file", "folder", "shortcut")
        for thing in run.state.of(kind)
        if isinstance(thing, File | Folder | Shortcut) and parent(thing.identity) == lowered and want.fullmatch(thing.identity.rpartition("\\")[2])
    ]
    if not found and last in ("*.*", "*") and run.state.get("folder", head) is not None:
        return [("folder", head)]  # a folder always holds its own entry
    return found


@does(11)
def _make_folder(run: Run, path: int, output: int, *_: int) -> None:
    target = run.path(path)
    run.make_folders(target)
    if output:
        run.variables[core.OUTDIR] = target


@does(20)
def _place(run: Run, flags: int, name: int, data: int, low: int, high: int, *_: int) -> None:
    target = run.path(name)
    there = run.state.get("file", target)
    how = flags & 7
    if how == 1 and there is not None:
        return
    if how in (3, 4) and there is not None:
        run.spot(f"whether {target} is replaced", "its date decides; read as replaced")
    if parent(target) and not run.is_unknown(target) and run.state.get("folder", parent(target)) is None and ":" in parent(target)[2:]:
        run.failed()
        return
    size = sha256 = version = None
    try:
        content = run.script.data(data, MAX_HASHED)
        size, sha256 = len(content), hashlib.sha256(content).hexdigest()
        if target.lower().endswith((".exe", ".dll", ".sys", ".ocx")):
            version = _version(run, content)
    except YendoError as error:
        run.spot(f"the contents of {target}", str(error))
    run.put(File(target, size, sha256, version))


def _version(run: Run, content: bytes) -> str | None:
    import io

    from yendo.formats.pe import Image

    try:
        image = Image(io.BytesIO(content))
        if not image.is_library:
            run.architectures.add(image.architecture)
        return image.version
    except YendoError:
        return None


@does(21)
def _delete(run: Run, path: int, later: int, *_: int) -> None:
    text = run.text(path)
    if run.is_unknown(text):
        run.spot(f"deletes {text}", "which files these are, only a run knows")
        return
    for kind, found in matching(run, text):
        if kind in ("file", "shortcut"):
            run.take(kind, found)


@does(16)
def _rename(run: Run, old: int, new: int, *_: int) -> None:
    source, target = run.path(old), run.path(new)
    thing = run.state.get("file", source)
    if not isinstance(thing, File) or run.state.get("file", target) is not None:
        run.failed()
        return
    run.take("file", source)
    run.put(File(target, thing.size, thing.sha256, thing.version))


@does(23)
def _remove_folder(run: Run, path: int, how: int, *_: int) -> None:
    target = run.path(path)
    if run.is_unknown(target):
        run.spot(f"removes {target}", "which folder this is, only a run knows")
        return
    lowered = target.lower()
    if run.state.get("folder", target) is None:
        run.failed()
        return
    if not how & 9:  # neither a folder (1) nor the plain form of later stubs (8)
        return
    if how & 3 == 3:
        for kind, identity in [
            key for key in run.state.items() if key[0] in ("file", "folder", "shortcut", "ini") and key[1].startswith(lowered + "\\")
        ]:
            run.take(kind, identity)
    if run.state.is_empty(target):
        run.take("folder", target)
    else:
        run.failed()


@does(46)
def _copy(run: Run, source: int, target: int, *_: int) -> None:
    origin, to = run.text(source), run.path(target)
    if run.is_unknown(origin + to) or origin.lower().startswith(
        (run.variables[core.EXEDIR].lower(), run.variables.get(core.PLUGINSDIR, "?").lower())
    ):
        run.spot(f"copies {origin} to {to}", "what lies there, only a run knows")
        return
    found = matching(run, origin)
    for kind, path in found:
        thing = run.state.get(kind, path)
        if isinstance(thing, File):
            within = len(found) > 1 or "*" in origin or run.state.get("folder", to) is not None
            run.make_folders(to if within else parent(to))
            run.put(File(f"{to}\\{path.rpartition(chr(92))[2]}" if within else to, thing.size, thing.sha256, thing.version))
    if not found:
        run.failed()


@does(45)
def _shortcut(run: Run, link: int, target: int, arguments: int, icon: int, packed: int, description: int) -> None:
    path = run.path(link)
    goal = run.text(target)
    working = None if packed & 0x8000 else run.variables.get(core.OUTDIR) or None
    if run.state.get("folder", parent(path)) is None:
        run.failed()
        return
    if not path.lower().endswith(".lnk"):
        run.put(File(path))
        return
    run.put(Shortcut(path, None if run.is_unknown(goal) else goal, run.text(arguments), working, run.text(description) or None))


@does(48)
def _write_ini(run: Run, section: int, name: int, value: int, file: int, writes: int, *_: int) -> None:
    """Writes a value; without a name it removes the section, without a value the name."""
    path = run.path(file)
    texts = run.text(section), run.text(name) if name else "", run.text(value) if writes else ""
    if not name or not writes:
        for identity in [key for kind, key in run.state.items() if kind == "ini" and key.startswith(f"{path}|{texts[0]}|{texts[1]}".lower())]:
            run.take("ini", identity)
        return
    if run.state.get("folder", parent(path)) is None and not run.is_unknown(path):
        run.failed()
        return
    run.put(File(path))
    if path.lower().endswith(".ini"):
        run.put(IniValue(path, texts[0], texts[1], None if run.is_unknown(texts[2]) else texts[2].strip()))


@does(49)
def _read_ini(run: Run, variable: int, section: int, name: int, file: int, *_: int) -> None:
    found = run.state.get("ini", f"{run.path(file)}|{run.text(section)}|{run.text(name)}")
    if isinstance(found, IniValue):
        assign(run, variable, found.value or "")
    else:
        run.failed()
        assign(run, variable, "")


@does(55)
def _open_file(run: Run, variable: int, access: int, creates: int, path: int, *_: int) -> None:
    """Opens a file: creates 1, 2 (always) or 4 (where missing); 3 only opens what is there. Source: CreateFile."""
    target = run.path(path)
    there = run.state.get("file", target) is not None
    if (creates == 3 and not there) or run.state.get("folder", parent(target)) is None:
        run.failed()
        assign(run, variable, "")
        return
    if creates == 2 or not there or access & 0x40000000:
        run.put(File(target))
    assign(run, variable, run.unknown(f"file {target}"))


@does(54, 56, 59, 68)
def _file_work(run: Run, *_: int) -> None:
    """Writes to, or closes, what was opened; the file is on record since it was opened."""


@does(57, 69)
def _read_file(run: Run, handle: int, variable: int, *_: int) -> None:
    assign(run, variable, "")
    run.failed()


@does(60)
def _next(run: Run, variable: int, *_: int) -> None:
    run.failed()
    assign(run, variable, "")


@does(61)
def _first(run: Run, variable: int, handle: int, pattern: int, *_: int) -> None:
    found = matching(run, run.text(pattern))
    if not found:
        run.failed()
    elif len(found) > 1:
        run.spot(f"the files that {run.text(pattern)} names", "only the first is looked at here")
    assign(run, variable, found[0][1].rpartition("\\")[2] if found else "")
    assign(run, handle, "1" if found else "")


@does(62)
def _write_uninstaller(run: Run, name: int, data: int, size: int, other: int, *_: int) -> None:
    target = run.path(name)
    if run.state.get("folder", parent(target)) is None:
        run.failed()
        return
    run.put(File(target))
    run.uninstallers.append((target, data))


# --- registry ------------------------------------------------------------------------------------------------

_TYPES = {1: "sz", 2: "expand", 3: "binary", 4: "dword", 7: "multi"}


@does(51)
def _write_registry(run: Run, root: int, key: int, name: int, value: int, kind: int, exact: int) -> None:
    place = run.key(root, run.text(key), make=True)
    assert place is not None
    place.by, place.gone = run.here.number if run.here else -1, False
    title = run.text(name)
    typed = _TYPES.get(kind if kind != 1 else exact or 1, "sz")
    if typed == "dword":
        text = run.text(value)
        data: int | str | tuple[str, ...] | None = None if run.is_unknown(text) else run.number(value) & 0xFFFFFFFF
    elif typed in ("binary", "multi"):
        try:
            raw = run.script.data(value, 1 << 20)
            data = (
                raw.hex()
                if typed == "binary"
                else tuple(part for part in raw.decode("utf-16-le" if run.script.wide else "cp1252", "replace").split("\0") if part)
            )
        except YendoError as error:
            run.spot(f"the data of {title} in {place.key}", str(error))
            data = None
    else:
        text = run.text(value)
        data = None if run.is_unknown(text) else text
        if data is None:
            run.spot(f"the data of {title} in {place.key}", f"it is {text}, which only a run knows")
    place.values[title.lower()] = (title, typed, data)


@does(50)
def _delete_registry(run: Run, _: int, root: int, key: int, name: int, whole: int, *__: int) -> None:
    path = run.text(key)
    if not whole:
        if run.read_registry(root, path, run.text(name)) is None:
            run.failed()
            return
        place = run.key(root, path, make=True)
        assert place is not None
        place.by = run.here.number if run.here else -1
        place.values[run.text(name).lower()] = (run.text(name), "gone", None)
        return
    hive, view, exact = run.locate(root, path)
    lowered = exact.lower()
    there = [
        thing.key
        for thing in run.state
        if isinstance(thing, RegistryValue) and (thing.hive, thing.view) == (hive, view) and f"{thing.key}\\".lower().startswith(lowered + "\\")
    ]
    own = [place for place in run.keys if place[:2] == (hive, view) and (place[2] + "\\").startswith(lowered + "\\")]
    place = run.key(root, path, make=True)
    assert place is not None
    if whole & 2 and (place.values or any(other[2] != lowered and not run.keys[other].gone for other in own)):
        run.failed()
        return
    if not there and not own and not run._derived(place):
        del run.keys[hive, view, lowered]
        run.failed()
        return
    for other in set(there) | {run.keys[found].key for found in own} | {place.key}:
        found = run.key(root, path + other[len(place.key) :], make=True)
        if found is not None:
            found.gone, found.by = True, run.here.number if run.here else -1
            found.values.clear()


@does(52)
def _read_registry(run: Run, variable: int, root: int, key: int, name: int, number: int, *_: int) -> None:
    found = run.read_registry(root, run.text(key), run.text(name))
    if found is None or found[0] == "gone":
        run.failed()
        assign(run, variable, "")
    else:
        assign(run, variable, str(found[1] if found[1] is not None else run.unknown(run.text(name))))


@does(53)
def _list_registry(run: Run, variable: int, root: int, key: int, number: int, *_: int) -> None:
    run.failed()
    assign(run, variable, "")


# --- programs ------------------------------------------------------------------------------------------------


@does(40)
def _open(run: Run, verb: int, file: int, arguments: int, *_: int) -> None:
    _start(run, f"{run.text(file)} {run.text(arguments)}".strip(), False)


@does(41)
def _run(run: Run, command: int, variable: int, waits: int, *_: int) -> None:
    _start(run, run.text(command), bool(waits))
    if waits and variable >= 0:
        assign(run, variable, run.unknown("exit code"))


def _start(run: Run, command: str, waits: bool) -> None:
    number = run.here.number if run.here else -1
    run.started.append(Started(core.shown(command), waits, number))
    run.spot(f"runs {command}", "what that program does, only a run knows")


@does(47)
def _restart(run: Run, *_: int) -> None:
    run.restarts = "started"
    run.stop()


# Libraries whose answer is known: what is taken from the stack and what is put there. Source: their published descriptions.
_ANSWERS: dict[tuple[str, str], tuple[int, tuple[str, ...]]] = {
    ("userinfo.dll", "getaccounttype"): (0, ("Admin",)),
    ("userinfo.dll", "getoriginalaccounttype"): (0, ("Admin",)),
    ("langdll.dll", "langdialog"): (0, ()),
    ("banner.dll", "show"): (0, ()),
    ("banner.dll", "destroy"): (0, ()),
    ("system.dll", "free"): (1, ()),
}


@does(44)
def _library(run: Run, file: int, function: int, text: int, *_: int) -> None:
    """Calls a function of a library: one that the script brings along, or the registering of one that it placed."""
    path, name = run.text(file), run.text(function)
    library = path.rpartition("\\")[2].lower()
    if name.lower() in ("dllregisterserver", "dllunregisterserver"):
        run.spot(f"registers {path}", "what a library writes when it registers itself, only a run knows")
        return
    if library == "nsexec.dll":
        command = next((entry for entry in reversed(run.stack) if not entry.lower().startswith(("/oem", "/timeout"))), "")
        if run.stack:
            run.stack = run.stack[: len(run.stack) - run.stack[::-1].index(command) - 1]
        _start(run, command, True)
        run.stack.append(run.unknown("exit code"))
        if name.lower() == "exectostack":
            run.stack.insert(-1, run.unknown("output"))
        return
    if library == "userinfo.dll" and name.lower() == "getname":
        run.stack.append(run.surroundings.user)
        return
    known = _ANSWERS.get((library, name.lower()))
    if library == "system.dll" and name.lower() == "call" and run.stack:
        call = run.stack.pop()
        if "Wow64EnableWow64FsRedirection" in call:
            run.redirected = not re.search(r"\(\s*i\s*0", call) and run.bits == 32
            return
        if "IsWow64Process" in call or "IsWow64Process2" in call:
            for place in re.findall(r"\.(?:r(\d)|R(\d))", call):
                run.variables[int(place[0]) if place[0] else 10 + int(place[1])] = "1"
            if re.search(r"\bi\.s|\.s\b", call):
                run.stack.append("1")
            return
        if "CreateMutex" in call:
            for place in re.findall(r"\?e|\.r(\d)", call):
                if place:
                    run.variables[int(place)] = "0"
            if "?e" in call:
                run.stack.append("0")
            return
        run.spot(f"a call of the system: {call[:80]}", "its answer, only a run knows")
        for digit in re.findall(r"\.r(\d)", call):
            run.variables[int(digit)] = run.unknown("a call of the system")
        if re.search(r"\.s\b", call):
            run.stack.append(run.unknown("a call of the system"))
        return
    if known:
        takes, gives = known
        del run.stack[len(run.stack) - takes :]
        run.stack.extend(gives)
        return
    run.spot(f"a library's function: {library} {name}", "what it does and answers, only a run knows")
    _forget_arguments(run)
    run.stack.append(run.unknown(f"{library} {name}"))


def _forget_arguments(run: Run) -> None:
    """Takes off the stack what the instructions just before the call put there for it."""
    at = run.here.number - 1 if run.here else -1
    while at >= 0 and run.stack:
        instruction = run.script.instructions[at]
        if instruction.operation != 31 or instruction.operands[1] or instruction.operands[2]:
            break
        run.stack.pop()
        at -= 1
