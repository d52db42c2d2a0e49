"""The scripts of a package: fixed code with the package's data set in as literals."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from importlib.resources import files
from typing import Any

from yendo.detect.evaluate import describe
from yendo.facts.versions import VersionRange
from yendo.installers.msi.commandline import pack_code
from yendo.package import manifest as form
from yendo.plan import FileRule, MsiProductRule, RegistryRule, Rule, UninstallEntryRule

DOORWAY = """@echo off\r
setlocal DisableDelayedExpansion\r
set "shell=%SystemRoot%\\System32\\WindowsPowerShell\\v1.0\\powershell.exe"\r
if exist "%SystemRoot%\\Sysnative\\WindowsPowerShell\\v1.0\\powershell.exe" set "shell=%SystemRoot%\\Sysnative\\WindowsPowerShell\\v1.0\\powershell.exe"\r
"%shell%" -NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "%~dp0apply.ps1" %*\r
"""


def literal(value: Any) -> str:
    """A value as the shell writes it: texts in single quotes, so that nothing in them is interpreted."""
    if value is None:
        return "$null"
    if isinstance(value, bool):
        return "$true" if value else "$false"
    if isinstance(value, (int, float)):
        return repr(value)
    if isinstance(value, str):
        if any(ord(character) < 32 for character in value):
            raise ValueError(f"a control character in {value!r}")
        # every kind of single quotation mark ends a text for the shell, so each is doubled
        return "'" + "".join(character * 2 if character in "'‘’‚‛" else character for character in value) + "'"
    if isinstance(value, Mapping):
        return "@{" + "; ".join(f"{literal(str(key))} = {literal(item)}" for key, item in value.items()) + "}"
    if isinstance(value, Sequence):
        return "@(" + (", ".join(literal(item) for item in value) if len(value) != 1 else "," + literal(value[0])) + ")"
    raise TypeError(f"no literal for {type(value).__name__}")


def _bounds(text: str | None) -> list[dict[str, str]]:
    return [{"sign": sign, "version": str(bound)} for sign, bound in VersionRange.parse(text).bounds] if text else []


def _template(name: str) -> str:
    """A script's fixed part, with the judging of rules that two of them share."""
    here = files("yendo.package")
    return here.joinpath(name).read_text("utf-8").replace("#RULES#\n", here.joinpath("rules.ps1").read_text("utf-8"))


def _script(text: str) -> bytes:
    """With a byte order mark, without which version 5.1 reads the text in the machine's old code page."""
    return b"\xef\xbb\xbf" + text.replace("\r\n", "\n").replace("\n", "\r\n").encode()


def runner(manifest: form.Manifest) -> bytes:
    """``apply.ps1`` of a package."""

    def step(action: form.Action) -> dict[str, Any]:
        return {
            "kind": action.kind,
            "title": action.title,
            "command": action.command,
            "timeout": action.timeout,
            "codes": action.codes,
            "keep": action.keep,
            "wait_for": list(action.wait_for),
            "unless": [_rule(rule) for rule in action.unless],
            "items": [{"source": item.source.replace("/", "\\"), "to": item.to, "sha256": item.sha256} for item in action.items],
        }

    data = {
        "id": manifest.id,
        "name": manifest.name,
        "version": manifest.version,
        "revision": manifest.revision,
        "logs": manifest.logs,
        "os": _bounds(manifest.os),
        "architectures": list(manifest.architectures),
        "disk": manifest.disk or 0,
        "programs": list(manifest.programs),
        "secrets": list(manifest.secrets),
        "wait": manifest.wait,
        "busy_wait": form.BUSY_WAIT,
        "busy_tries": form.BUSY_TRIES,
        "files": [{"path": file.path.replace("/", "\\"), "sha256": file.sha256} for file in manifest.files if file.path.startswith(form.CONTENT)],
        **{verb: [step(action) for action in manifest.actions(verb)] for verb in ("install", "uninstall", "repair")},
    }
    lines = [f"    {literal(key)} = {literal(value)}" for key, value in data.items()]
    text = _template("apply.ps1").replace("#DATA#", "$Plan = @{\n" + "\n".join(lines) + "\n}")
    for mark in ("NOT_APPLICABLE", "DAMAGED", "TIMED_OUT", "STEP_FAILED", "WRONG_USE"):
        text = text.replace(f"#{mark}#", str(getattr(form, mark)))
    return _script(text)


def _rule(rule: Rule) -> dict[str, Any]:
    common = {"title": describe(rule), "version": _bounds(rule.version)}
    match rule:
        case MsiProductRule():
            return {"kind": "msi-product", "product": pack_code(rule.code), **common}
        case FileRule():
            return {"kind": "file", "path": rule.path, "size": -1 if rule.size is None else rule.size, "sha256": rule.sha256 or "", **common}
        case RegistryRule():
            hive, key = rule.parts
            return {
                "kind": "registry",
                "hive": hive,
                "key": key,
                "name": rule.name,
                "view": rule.view,
                "compare": rule.equals is not None,
                "equals": str(rule.equals or ""),
                **common,
            }
        case UninstallEntryRule():
            return {"kind": "uninstall-entry", "name": rule.name, "views": [rule.view] if rule.view else ["64", "32"], **common}


def detection(manifest: form.Manifest) -> bytes:
    """``detect.ps1`` of a package."""
    rules = ",\n".join("    " + literal(_rule(rule)) for rule in manifest.detect)
    name = f"{manifest.name} {manifest.version}, revision {manifest.revision}"
    return _script(_template("detect.ps1").replace("#DATA#", f"[string]$Name = {literal(name)}\n$Rules = @(\n{rules}\n)"))
