"""Whether a package for macOS is there: rules as a script, and rules derived from what is laid."""

from __future__ import annotations

from yendo.mac_half import model
from yendo.mac_half.model import AnyMacRule, MacPlan
from yendo.mac_half.shell import call, script


def script_of(plan: MacPlan) -> str:
    """The script: it says ``installed`` and ends with 0 where all rules hold, else with 1."""
    lines = ["volume=${1:-/}", *(f"{_line(rule)} || exit 1" for rule in plan.detect), "echo installed"]
    return script(f"{plan.package.name} {plan.package.version}: is it there?", lines)


def _line(rule: AnyMacRule) -> str:
    match rule:
        case model.BundleRule():
            return call(
                "has_bundle", rule.identifier, rule.version, rule.path, "anywhere" if rule.anywhere else "", rule.team
            )
        case model.ReceiptRule():
            return call("has_receipt", rule.identifier, rule.version)
        case model.MacFileRule():
            return call("has_file", rule.path, rule.sha256 or "")
        case model.MacSettingRule():
            return call("has_setting", rule.domain, rule.key, rule.value)
        case model.MacJobRule():
            return call("has_daemon", rule.label)
