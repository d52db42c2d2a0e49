"""Writes the documents that come from the code: the plan's JSON Schema, and the reference of rules and exit codes."""

from __future__ import annotations

import json
from pathlib import Path

from yendo.check import RULES
from yendo.package.manifest import EXIT_CODES, MSI_CODES, MSI_GONE
from yendo.plan.model import schema

DOCS = Path(__file__).parents[1] / "docs"


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
    lines += ["", "## Exit codes of the runner", "", "Every other code is the installer's own.", "", "| code | meaning |", "|---|---|"]
    lines += [f"| {code} | {meaning} |" for code, meaning in EXIT_CODES.items()]
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
    return "\n".join(lines) + "\n"


def main() -> None:
    DOCS.mkdir(exist_ok=True)
    (DOCS / "plan.schema.json").write_text(json.dumps(schema(), indent=2) + "\n", "utf-8")
    (DOCS / "reference.md").write_text(reference(), "utf-8")


if __name__ == "__main__":
    main()
