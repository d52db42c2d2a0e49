"""The scripts of a package: fixed code with the package's data set in as literals."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from importlib.resources import files
from typing import Any

import msgspec

from yendo.package import manifest as form
from yendo.plan.model import VERBS
from yendo.platforms.windows import paths
from yendo.steps import Action, fragment
from yendo.steps.host import BUSY_TRIES, BUSY_WAIT
from yendo.terms import events
from yendo.terms.rules import KINDS as RULE_KINDS
from yendo.terms.rules import BaseRule, Rule, function_of
from yendo.terms.rules import fragment as fragment_of_rule
from yendo.terms.rules.base import bounds
from yendo.terms.when import Node

DOORWAY = """@echo off\r
setlocal DisableDelayedExpansion\r
set "shell=%SystemRoot%\\System32\\WindowsPowerShell\\v1.0\\powershell.exe"\r
if exist "%SystemRoot%\\Sysnative\\WindowsPowerShell\\v1.0\\powershell.exe" set "shell=%SystemRoot%\\Sysnative\\WindowsPowerShell\\v1.0\\powershell.exe"\r
"%shell%" -NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "%~dp0apply.ps1" %*\r
"""  # noqa: E501


def doorway(manifest: form.Manifest) -> str:
    """``apply.cmd``.

    A policy of the machine goes before what it says; without one it says itself that only signed scripts run.
    """
    return DOORWAY.replace("Bypass", "AllSigned") if manifest.only_signed else DOORWAY


_CONTROL, _QUOTE = re.compile(r"([\x00-\x1f])"), re.compile("['‘’‚‛]")
_ODD = re.compile("[\x00-\x1f'‘’‚‛]")


def literal(value: Any) -> str:
    """A value as the shell writes it: texts in single quotes, so that nothing in them is interpreted."""
    if isinstance(value, str):
        if not _ODD.search(value):
            return f"'{value}'"
        if _CONTROL.search(value):  # the shell has no such text in single quotes, so it is put together
            pieces = _CONTROL.split(value)
            return (
                "("
                + " + ".join(
                    literal(piece) if at % 2 == 0 else f"[char]{ord(piece)}" for at, piece in enumerate(pieces)
                )
                + ")"
            )
        # every kind of single quotation mark ends a text for the shell, so each is doubled
        return "'" + _QUOTE.sub(r"\g<0>\g<0>", value) + "'"
    if value is None:
        return "$null"
    if isinstance(value, bool):
        return "$true" if value else "$false"
    if isinstance(value, (int, float)):
        return repr(value)
    if isinstance(value, Mapping):
        return "@{" + "; ".join(f"{literal(str(key))} = {literal(item)}" for key, item in value.items()) + "}"
    if isinstance(value, Sequence):
        return "@(" + (", ".join(literal(item) for item in value) if len(value) != 1 else "," + literal(value[0])) + ")"
    raise TypeError(f"no literal for {type(value).__name__}")


def _settings(manifest: form.Manifest) -> dict[str, Any]:
    """What the scripts have to know of settings; nothing where there are none."""
    if not manifest.settings:
        return {}
    rows = {
        name: {
            "type": one.type,
            "default": None if one.default is None else one.text_of(one.default, said=True),
            "allowed": list(one.allowed),
            "least": one.least,
            "most": one.most,
            "words": list(one.words),
            "secret": one.secret,
            "meaning": _one_line(one.meaning),
        }
        for name, one in manifest.settings.items()
    }
    return {
        "settings": rows,
        "sites": manifest.sites,
        "used": {verb: form.used(manifest, verb) for verb in (*VERBS, "detect")},
    }


_SHARED = {
    **dict.fromkeys(("facts", "trust", "own", "record", "people", "native", "texts", "program"), "yendo.package"),
    **dict.fromkeys(("observe", "task", "shown", "operations"), "yendo.machines.recorded"),
}
_MARK = re.compile(r"^#([A-Z]+)#\n", re.M)


def with_parts(text: str) -> str:
    """A script's text with the parts that several scripts share, each in the place of its mark."""
    return _MARK.sub(lambda mark: part(mark[1].lower()) if mark[1].lower() in _SHARED else mark[0], text)


def part(name: str) -> str:
    """One of the parts that scripts share, with those that it needs itself."""
    return with_parts(files(_SHARED[name]).joinpath(f"{name}.ps1").read_text("utf-8"))


def assembled(room: str, name: str, data: Mapping[str, object]) -> bytes:
    """A script of a room: its own text, the parts that it shares with others, and its data as ``$Kit``."""
    text = with_parts(files(room).joinpath(name).read_text("utf-8"))
    lines = [f"    {literal(key)} = {literal(value)}" for key, value in data.items()]
    return script(text.replace("#DATA#", "$Kit = @{\n" + "\n".join(lines) + "\n}"))


