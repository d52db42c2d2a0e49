"""Writes the documents that come from the code: the plan's JSON Schema, and the reference of rules and exit codes."""

from __future__ import annotations

import json
from pathlib import Path
from typing import get_args

import msgspec

from yendo.check import RULES
from yendo.installers.msi.actions import NOT_INTERPRETED, STANDARD
from yendo.machines.wine import quirks
from yendo.package.manifest import EXIT_CODES
from yendo.plan import house
from yendo.plan.model import schema
from yendo.prove import mac_sheet, sheet
from yendo.steps import KINDS, Step
from yendo.steps.base import MSI_CODES, MSI_GONE
from yendo.steps.operations import OPERATIONS
from yendo.suite import model as suites
from yendo.terms import events
from yendo.terms.changes import PlannedChange
from yendo.terms.rules import KINDS as RULE_KINDS
from yendo.terms.rules import Rule
from yendo.terms.when import Condition

DOCS = Path(__file__).parents[1] / "docs"


def _rule_lines() -> list[str]:
    found = []
    for name, kind in RULE_KINDS.items():
        keys = ", ".join(
            f"`{field.encode_name}`" + ("" if field.required else " (optional)")
            for field in msgspec.structs.fields(kind)
            if field.name != "note"
        )
        found.append(f"| `{name}` | {keys} | {' '.join((kind.__doc__ or '').split()).replace('``', '`')} |")
    return found


def reference() -> str:
    """The reference page as Markdown."""
    lines = [
        "# Reference",
        "",
        "Written by `tools/write_docs.py` from the code.",
        "",
        "## What `yendo check` looks for",
        "",
        "| rule | severity | why it matters |",
        "|---|---|---|",
    ]
    lines += [f"| `{rule.id}` | {rule.severity} | {rule.why} |" for rule in RULES.values()]
    lines += [
        "",
        "## What the codes of an msi step mean",
        "",
        "A step's own `codes` come before these.",
        "",
        "| code | when | meaning |",
        "|---|---|---|",
    ]
    lines += [f"| {code} | always | {meaning} |" for code, meaning in MSI_CODES.items()]
    lines += [f"| {code} | uninstall | {meaning} |" for code, meaning in MSI_GONE.items()]
    lines += [
        "",
        "## Kinds of change",
        "",
        "What an msi step can want different, as `[[install.change]]`; a transform is made of it at build time.",
        "",
        "| kind | keys | what it does |",
        "|---|---|---|",
    ]
    for kind in get_args(PlannedChange):
        keys = ", ".join(
            f"`{field.encode_name}`" + ("" if field.required else " (optional)")
            for field in msgspec.structs.fields(kind)
            if field.name != "note"
        )
        lines.append(f"| `{kind.__struct_config__.tag}` | {keys} | {' '.join((kind.__doc__ or '').split())} |")
    lines += [
        "",
        "## Kinds of rule",
        "",
        "For detection (`[[detect]]`), `unless`, `probe`, `holds` and `rules`. A rule in a group is written in `of`.",
        "",
        "| kind | keys | holds where |",
        "|---|---|---|",
        *_rule_lines(),
        "",
        "## What a prediction carries out",
        "",
        "Standard actions with a rule: " + ", ".join(f"`{name}`" for name in sorted(STANDARD)) + ".",
        "",
        "Custom actions that set a property or a folder, or stop, are evaluated; every other one is a blind spot, and `yendo msi actions` shows its source",  # noqa: E501
        "where it is a script. Named blind spots by table:",
        "",
        "| table | what |",
        "|---|---|",
        *(f"| `{table}` | {what} |" for table, what in NOT_INTERPRETED.items()),
        "",
        "## Where the API layer differs from Windows",
        "",
        "Predictions follow Windows' documentation; these are counted apart wherever they are compared with the layer.",
        "",
        "| id | what |",
        "|---|---|",
        *(f"| `{quirk.id}` | {quirk.reason} |" for quirk in quirks.QUIRKS),
        *(
            f"| exit code {ours} | {reason}: it ends with {theirs} |"
            for (ours, theirs), reason in quirks.EXIT_CODES.items()
        ),
    ]
    return "\n".join(lines) + "\n"


HOW = {
    "real Windows": "on real Windows",
    "API layer": "by the package's own runner on the API layer",
    "simulation": "on the simulated machine",
    "stand-in": "by the package's own runner against a stand-in that records how it was called: the layer lacks the program",  # noqa: E501
}
REVERSALS = {
    "by record": "from the record of what was there before; a derived uninstall takes it back",
    "by steps": "by a step of its own in a derived uninstall",
    "nothing to undo": "nothing to take back",
    "cannot": "cannot be taken back by itself: give the step a `reverse`, or write `[[uninstall]]`",
}


