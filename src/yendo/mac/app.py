"""What is known of a program or a bundle for macOS from reading it."""

from __future__ import annotations

from typing import Literal

import msgspec

from yendo.mac.package import MacFinding

SCHEMA = "yendo.mac-app/1"
CodeHeld = Literal["none", "ad hoc", "holds", "broken", "not judged"]


class MacCode(msgspec.Struct, frozen=True):
    """A program, library or plug-in: ``path`` below what was read, ``processors`` and the oldest macOS for each.

    ``held`` is ``holds`` where every page is what was signed and the signature is by the certificate's key; ``apple``
    says whether Apple's root stands at the end of its chain; ``stamped`` whether there is a time of a third party.
    """

    path: str
    processors: dict[str, str]
    held: CodeHeld
    identifier: str = ""
    team: str = ""
    chain: tuple[str, ...] = ()
    ends: str = ""
    apple: bool = False
    hardened: bool = False
    stamped: bool = False
    entitlements: tuple[str, ...] = ()
    problem: str = ""

    @property
    def words(self) -> str:
        """Who stands behind it, for people."""
        if self.held == "none":
            return "not signed"
        if self.held == "ad hoc":
            return "signed by nobody (ad hoc)"
        by = f"signed by {self.chain[0]}" if self.chain else "signed"
        root = "" if self.apple else ", by a root that is not Apple's"
        return {
            "holds": f"{by}, holds{root}",
            "broken": f"{by}, DOES NOT HOLD: {self.problem}",
            "not judged": f"{by}; not judged: {self.problem}",
        }[self.held]


class MacApp(msgspec.Struct, frozen=True):
    """``sealed`` says whether every file is the one that was sealed; ``differing`` are those that are not, each with
    what became of it. ``asks`` is what a person or a profile will have to allow; ``ticket`` the notary's, stapled on.
    """

    file: str
    name: str
    identifier: str
    version: str
    build: str
    oldest: str
    code: tuple[MacCode, ...]
    sealed: Literal["none", "whole", "broken"] = "none"
    differing: tuple[tuple[str, str], ...] = ()
    ticket: bool = False
    asks: tuple[tuple[str, str], ...] = ()
    findings: tuple[MacFinding, ...] = ()
