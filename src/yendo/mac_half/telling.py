"""What a half for macOS does, in words for people: its steps, conditions and rules."""

from __future__ import annotations

from collections.abc import Iterator

from yendo.mac_half import model
from yendo.mac_half.model import AnyMacRule, AnyMacStep, MacPlan


def rule(one: AnyMacRule) -> str:
    """What a rule of detection asks."""
    match one:
        case model.BundleRule():
            more = [f"{one.version} or later" if one.version else "any version"]
            more += [f"signed by the team {one.team}"] if one.team else []
            more += ["whole as it was sealed"] if one.intact else []
            where = "" if one.anywhere else f" at {one.path}"
            return f"bundle {one.identifier}{where}, {', '.join(more)}"
        case model.ReceiptRule():
            return f"receipt {one.identifier} {one.version}".rstrip()
        case model.MacFileRule():
            return f"file {one.path}" + (", with its content" if one.sha256 else "")
        case model.MacFolderRule():
            return f"folder {one.path}, all that was laid in it"
        case model.MacSettingRule():
            return f"setting {one.key} of {one.domain} is {one.value}"
        case model.MacJobRule():
            return f"daemon {one.label} is loaded"


def step(one: AnyMacStep) -> str:
    """What a step does."""
    match one:
        case model.AppStep():
            name = (one.inside or one.source).rpartition("/")[2]
            both = f", the one for the processor of {one.source} and {one.intel}" if one.intel else ""
            return f"puts {name} into {one.to}{both}" + (", once its program has ended" if one.close else "")
        case model.FilesStep():
            return f"lays {one.source} at {one.to}"
        case model.LinkStep():
            return f"links {one.path} to {one.target}"
        case model.VendorPackageStep():
            chosen = ", ".join(f"{name} {'on' if on else 'off'}" for name, on in one.choices.items())
            how = "hands on" if one.as_is else "installs"
            return f"{how} the vendor's package {one.source}" + (f" with {chosen}" if chosen else "")
        case model.SettingsStep():
            whose = {"machine": "for the machine", "persons": "for every person", "managed": "by a profile"}[one.whose]
            values = ", ".join(f"{key} = {_value(value)}" for key, value in one.values.items())
            return f"sets {values} of {one.domain} {whose}"
        case model.JobStep():
            return f"has launchd start {' '.join(one.program)} ({one.label}{', for people' if one.agent else ''})"
        case model.ShellStep():
            back = f"; {one.undo} takes it back" if one.undo else "; nothing takes it back"
            return f"runs {one.file} {'before' if one.before else 'when all is laid'}{back}"
        case _:
            return _further(one)


def _further(one: AnyMacStep) -> str:
    match one:
        case model.RemoveStep():
            return f"takes away {one.path}"
        case model.QuitStep():
            return f"asks {one.identifier} to end, and stops where it stays open for {one.wait}"
        case model.MessageStep():
            return f"tells who is there: {one.text}"
        case model.PathWaitStep():
            return f"waits until {one.path} is {'gone' if one.gone else 'there'}, for {one.limit} at most"
        case model.CarryStep():
            return f"installs the office's package {one.package}, which stays when this one goes"
        case model.PrivacyStep():
            return f"allows {one.bundle} by a profile: {', '.join(one.allow)}"
    raise AssertionError(one)


def _value(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return "(" + ", ".join(map(_value, value)) + ")"
    if isinstance(value, dict):
        return "(" + ", ".join(f"{key} = {_value(inner)}" for key, inner in value.items()) + ")"
    return str(value)


def conditions(plan: MacPlan) -> Iterator[str]:
    """Where it may run."""
    when = plan.when
    yield f"macOS {plan.package.oldest} or later" + (f", up to {when.newest}" if when.newest else "")
    names = {"arm64": "Apple's own processors", "x86_64": "Intel's"}
    yield "on " + " and ".join(names[one] for one in plan.package.processors)
    if when.volume:
        yield "onto the volume that runs"
    for one in when.bundles:
        name, _, version = one.partition(" ")
        yield f"{name} is there before" + (f", {version} or later" if version else "")
    for one in when.receipts:
        yield f"the receipt {one} is there before"
    for one in when.profiles:
        yield f"the profile {one} is there before"
    if when.disk:
        yield f"{when.disk} are free"
    if when.person:
        yield "somebody is at the screen" if when.person == "there" else "nobody is at the screen"
    if when.mains:
        yield "not on battery"
