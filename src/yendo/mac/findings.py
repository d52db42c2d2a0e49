"""What is wrong with a package for macOS: what a management service refuses, what a person will be asked, what a script
does that it should not.

Source: Apple's deployment guide for packages from a management service (a signed distribution), the release notes that
took programs away (Python 2 with 12.3, PHP with 12.0), the manual pages of the system's own tools, which are not GNU's.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from yendo.mac.package import MacComponent, MacFinding, MacPackage, MacScript
from yendo.terms.severity import Severity

# What a line of a shell script does, by a pattern: id, level, what, advice. Comments are passed over.
_LINES: tuple[tuple[str, Severity, str, str, str], ...] = (
    (
        "fetches",
        "warning",
        r"\b(?:curl|wget|nscurl|ftp)\b\s",
        "it fetches something from the network as root",
        "what is fetched is in no package and no proof; carry it inside",
    ),
    (
        "users-folder",
        "warning",
        r"(?:^|[\s\"'=>])(?:~/|\$\{?HOME\b|/Users/(?!Shared\b))",
        "it works in a person's folder as root",
        "root has a home of its own, and who is at the screen is not said; use the user template, or a launch agent",
    ),
    (
        "unquoted-volume",
        "warning",
        r"(?<![\"'\w\\{=])\$(?:\{?3\}?|\{?2\}?|\{?DSTVOLUME\}?|\{?DSTROOT\}?)(?![\w\"'])(?=[/\s]|$)",
        "the target is used without quotes",
        "names of volumes have spaces: put it into quotes",
    ),
    (
        "gone-program",
        "error",
        r"(?:^|[\s;&|(])(?:/usr/bin/)?(?:python|python2(?:\.7)?|php)\s",
        "it calls a program that newer systems do not have",
        "Python 2 went with 12.3, PHP with 12.0; use the shell, or bring an interpreter",
    ),
    (
        "gnu-only",
        "error",
        r"\bsed\s+(?:-[a-zA-Z]*\s+)*-i\s+(?:-e\b|['\"]?[sy0-9/])|\bgrep\s+(?:-[a-zA-Z]*)?P|\bdate\s+(?:-d\b|--date)|\bstat\s+(?:-c\b|--format)"
        r"|\breadlink\s+--|\bcp\s+--|\bchown\s+--|\bchmod\s+--|\bxargs\s+(?:-[a-z]*)?d\b|\bls\s+--",
        "it uses an option that only GNU's tools know",
        "on macOS: sed -i '' ..., stat -f, date -j -f; read the manual page there",
    ),
    (
        "seal",
        "error",
        r"\b(?:defaults\s+write|plutil\s+-(?:replace|insert|remove)|PlistBuddy\b.*-c)\b.*\.app/Contents/",
        "it edits a property list inside a bundle, which breaks its seal",
        "set it in the preferences of the system or of the person, or by a profile",
    ),
    (
        "gatekeeper",
        "error",
        r"\bspctl\s+(?:--master-disable|--global-disable)|\bxattr\s+-[a-z]*d[a-z]*\s+com\.apple\.quarantine",
        "it switches off what protects the person",
        "have the vendor sign and notarise instead",
    ),
    (
        "restarts",
        "error",
        r"(?:^|[\s;&|(])(?:/sbin/)?(?:reboot|shutdown|halt)\b",
        "it restarts the machine in the middle of the installation",
        "state it in the package (postinstall-action), and leave it to the installer",
    ),
    (
        "asks",
        "warning",
        r"\bosascript\b.*\b(?:display\s+(?:dialog|alert)|choose)\b",
        "it shows a window and waits",
        "nobody may be there: a management service installs without a person",
    ),
    ("sudo", "note", r"(?:^|[\s;&|(])sudo\s", "it calls sudo, though it is root already", "leave it out"),
)
_RULES = tuple((each[0], each[1], re.compile(each[2]), each[3], each[4]) for each in _LINES)
_SHELLS = ("sh", "bash", "zsh", "dash", "ksh")


def findings(package: MacPackage, problem: str) -> Iterator[MacFinding]:
    """``problem`` is what does not fit together in the archive, empty where nothing is wrong."""
    if problem:
        yield MacFinding("damaged", "error", problem, "get it from the vendor again")
    if package.form == "component":
        yield MacFinding(
            "no-distribution",
            "error",
            "it is a component, and no distribution",
            "a management service takes distributions only; put it into one (a product archive)",
        )
    if package.form == "older":
        yield MacFinding(
            "older-form",
            "error",
            "it is of the older form, a folder, which newer systems and management services do not take",
            "ask its maker for a flat one, or take its files out (--extract) and make a package of them",
        )
    yield from _signature(package)
    seen: set[str] = set()
    for component in package.components:
        yield from _component(component, seen)
        for script in component.scripts:
            yield from script_findings(script)


def _signature(package: MacPackage) -> Iterator[MacFinding]:
    signature = package.signature
    if signature.state == "none":
        yield MacFinding(
            "unsigned",
            "error",
            "it is not signed",
            "a management service refuses it, and a person is warned; sign it, the inside before the outside",
        )
    elif signature.state == "broken":
        yield MacFinding(
            "broken-signature",
            "error",
            signature.problem or "the signature is not over this table of contents",
            "get it from the vendor again",
        )
    elif signature.chain and not signature.chain[0].startswith("Developer ID Installer"):
        yield MacFinding(
            "other-certificate",
            "warning",
            f"it is signed by {signature.chain[0]!r}, no certificate for installers that are given out",
            "only machines that were told to trust it take it",
        )


def _component(component: MacComponent, seen: set[str]) -> Iterator[MacFinding]:
    name = component.identifier
    if component.trouble:
        yield MacFinding("not-read", "warning", component.trouble, "look at it by another program", name)
    if not name or not component.version:
        yield MacFinding(
            "no-identity",
            "error",
            "a component without an identifier or a version",
            "its receipt is what detection and upgrades hang on",
            name,
        )
    if name in seen:
        yield MacFinding("two-alike", "error", f"two components are called {name}", "each needs its own", name)
    seen.add(name)
    if component.unlike:
        some = ", ".join(component.unlike[:3])
        yield MacFinding(
            "bill-differs",
            "warning",
            f"its bill of materials says otherwise than its payload: {some}",
            "what is repaired and removed goes by the bill; get it from the vendor again",
            name,
        )
    if component.relocatable:
        yield MacFinding(
            "relocatable",
            "warning",
            f"it follows a copy that somebody moved: {', '.join(component.relocatable)}",
            "the program is then replaced where it lies, and not where it is looked for; switch it off for deployment",
            name,
        )
    for item in component.items:
        yield from item_findings(item.path, item.mode, item.user, item.kind)


def item_findings(path: str, mode: str, user: int, kind: str) -> Iterator[MacFinding]:
    """What is wrong with where something is laid, and how; ``mode`` in octal digits."""
    bits = int(mode, 8)
    parts = path.split("/")
    if path.startswith(("/System/", "/usr/bin/", "/usr/sbin/", "/usr/lib/", "/bin/", "/sbin/")):
        yield MacFinding(
            "sealed-system",
            "error",
            "it goes into the sealed system",
            "no newer system takes it; /usr/local or /Library",
            path,
        )
    if path.startswith("/Users/") and not path.startswith("/Users/Shared") and len(parts) > 3:
        yield MacFinding(
            "in-a-home",
            "error",
            "it goes into one person's folder",
            "others do not get it; use the user template",
            path,
        )
    if kind != "link" and bits & 0o002 and not bits & 0o1000:
        yield MacFinding("writable-by-all", "error", f"everybody may write it ({mode})", "0755 or 0644", path)
    if kind == "file" and bits & 0o6000:
        yield MacFinding(
            "runs-as-another",
            "warning",
            f"it runs as its owner or group ({mode})",
            "say why, or take the bit away",
            path,
        )
    if path.startswith("/Library/Launch") and path.endswith(".plist") and (user != 0 or bits & 0o022):
        yield MacFinding(
            "launchd-refuses",
            "error",
            f"launchd does not load it: its owner is {user}, its mode {mode}",
            "it has to belong to root, and nobody else may write it (0644)",
            path,
        )


def script_findings(script: MacScript) -> Iterator[MacFinding]:
    """What a script does that it should not, line by line; only shell scripts are looked into."""
    name = script.when
    if not script.interpreter:
        yield MacFinding(
            "no-interpreter", "error", f"{name} does not say by what it is run", "begin it with #!/bin/sh", name
        )
    program = script.interpreter.split()[0].rpartition("/")[2] if script.interpreter else "sh"
    if program == "env":
        program = (script.interpreter.split() + [""])[1]
    if program in ("python", "python2", "php"):
        yield MacFinding(
            "gone-program", "error", f"{name} is run by {program}, which newer systems do not have", "use /bin/sh", name
        )
    if "\r\n" in script.text:
        yield MacFinding(
            "line-ends",
            "error",
            f"{name} has the line ends of Windows",
            "its first line names a program that is not there",
            name,
        )
    if script.text.startswith("{\\rtf"):
        yield MacFinding("styled-text", "error", f"{name} is styled text, and no script", "save it as plain text", name)
        return
    if program not in _SHELLS:
        yield MacFinding("not-looked-into", "note", f"{name} is a script for {program}", "read it", name)
        return
    for number, line in enumerate(script.text.splitlines(), 1):
        bare = line.strip()
        if not bare or bare.startswith("#"):
            continue
        if re.search("[\u2018\u2019\u201c\u201d]", bare):
            yield MacFinding(
                "styled-quotes",
                "error",
                "it has quotes of a text program, which no shell takes for quotes",
                "write plain ones",
                f"{name}, line {number}",
            )
        for identifier, level, pattern, what, advice in _RULES:
            if pattern.search(line):
                yield MacFinding(identifier, level, what, advice, f"{name}, line {number}")