def _template(name: str) -> str:
    return with_parts(files("yendo.package").joinpath(name).read_text("utf-8"))


def _part(name: str) -> str:
    return files("yendo.package").joinpath(f"{name}.ps1").read_text("utf-8")


def script(text: str) -> bytes:
    """With a byte order mark, without which version 5.1 reads the text in the machine's old code page."""
    return b"\xef\xbb\xbf" + text.replace("\r\n", "\n").replace("\n", "\r\n").encode()


def _values(value: Any) -> Any:
    """Data of a kind as literals: nodes and rules in the runner's form."""
    if isinstance(value, Node):
        return node(value)
    if isinstance(value, BaseRule):
        return _rule(value)
    if isinstance(value, Mapping):
        if "test" in value and set(value) <= set(Node.__struct_fields__):
            return node(msgspec.convert(value, Node))
        if set(value) == {"title", "rule"}:
            return {"title": value["title"], "rule": _values(msgspec.convert(value["rule"], Rule))}
        return {key: _values(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_values(item) for item in value]
    return value


def node(value: Node) -> dict[str, Any]:
    """A question of a condition as the runner asks it."""
    found: dict[str, Any] = {"test": value.test, "fact": value.fact, "want": value.want, "passing": value.passing}
    found["nodes"] = [node(inner) for inner in value.nodes]
    if value.rule is not None:
        found["rule"] = _rule(value.rule)
    return found


def _step(action: Action) -> dict[str, Any]:
    found: dict[str, Any] = {
        **_values(action.data),
        "kind": action.kind,
        "title": action.title,
        "command": action.command,
        "timeout": action.timeout,
        "wait_for": list(action.wait_for),
        "when": [node(inner) for inner in action.when],
        "unless": [_rule(rule) for rule in action.unless],
        "probe": [_rule(rule) for rule in action.probe],
        "once": action.once,
        "everybodys": action.standing,
        "run_as": action.run_as,
        "folder": action.folder,
        "retries": action.retries,
        "retry_wait": action.retry_wait,
        "on_failure": action.on_failure,
        "log": action.log,
        "reverse": action.reverse,
        "temporary_reverse": action.temporary_reverse,
    }
    return found | ({"codes": action.codes} if action.codes else {})


CHOICE = {
    "en": "OK closes it now and begins. Cancel puts it off; that is possible {left} times more, until {last}. "
    "Without an answer it begins in {wait} minutes.",
    "de": "OK schließt es jetzt und beginnt. Abbrechen verschiebt es, noch {left}-mal, bis {last}. Ohne Antwort "
    "beginnt es in {wait} Minuten.",
}


def kept_files(manifest: form.Manifest) -> list[str]:
    """What stays on the machine: everything, or all but the vendor's media."""
    if manifest.keep == "nothing":
        return []
    names = [file.path for file in manifest.files]
    later = paths.portable(
        " ".join(action.command for verb in ("uninstall", "repair") for action in manifest.actions(verb))
    )
    return [name for name in names if manifest.keep == "all" or not name.startswith("media/") or name in later]


def uses(manifest: form.Manifest) -> dict[str, str]:
    """What each file of the package is needed for, a letter each: questions before anything begins (``a``), and the
    verbs.

    An install has all of it. Else a file counts as named where its own path or that of a folder it lies in is; of the
    vendor's media all count where one does, since an installer may need what lies beside it.
    """
    asked = [
        manifest.when,
        [need.holds for need in manifest.needs],
        [(action.when, action.unless) for action in manifest.install],
    ]
    named = {"a": _named(asked)} | {
        verb[0]: _named([manifest.actions(verb), manifest.detect]) for verb in ("uninstall", "repair")
    }
    found = {}
    for file in manifest.files:
        parts = file.path.lower().split("/")
        places = {"media"} if parts[0] == "media" else {"/".join(parts[:count]) for count in range(2, len(parts) + 1)}
        found[file.path] = "i" + "".join(letter for letter, paths in named.items() if not places.isdisjoint(paths))
    return found


def _named(data: object) -> set[str]:
    """The paths of the package, and the folders they lie in, that texts in data hold; lower case, with slashes."""
    found: set[str] = set()
    for text in _texts(msgspec.to_builtins(data)):
        if "/" not in text and paths.SEPARATOR not in text:
            continue
        plain = paths.portable(text).lower()
        for match in _CONTENT.finditer(plain):
            path = match[0].rstrip(" .")
            words = path.split(" ")
            for count in range(1, len(words) + 1):  # a path may hold spaces, and arguments may follow it
                parts = " ".join(words[:count]).rstrip("/").split("/")
                found.update("/".join(parts[:length]) for length in range(2, len(parts) + 1))
            found.add(match[1])
    return found


def _texts(data: object) -> Iterator[str]:
    """Every text in plain data, in no order; ten thousand rules are walked, so without a call for each."""
    waiting = [data]
    while waiting:
        one = waiting.pop()
        if isinstance(one, str):
            yield one
        elif isinstance(one, dict):
            waiting += one
            waiting += one.values()
        elif isinstance(one, list | tuple):
            waiting += one


def runner(manifest: form.Manifest) -> bytes:
    """``apply.ps1`` of a package: the fixed part, the kinds of steps that it has, its data."""
    data = _data(manifest)
    kinds = sorted({action.kind for verb in VERBS for action in manifest.actions(verb)})
    # before an installation whose run could be undone, the runner itself asks whether the product is there
    undone = any(action.temporary_reverse for verb in VERBS for action in manifest.actions(verb))
    text = _put_together(manifest, kinds, judging(data, ["msi-product"] if undone else []))
    for mark in re.findall(r"#([A-Z]+(?:_[A-Z]+)*)#", text):
        if hasattr(form, mark):
            text = text.replace(f"#{mark}#", str(getattr(form, mark)))
    text = text.replace("#EVENT_VERSION#", str(events.VERSION)).replace("#EVENTS#", _sentences(text))
    if manifest.only_signed:
        text = text.replace("-ExecutionPolicy Bypass", "-ExecutionPolicy AllSigned")
    lines = [f"    {literal(key)} = {literal(value)}" for key, value in data.items()]
    return script(text.replace("#DATA#", "$Plan = @{\n" + "\n".join(lines) + "\n}"))


def _put_together(manifest: form.Manifest, kinds: Sequence[str], rules: str) -> str:
    """The fixed part with those of the kinds, and without the lines that call what this package does not have."""
    switch = "\n".join(
        f"        '{name}' {{ return Step-{''.join(part.capitalize() for part in name.split('-'))} $Step }}"
        for name in kinds
    )
    text = _template("apply.ps1").replace("#KINDS#", "\n".join(fragment(name) for name in kinds))
    settings = _part("settings") + "\n" + _part("delivery") if manifest.settings else ""
    text = text.replace("#SWITCH#", switch).replace("#RULES#", rules).replace("#SETTINGS#\n", settings)
    wanted = [name for name, there in (("settings", manifest.settings), ("msi", "msi" in kinds)) if there]
    text = "".join(
        line for line in text.splitlines(keepends=True) if not (only := _ONLY.search(line)) or only[1] in wanted
    )
    return _ONLY.sub("", text)


def _data(manifest: form.Manifest) -> dict[str, Any]:
    """What the runner knows of its package."""
    used = uses(manifest)
    return {
        "id": manifest.id,
        "name": manifest.name,
        "version": manifest.version,
        "revision": manifest.revision,
        "publisher": manifest.publisher,
        "permanent": manifest.permanent,
        "run": manifest.run,
        "logs": manifest.logs,
        "keep": manifest.keep,
        "exclusive": manifest.exclusive,
        "install_mode": manifest.install_mode,
        "progress": manifest.progress,
        "when": [node(inner) for inner in manifest.when],
        "needs": [
            {
                "package": need.package,
                "range": need.version,
                "version": bounds(need.version),
                "folder": need.folder,
                "holds": [_rule(rule) for rule in need.holds],
                "consent": need.consent,
                "remove": need.remove,
            }
            for need in manifest.needs
        ],
        "in_the_way": {
            verb: {name: getattr(way, name) for name in way.__struct_fields__}
            for verb, way in manifest.in_the_way.items()
        },
        "choice": CHOICE,
        "first_language": list(dict.fromkeys(name for way in manifest.in_the_way.values() for name in way.text)),
        "secrets": list(manifest.secrets),
        "home": manifest.home,
        **_settings(manifest),
        "restarts": any(action.kind == "restart" for action in manifest.install),
        "busy_wait": BUSY_WAIT,
        "busy_tries": BUSY_TRIES,
        "detect": [_rule(rule) for rule in manifest.detect],
        "files": [
            {"path": paths.native(file.path), "sha256": file.sha256, "size": file.size, "for": used[file.path]}
            for file in manifest.files
            if file.path.startswith(form.CONTENT)
        ],
        "kept": sorted(
            {paths.native(name) for name in kept_files(manifest)} | (_OWN if manifest.keep != "nothing" else set())
        ),
        "doorway": doorway(manifest).splitlines(),
        **{verb: [_step(action) for action in manifest.actions(verb)] for verb in ("install", "uninstall", "repair")},
    }


def _sentences(text: str) -> str:
    """The table of the events that a script tells: for each its sentence, and the names of its values
    in their order.
    """
    rows = []
    for name in sorted(set(re.findall(r"\bTell ([a-z-]+)", text))):
        kind = events.table()[name]
        fields = kind.__struct_fields__
        sentence = re.sub(r"\{(\w+)\}", lambda match: f"{{{fields.index(match[1])}}}", kind.sentence)  # noqa: B023
        rows.append(f"    {literal(name)} = {literal([sentence, *fields])}")
    return "$Events = @{\n" + "\n".join(rows) + "\n}"


def _rule(rule: BaseRule) -> dict[str, Any]:
    found: dict[str, Any] = {"kind": rule.kind, "title": _one_line(rule.title), **rule.data()}
    return found | ({"of": [_rule(inner) for inner in rule.inner]} if rule.inner else {})


def _one_line(text: str) -> str:
    return re.sub(r"[\x00-\x1f]+", " ", text)


def _kinds(data: Any) -> Iterator[str]:
    """The kinds of rules that may be somewhere in data."""
    waiting = [data]
    while waiting:
        one = waiting.pop()
        if isinstance(one, dict):
            if one.get("kind") in RULE_KINDS and "title" in one:
                yield one["kind"]
            waiting += [value for value in one.values() if not isinstance(value, str)]
        elif isinstance(one, list | tuple):
            waiting += one


def judging(data: Any, more: Iterable[str] = ()) -> str:
    """The functions that judge the rules in data, and those of ``more`` kinds."""
    kinds = sorted({*_kinds(data), *more})
    # a list judges each of its things as the rule for one does
    kinds = sorted(
        {*kinds, *(of for kind, of in (("file-list", "file"), ("registry-list", "registry")) if kind in kinds)}
    )
    parts = [
        files("yendo.package").joinpath("rules.ps1").read_text("utf-8"),
        *dict.fromkeys(fragment_of_rule(kind) for kind in kinds),
    ]
    cases = "".join(f"        '{kind}' {{ return {function_of(kind)} $Rule }}\n" for kind in kinds)
    chosen = (
        f"    switch ($Rule['kind']) {{\n{cases}    }}\n" if cases else "    return @($false, 'there is no rule')\n"
    )
    return "\n".join([*parts, f"function Test-Rule($Rule) {{\n{chosen}}}\n"])


_OWN = {"apply.ps1", "apply.cmd", "files.sha256", "files.sha256.p7s"}  # of the runner itself, beside what the steps use
FORMS = ("present", "code")
SIGNED = "# SIG # Begin signature block"  # how the shell marks where a script's signature begins
_CONTENT = re.compile(r"(?<![a-z0-9])(media|extras|transforms|made)/[^\"<>|?*\x00-\x1f]*")
_ONLY = re.compile(r" # only: (\w+)$", re.M)
_SETTLED = r"""
[string]$kept = [Environment]::ExpandEnvironmentVariables($Plan['home'] + '\state\' + $Plan['id'] + '\settings.txt')
[void](Initialize-Settings '' '' '' 'detect' $kept)
$Rules = $Plan['detect']

"""


def detection(manifest: form.Manifest, form_of_answer: str = "present") -> bytes:
    """``detect.ps1`` of a package.

    Management systems take one of two answers: ``present`` prints a line and leaves with 0 where the package is there,
    and prints nothing and leaves with 1 where it is not; ``code`` prints what it found in both cases and leaves with 0
    or 1.
    """
    return script(_detection(manifest, form_of_answer))


def _detection(manifest: form.Manifest, form_of_answer: str) -> str:
    data = [_rule(rule) for rule in manifest.detect]
    rules = ",\n".join("    " + literal(rule) for rule in data)
    name = f"{manifest.name} {manifest.version}, revision {manifest.revision}"
    head = (
        f"[string]$Name = {literal(name)}\n[bool]$Always = {literal(form_of_answer == 'code')}\n$Rules = @(\n{rules}\n)"
    )
    used = form.used(manifest, "detect")
    asks = {name: one for name, one in manifest.settings.items() if name in used}
    if asks:
        known = {
            "id": manifest.id,
            "home": manifest.home,
            "secrets": [],
            "detect": data,
            **_settings(msgspec.structs.replace(manifest, settings=asks, sites={})),
        }
        head = head.replace(f"$Rules = @(\n{rules}\n)", f"$Plan = {literal(known)}")
    text = _template("detect.ps1").replace("#RULES#", judging(data)).replace("#DATA#", head)
    return text.replace("#SETTINGS#\n", _part("settings") + _SETTLED if asks else "")
