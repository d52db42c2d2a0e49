"""What is wrong with a bundle or program for macOS before it is delivered: what the system or the notary refuses,
and what runs on no machine.

Source: Apple's "Notarizing macOS software before distribution", "Resolving common notarization issues", and TN2206.
Nothing of it was tried on a Mac.
"""

from __future__ import annotations

from collections.abc import Iterator

from yendo.mac.app import MacApp, MacCode
from yendo.mac.package import MacFinding

_DEBUG = "com.apple.security.get-task-allow"


def findings(app: MacApp) -> Iterator[MacFinding]:
    yield from _who(app)
    for name, what in app.differing:
        yield MacFinding(
            "seal", "error", f"not as it was sealed: {what}", "macOS says that it is damaged; take the vendor's", name
        )
    if app.file.endswith(".app"):
        if not app.identifier:
            yield MacFinding("no-identifier", "error", "it has no identifier", "no rule and no profile can name it")
        if not (app.version or app.build):
            yield MacFinding(
                "no-version", "warning", "it states no version", "detect it by the date or hash of its program"
            )
    for one in app.code:
        yield from _code(one, app.code[0])
    runs = set(app.code[0].processors) if app.code else set()
    if runs and "arm64" not in runs:
        yield MacFinding(
            "intel-only",
            "warning",
            "it is for Intel processors alone",
            "newer Macs need Rosetta, which is not there at first",
        )
    elif runs and "x86_64" not in runs:
        yield MacFinding("arm-only", "note", "it is for Apple's processors alone", "put them into the conditions")


def _who(app: MacApp) -> Iterator[MacFinding]:
    if not app.code:
        yield MacFinding("no-program", "error", "its program is not there or is none", "nothing can be started")
        return
    main = app.code[0]
    if main.held == "none":
        words = "on Apple's processors nothing unsigned runs, elsewhere the person is warned"
        yield MacFinding("not-signed", "error", "it is not signed", words, main.path)
    elif main.held == "ad hoc":
        words = "where it was fetched it is refused; have the vendor sign it, or sign it yourselves"
        yield MacFinding("ad-hoc", "error", "nobody stands behind its signature", words, main.path)
    elif main.held == "holds" and not main.apple:
        words = "macOS believes Apple's alone where it was fetched"
        yield MacFinding("other-root", "error", "its certificate is not Apple's", words, main.path)
    elif main.held == "holds" and not any(name.startswith("Developer ID ") for name in main.chain[:1]):
        words = "it is for the store or for trying; delivered elsewhere it is refused"
        yield MacFinding("other-certificate", "error", f"signed by {main.chain[0]}", words, main.path)
    if main.held == "holds" and not app.ticket and app.file.endswith(".app"):
        words = "where a Mac reaches Apple that is enough once it is notarised"
        yield MacFinding("no-ticket", "note", "no ticket of the notary is stapled on", words)


def _code(one: MacCode, main: MacCode) -> Iterator[MacFinding]:
    if one.held == "broken":
        yield MacFinding("changed", "error", one.problem, "it is not started; take the vendor's file", one.path)
    elif one.held == "not judged":
        yield MacFinding("not-judged", "note", one.problem, "it was not held against its signature", one.path)
    elif one is not main and one.held == "none" and main.held == "holds":
        yield MacFinding("unsigned-inside", "error", "it is not signed", "the notary refuses the whole", one.path)
    elif one is not main and one.held == "ad hoc" and main.held == "holds":
        yield MacFinding("ad-hoc-inside", "error", "nobody signed it", "the notary refuses the whole", one.path)
    elif one.held == "holds" and one.team != main.team and main.team:
        words = "a hardened program does not load it unless it says so"
        yield MacFinding("other-team", "warning", f"it is of the team {one.team or 'none'}", words, one.path)
    if one.held == "holds" and not one.hardened:
        words = "the notary asks for the hardened runtime"
        yield MacFinding("not-hardened", "warning", "it is not hardened", words, one.path)
    if one.held == "holds" and not one.stamped:
        words = "the notary asks for a secure time stamp; without it the signature ends with its certificate"
        yield MacFinding("no-time-stamp", "warning", "its signature has no time of a third party", words, one.path)
    if _DEBUG in one.entitlements:
        yield MacFinding(
            "debuggable",
            "error",
            "other programs may look into it",
            "built for trying; the notary refuses it",
            one.path,
        )
