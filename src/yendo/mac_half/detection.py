"""Whether a package for macOS is there: rules as a script."""

from __future__ import annotations

import hashlib
import shlex
from collections.abc import Sequence

from yendo.detect.states import EDITED
from yendo.errors import Usage
from yendo.mac_half import model
from yendo.mac_half.model import AnyMacRule, MacPlan
from yendo.mac_half.removal import hash_of
from yendo.mac_half.shell import call, script
from yendo.mac_half.work import LaidItem


def script_of(plan: MacPlan, items: Sequence[LaidItem]) -> str:
    """The script: it says ``installed`` and ends with 0 where all rules hold, else with 1. ``items`` is what is laid.

    Raises Usage.
    """
    lines = ["volume=${1:-/}", *(f"{line_of(rule, items)} || exit 1" for rule in plan.detect), "echo installed"]
    return script(f"{plan.package.name} {plan.package.version}: is it there?", lines)


def line_of(rule: AnyMacRule, items: Sequence[LaidItem]) -> str:
    """A command of the shell that succeeds where a rule holds. Raises Usage."""
    match rule:
        case model.BundleRule():
            anywhere, intact = "anywhere" if rule.anywhere else "", "intact" if rule.intact else ""
            return call("has_bundle", rule.identifier, rule.version, rule.path, anywhere, rule.team, intact)
        case model.ReceiptRule():
            return call("has_receipt", rule.identifier, rule.version)
        case model.MacFileRule():
            return call("has_file", rule.path, rule.sha256 or "")
        case model.MacFolderRule():
            return _folder(rule, items)
        case model.MacSettingRule():
            return call("has_setting", rule.domain, rule.key, rule.value)
        case model.MacJobRule():
            return call("has_daemon", rule.label)


def laid_in(rule: model.MacFolderRule, items: Sequence[LaidItem]) -> list[LaidItem]:
    """The files that this package lays below the folder of a rule, by their paths. Raises Usage where it lays none."""
    top = rule.path.rstrip("/") + "/"
    found = sorted((one for one in items if one.path.startswith(top) and one.kind == "file"), key=lambda one: one.path)
    if not found:
        raise Usage(f"{rule.path}: this package lays no file in it")
    return found


def may_change(item: LaidItem) -> bool:
    """Whether people edit a file like this one: what somebody edited still counts as installed."""
    return item.watched and item.path.lower().endswith(EDITED)


def _folder(rule: model.MacFolderRule, items: Sequence[LaidItem]) -> str:
    names = {item.path.strip("/"): item for item in laid_in(rule, items)}
    if bad := next((name for name in names if "\\" in name or "\n" in name), None):
        raise Usage(f"{bad!r}: a name with a backslash or a line break goes through no list; detect another file")
    fixed = [name for name, item in names.items() if not may_change(item)]
    checks = [call("has_file", f"/{name}", "") for name, item in names.items() if may_change(item)]
    if fixed:
        told = "".join(f"{hash_of(names[name])}  {name}\n" for name in fixed)
        listed = " ".join(map(shlex.quote, fixed))
        whole = hashlib.sha256(told.encode()).hexdigest()
        checks.append(f"{{ printf '%s\\n' {listed} | {call('has_all', whole)}; }}")
    return "{ " + " && ".join(checks) + "; }"
