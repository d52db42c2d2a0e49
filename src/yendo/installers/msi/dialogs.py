"""What a person at the keyboard would have decided, and how a silent installation says the same.

The dialogs are walked from the sequence, by the events that lead from one to the next; each
control that sets something is a decision. Source: tables Dialog, Control, ControlEvent,
ControlCondition, RadioButton, ComboBox, ListBox and CheckBox.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from yendo.evidence import Evidence, row
from yendo.formats.msi import Database, TableRow
from yendo.installers.msi.commandline import PUBLIC_NAME, assign
from yendo.installers.msi.describe import OF_THE_INSTALLER, in_silence, uses
from yendo.installers.msi.fitting import facts
from yendo.installers.msi.influence import PropertyChoice, choices, clean_text

_INPUTS = {
    "CheckBox": "tick",
    "RadioButtonGroup": "choose",
    "ComboBox": "choose",
    "ListBox": "choose",
    "ListView": "choose",
    "Edit": "type",
    "MaskedEdit": "type",
    "PathEdit": "choose a folder",
    "DirectoryCombo": "choose a folder",
    "DirectoryList": "choose a folder",
    "SelectionTree": "choose features",
    "VolumeSelectCombo": "choose a drive",
}
_PRESSED = {
    "AddLocal": "ADDLOCAL",
    "Remove": "REMOVE",
    "AddSource": "ADDSOURCE",
    "Reinstall": "REINSTALL",
    "SetInstallLevel": "INSTALLLEVEL",
}
_LICENCE = ("accept", "agree", "licen", "eula")
INDIRECT = 8  # the attribute of a control whose property names the one that is set


class Decision(msgspec.Struct, frozen=True):
    """One thing a person decides.

    ``switch`` is what says it on a command line, with ``VALUE`` where one goes, or None where a
    command line cannot (``remark`` says why). ``matters``: something outside the dialogs looks at it.
    """

    dialog: str
    title: str
    what: str
    label: str
    property: str
    default: str | None
    choices: tuple[PropertyChoice, ...]
    switch: str | None
    matters: bool
    licence: bool
    remark: str
    evidence: Evidence


class OnlyInDialogs(msgspec.Struct, frozen=True):
    """A step that runs with dialogs and not in silence, and what it would have set."""

    action: str
    sets: str
    remark: str
    evidence: Evidence


def decisions(database: Database) -> list[Decision]:
    """Every decision, in the order in which the dialogs come."""
    known, used = choices(database), uses(database, private=True)
    values = facts(database)
    found: dict[tuple[str, str], Decision] = {}
    for dialog in order(database):
        for decision in _of(database, dialog, values, known, used):
            found.setdefault((decision.property, decision.what), decision)
    return list(found.values())


def order(database: Database) -> list[str]:
    """The dialogs as a person meets them: from the sequence, along the events that open others; then the rest."""
    dialogs = {entry.text("Dialog") for entry in database["Dialog"]}
    starts = [
        entry.text("Action")
        for entry in sorted(database["InstallUISequence"], key=lambda entry: entry.number("Sequence"))
        if entry.number("Sequence") > 0 and entry.text("Action") in dialogs
    ]
    leads: dict[str, list[str]] = {}
    for entry in database["ControlEvent"]:
        if entry.text("Event") in ("NewDialog", "SpawnDialog", "SpawnWaitDialog") and entry.text("Argument") in dialogs:
            leads.setdefault(entry.text("Dialog_"), []).append(entry.text("Argument"))
    seen: dict[str, None] = {}
    for start in starts:
        waiting = [start]
        while waiting:
            at = waiting.pop(0)
            if at not in seen:
                seen[at] = None
                waiting += leads.get(at, [])
    return [*seen, *sorted(dialogs - seen.keys())]


def _title(database: Database, dialog: str, values: dict[str, str]) -> str:
    entry = database["Dialog"].find(dialog)
    text = entry.text("Title") if entry is not None else ""
    for name, value in (("ProductName", values.get("ProductName", "")),):
        text = text.replace(f"[{name}]", value)
    return clean_text(text) or dialog


def _of(
    database: Database,
    dialog: str,
    values: dict[str, str],
    known: dict[str, tuple[PropertyChoice, ...]],
    used: dict[str, list[str]],
) -> Iterator[Decision]:
    title = _title(database, dialog, values)
    controls = list(database["Control"].where(Dialog_=dialog))
    for control in controls:
        kind, name = control.text("Type"), control.text("Property")
        where = row("Control", dialog, control.text("Control"))
        label = clean_text(control.text("Text")) or _caption(controls, control)
        if kind == "SelectionTree":
            features = ", ".join(entry.text("Feature") for entry in database["Feature"])
            remark = f"features: {features}"
            yield Decision(
                dialog,
                title,
                "choose features",
                label,
                "ADDLOCAL",
                None,
                (),
                "ADDLOCAL=VALUE",
                True,
                False,
                remark,
                where,
            )
        elif kind in _INPUTS and name:
            if control.number("Attributes") & INDIRECT:
                name = values.get(name, name)
            yield _decision(
                dialog, title, _INPUTS[kind], label, name, values, known.get(name, ()), used, where, database
            )
        elif kind == "PushButton":
            yield from _button(database, dialog, title, control, values, known, used)


def _caption(controls: list[TableRow], control: TableRow) -> str:
    """The text that stands nearest before a control: to its left, or above it."""
    texts = [other for other in controls if other.text("Type") == "Text" and clean_text(other.text("Text"))]
    x, y = control.number("X"), control.number("Y")

    def distance(other: TableRow) -> int:
        below = y - other.number("Y")
        return (below * 2 if below >= 0 else 10_000 - below) + abs(x - other.number("X"))

    near = min(texts, key=distance, default=None)
    return clean_text(near.text("Text")) if near is not None and distance(near) < 200 else ""


def _button(
    database: Database,
    dialog: str,
    title: str,
    control: TableRow,
    values: dict[str, str],
    known: dict[str, tuple[PropertyChoice, ...]],
    used: dict[str, list[str]],
) -> Iterator[Decision]:
    for event in database["ControlEvent"].where(Dialog_=dialog, Control_=control["Control"]):
        name, argument = event.text("Event"), event.text("Argument")
        where = row("ControlEvent", dialog, control.text("Control"), name, argument)
        label = clean_text(control.text("Text")) or control.text("Control")
        if name in _PRESSED:
            switch = f"{_PRESSED[name]}={argument}"
            yield Decision(
                dialog, title, "press", label, _PRESSED[name], None, (), switch, True, False, _when(event), where
            )
        elif name.startswith("[") and name.endswith("]"):
            target = name[1:-1]
            decision = _decision(
                dialog, title, "press", label, target, values, known.get(target, ()), used, where, database
            )
            plain = argument if argument != "{}" else ""
            said = assign(target, plain) if decision.switch and "[" not in plain else decision.switch
            yield msgspec.structs.replace(decision, switch=said, remark=decision.remark or _when(event))


def _when(event: TableRow) -> str:
    """The condition of an event in words; one that always holds says nothing."""
    condition = event.text("Condition")
    return "" if condition in ("", "1") else f"if {condition}"


def _decision(
    dialog: str,
    title: str,
    what: str,
    label: str,
    name: str,
    values: dict[str, str],
    known: tuple[PropertyChoice, ...],
    used: dict[str, list[str]],
    where: Evidence,
    database: Database,
) -> Decision:
    places = tuple(used.get(name, ()))
    folder = database["Directory"].find(name) is not None
    matters = folder or in_silence(places) or name in OF_THE_INSTALLER
    licence = any(mark in (name + " " + label).lower() for mark in _LICENCE)
    switch, remark = f"{name}=VALUE", ""
    if not PUBLIC_NAME.fullmatch(name):
        switch = ""
        remark = (
            "its property is private, so no command line reaches it: a transform can set it"
            if matters
            else "its property is private"
        )
    elif not matters:
        remark = "only the dialogs look at it"
    if len(known) == 1 and what == "tick" and switch:
        switch = assign(name, known[0].value)
    return Decision(
        dialog, title, what, label, name, values.get(name), known, switch or None, matters, licence, remark, where
    )


def only_in_dialogs(database: Database) -> list[OnlyInDialogs]:
    """Steps of the dialog sequence that set something and that the silent sequence lacks: a silent installation goes
    without.
    """
    silent = {entry.text("Action") for entry in database["InstallExecuteSequence"] if entry.number("Sequence") > 0}
    dialogs = {entry.text("Dialog") for entry in database["Dialog"]}
    found = []
    for entry in sorted(database["InstallUISequence"], key=lambda entry: entry.number("Sequence")):
        name = entry.text("Action")
        custom = database["CustomAction"].find(name)
        if entry.number("Sequence") <= 0 or name in silent or name in dialogs:
            continue
        if custom is None:
            if name in ("AppSearch", "FindRelatedProducts", "LaunchConditions", "CCPSearch"):
                found.append(
                    OnlyInDialogs(
                        name, "what it finds", "a silent installation does not look", row("InstallUISequence", name)
                    )
                )
            continue
        kind = custom.number("Type") & 0x3F
        if kind in (51, 35):
            found.append(
                OnlyInDialogs(
                    name,
                    f"{custom.text('Source')} = {custom.text('Target')}",
                    "set it yourself",
                    row("CustomAction", name),
                )
            )
        elif kind != 19:
            found.append(
                OnlyInDialogs(
                    name, "", "runs code before the dialogs, which may set anything", row("CustomAction", name)
                )
            )
    return found