def _keys(struct: type, without: frozenset[str] = frozenset()) -> list[str]:
    fields = [field for field in msgspec.structs.fields(struct) if field.encode_name not in without]
    return [f"`{field.encode_name}`" + ("" if field.required else " (optional)") for field in fields]


def _prose(kind: type) -> str:
    return (
        "\n".join(" ".join(part.split()) + "\n" for part in (kind.__doc__ or "").split("\n\n"))
        .replace("``", "`")
        .rstrip()
    )


def steps() -> str:
    """The page of step kinds, run conditions and exit codes as Markdown."""
    common = frozenset(field.encode_name for field in msgspec.structs.fields(Step))
    lines = ["# Steps, conditions and exit codes", "", "Written by `tools/write_docs.py` from the code.", ""]
    lines += ["## Keys of every step", "", ", ".join(_keys(Step)), "", _prose(Step), ""]
    for name, kind in sorted(KINDS.items()):
        codes = ""
        lines += [
            f"## {name}",
            "",
            _prose(kind.step),
            "",
            "Keys: " + (", ".join(_keys(kind.step, common)) or "none of its own") + ".",
            "",
        ]
        lines += [
            f"Taken back: {REVERSALS[kind.reversal]}.",
            "",
            "Executed: " + "; ".join(HOW[place] for place in kind.executed) + "." + codes,
            "",
        ]
    lines += [
        "## Run conditions",
        "",
        "Keys of `[when]`, and of `when` in a step: " + ", ".join(_keys(Condition)) + ".",
        "",
        _prose(Condition),
        "",
    ]
    lines += [
        "`all`, `any` and `not` hold conditions in turn. A fact that the machine does not tell is not judged, and the log says so.",  # noqa: E501
        "",
    ]
    lines += [
        "## Rules",
        "",
        "In `[[detect]]`, `probe`, `unless`, `holds` and in `[[need]]`.",
        "",
        "| kind | keys | holds where |",
        "|---|---|---|",
    ]
    for rule in get_args(Rule):
        lines.append(
            f"| `{rule.__struct_config__.tag}` | {', '.join(_keys(rule, frozenset({'note'})))} | {' '.join((rule.__doc__ or '').split())} |"  # noqa: E501
        )
    lines += [
        "",
        "## Operations",
        "",
        "What kinds are made of; nothing else changes the machine. Each has a function in the runner and one in the "
        "interpreter, which write the same lines of the record and tell the same events (`tests/test_operations.py`).",
        "",
        "| operation | does | in the runner | in the interpreter | lines of the record |",
        "|---|---|---|---|---|",
    ]
    lines += [
        f"| `{one.name}` | {one.does} | {', '.join(one.shell)} | {', '.join(one.host)} | "
        f"{'its own' if one.records == '*' else ' '.join(one.records)} |"
        for one in OPERATIONS
    ]
    lines += [
        "",
        "## Exit codes of the runner",
        "",
        "Every other code is the installer's own.",
        "",
        "| code | meaning | usual outcome |",
        "|---|---|---|",
    ]
    lines += [f"| {code} | {known.meaning} | {known.outcome} |" for code, known in EXIT_CODES.items()]
    return "\n".join(lines) + "\n"


def told() -> str:
    """The events, by the rooms of their table."""
    lines = [
        "# Events",
        "",
        "What happens while a package is carried out, as `LOGS\\VERB.jsonl` holds it, one line of JSON each: `v`",
        f"(the version of this table, now {events.VERSION}), `time` (UTC), `verb`, `step` (0 outside of one), `event`,",
        "`data` (its values by name) and `text`, the sentence for people. The log beside it has the sentences. A",
        "reader that meets another `v` leaves the line alone. Events marked *runner* are told by the package's own",
        "runner only, *interpreter* by Yendo's only, where it carries out a package itself;",
        "all others are told by both.",
        "",
        "| event | sentence | by |",
        "|---|---|---|",
    ]
    for name, kind in events.table().items():
        lines.append(f"| `{name}` | {kind.sentence} | {'' if kind.by == 'both' else kind.by} |")
    return "\n".join(lines) + "\n"


def main() -> None:
    DOCS.mkdir(exist_ok=True)
    (DOCS / "plan.schema.json").write_text(json.dumps(schema(), indent=2) + "\n", "utf-8")
    for name, title, kind in (
        ("house", "Yendo house file", house.House),
        ("suite", "Yendo suite", suites.SuitePlan),
        ("sheet", "Yendo hand-over sheet", sheet.Sheet),
        ("mac-sheet", "Yendo hand-over sheet for macOS", mac_sheet.MacSheet),
    ):
        (DOCS / f"{name}.schema.json").write_text(json.dumps(schema(kind, title), indent=2) + "\n", "utf-8")
    (DOCS / "steps.md").write_text(steps(), "utf-8")
    (DOCS / "events.md").write_text(told(), "utf-8")
    (DOCS / "reference.md").write_text(reference(), "utf-8")


if __name__ == "__main__":
    main()
