"""The registry."""

from __future__ import annotations

from yendo.effects import RegistryValue
from yendo.errors import YendoError
from yendo.installers.script_exe.doing.table import assign, does
from yendo.installers.script_exe.run import ScriptRun

_TYPES = {1: "sz", 2: "expand", 3: "binary", 4: "dword", 7: "multi"}


@does(51)
def _write_registry(run: ScriptRun, root: int, key: int, name: int, value: int, kind: int, exact: int) -> None:
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
                else tuple(
                    part
                    for part in raw.decode("utf-16-le" if run.script.wide else "cp1252", "replace").split("\0")
                    if part
                )
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
def _delete_registry(run: ScriptRun, _: int, root: int, key: int, name: int, whole: int, *__: int) -> None:
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
        if isinstance(thing, RegistryValue)
        and (thing.hive, thing.view) == (hive, view)
        and f"{thing.key}\\".lower().startswith(lowered + "\\")
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
def _read_registry(run: ScriptRun, variable: int, root: int, key: int, name: int, number: int, *_: int) -> None:
    found = run.read_registry(root, run.text(key), run.text(name))
    if found is None or found[0] == "gone":
        run.failed()
        assign(run, variable, "")
    else:
        assign(run, variable, str(found[1] if found[1] is not None else run.unknown(run.text(name))))


@does(53)
def _list_registry(run: ScriptRun, variable: int, root: int, key: int, number: int, *_: int) -> None:
    run.failed()
    assign(run, variable, "")
