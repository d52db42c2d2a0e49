"""Files, folders, shortcuts, ini values."""

from __future__ import annotations

import fnmatch
import hashlib
import re

from yendo.effects import File, Folder, IniValue, Shortcut
from yendo.effects.things import parent
from yendo.errors import YendoError
from yendo.installers.script_exe import run as core
from yendo.installers.script_exe.doing.table import assign, does
from yendo.installers.script_exe.run import ScriptRun

MAX_HASHED = 256 << 20


def matching(run: ScriptRun, pattern: str) -> list[tuple[str, str]]:
    """Kind and path of files and folders that a path with wildcards names."""
    folder, _, last = pattern.rstrip("\\").rpartition("\\")
    wild = bool(re.search(r"[*?]", last))
    head = run.absolute(folder) if folder else run.variables.get(core.OUTDIR, "")
    if not wild:
        path = run.absolute(pattern)
        return [
            (kind, thing.path)
            for kind in ("file", "folder", "shortcut")
            if isinstance(thing := run.state.get(kind, path), File | Folder | Shortcut)
        ]
    want = re.compile(fnmatch.translate(last.lower().replace("[", "[[]").replace("*.*", "*")))
    lowered = head.lower()
    found = [
        (kind, thing.path)
        for kind in ("file", "folder", "shortcut")
        for thing in run.state.of(kind)
        if isinstance(thing, File | Folder | Shortcut)
        and parent(thing.identity) == lowered
        and want.fullmatch(thing.identity.rpartition("\\")[2])
    ]
    if not found and last in ("*.*", "*") and run.state.get("folder", head) is not None:
        return [("folder", head)]  # a folder always holds its own entry
    return found


@does(11)
def _make_folder(run: ScriptRun, path: int, output: int, *_: int) -> None:
    target = run.path(path)
    run.make_folders(target)
    if output:
        run.variables[core.OUTDIR] = target


@does(20)
def _place(run: ScriptRun, flags: int, name: int, data: int, low: int, high: int, *_: int) -> None:
    target = run.path(name)
    there = run.state.get("file", target)
    how = flags & 7
    if how == 1 and there is not None:
        return
    if how in (3, 4) and there is not None:
        run.spot(f"whether {target} is replaced", "its date decides; read as replaced")
    if (
        parent(target)
        and not run.is_unknown(target)
        and run.state.get("folder", parent(target)) is None
        and ":" in parent(target)[2:]
    ):
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


def _version(run: ScriptRun, content: bytes) -> str | None:
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
def _delete(run: ScriptRun, path: int, later: int, *_: int) -> None:
    text = run.text(path)
    if run.is_unknown(text):
        run.spot(f"deletes {text}", "which files these are, only a run knows")
        return
    for kind, found in matching(run, text):
        if kind in ("file", "shortcut"):
            run.take(kind, found)


@does(16)
def _rename(run: ScriptRun, old: int, new: int, *_: int) -> None:
    source, target = run.path(old), run.path(new)
    thing = run.state.get("file", source)
    if not isinstance(thing, File) or run.state.get("file", target) is not None:
        run.failed()
        return
    run.take("file", source)
    run.put(File(target, thing.size, thing.sha256, thing.version))


@does(23)
def _remove_folder(run: ScriptRun, path: int, how: int, *_: int) -> None:
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
            key
            for key in run.state.items()
            if key[0] in ("file", "folder", "shortcut", "ini") and key[1].startswith(lowered + "\\")
        ]:
            run.take(kind, identity)
    if run.state.is_empty(target):
        run.take("folder", target)
    else:
        run.failed()


@does(46)
def _copy(run: ScriptRun, source: int, target: int, *_: int) -> None:
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
            run.put(
                File(f"{to}\\{path.rpartition(chr(92))[2]}" if within else to, thing.size, thing.sha256, thing.version)
            )
    if not found:
        run.failed()


@does(45)
def _shortcut(run: ScriptRun, link: int, target: int, arguments: int, icon: int, packed: int, description: int) -> None:
    path = run.path(link)
    goal = run.text(target)
    working = None if packed & 0x8000 else run.variables.get(core.OUTDIR) or None
    if run.state.get("folder", parent(path)) is None:
        run.failed()
        return
    if not path.lower().endswith(".lnk"):
        run.put(File(path))
        return
    run.put(
        Shortcut(
            path, None if run.is_unknown(goal) else goal, run.text(arguments), working, run.text(description) or None
        )
    )


@does(48)
def _write_ini(run: ScriptRun, section: int, name: int, value: int, file: int, writes: int, *_: int) -> None:
    """Writes a value; without a name it removes the section, without a value the name."""
    path = run.path(file)
    texts = run.text(section), run.text(name) if name else "", run.text(value) if writes else ""
    if not name or not writes:
        for identity in [
            key
            for kind, key in run.state.items()
            if kind == "ini" and key.startswith(f"{path}|{texts[0]}|{texts[1]}".lower())
        ]:
            run.take("ini", identity)
        return
    if run.state.get("folder", parent(path)) is None and not run.is_unknown(path):
        run.failed()
        return
    run.put(File(path))
    if path.lower().endswith(".ini"):
        run.put(IniValue(path, texts[0], texts[1], None if run.is_unknown(texts[2]) else texts[2].strip()))


@does(49)
def _read_ini(run: ScriptRun, variable: int, section: int, name: int, file: int, *_: int) -> None:
    found = run.state.get("ini", f"{run.path(file)}|{run.text(section)}|{run.text(name)}")
    if isinstance(found, IniValue):
        assign(run, variable, found.value or "")
    else:
        run.failed()
        assign(run, variable, "")


@does(55)
def _open_file(run: ScriptRun, variable: int, access: int, creates: int, path: int, *_: int) -> None:
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
def _file_work(run: ScriptRun, *_: int) -> None:
    """Writes to, or closes, what was opened; the file is on record since it was opened."""


@does(57, 69)
def _read_file(run: ScriptRun, handle: int, variable: int, *_: int) -> None:
    assign(run, variable, "")
    run.failed()


@does(60)
def _next(run: ScriptRun, variable: int, *_: int) -> None:
    run.failed()
    assign(run, variable, "")


@does(61)
def _first(run: ScriptRun, variable: int, handle: int, pattern: int, *_: int) -> None:
    found = matching(run, run.text(pattern))
    if not found:
        run.failed()
    elif len(found) > 1:
        run.spot(f"the files that {run.text(pattern)} names", "only the first is looked at here")
    assign(run, variable, found[0][1].rpartition("\\")[2] if found else "")
    assign(run, handle, "1" if found else "")


@does(62)
def _write_uninstaller(run: ScriptRun, name: int, data: int, size: int, other: int, *_: int) -> None:
    target = run.path(name)
    if run.state.get("folder", parent(target)) is None:
        run.failed()
        return
    run.put(File(target))
    run.uninstallers.append((target, data))
