"""Steps that provide a modern app package to everybody."""

from __future__ import annotations

import hashlib
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import defusedxml.ElementTree as ElementTree

from yendo.errors import Unreadable
from yendo.steps.base import Action, At, Kind, Result, Step, below, packaged
from yendo.steps.exe import run_or_assume
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


_DIGITS = "0123456789abcdefghjkmnpqrstvwxyz"  # Source: the package identity's base 32, without i, l, o and u


class MsixStep(Step, tag="msix", frozen=True, kw_only=True):
    """Provides a modern app package to every user of the machine, those to come too. ``needs`` are packages that it depends on."""

    media: Text
    needs: tuple[Text, ...] = ()


def full_name(path: Path) -> str:
    """The full name of a package: name, version, architecture, resource, and a hash of its publisher. Raises Unreadable."""
    try:
        with zipfile.ZipFile(path) as archive:
            info = archive.getinfo("AppxManifest.xml")
            if info.file_size > 4 << 20:
                raise Unreadable(f"{path.name}: its manifest is larger than 4 MB")
            found = ElementTree.fromstring(archive.read(info)).find("{*}Identity")
    except (OSError, KeyError, zipfile.BadZipFile, ElementTree.ParseError, ValueError) as error:
        raise Unreadable(f"{path.name} is no modern app package: {error}") from error
    if found is None or not found.get("Name") or not found.get("Publisher") or not found.get("Version"):
        raise Unreadable(f"{path.name}: its manifest has no whole identity")
    bits = int.from_bytes(hashlib.sha256(str(found.get("Publisher")).encode("utf-16-le")).digest()[:8], "big") << 1
    publisher = "".join(_DIGITS[bits >> shift & 31] for shift in range(60, -1, -5))
    return f"{found.get('Name')}_{found.get('Version')}_{found.get('ProcessorArchitecture', 'neutral')}_{found.get('ResourceId', '')}_{publisher}"


class MsixKind(Kind):
    step = MsixStep
    reversal = "by record"
    executed = ("simulation", "stand-in")

    def resolve(self, step: MsixStep, at: At) -> Action:
        needs = "".join(f' /dependencypackagepath:"{packaged("media/" + name)}"' for name in step.needs)
        name = full_name(below(at.base, f"media/{step.media}", "media"))
        return Action(
            "msix",
            f"provide {step.media}",
            f'dism.exe /online /quiet /norestart /add-provisionedappxpackage /packagepath:"{packaged("media/" + step.media)}"{needs} /skiplicense',
            codes={"0": "done", "3010": "restart"},
            reverse=f"dism.exe /online /quiet /norestart /remove-provisionedappxpackage /packagename:{name}",
        )

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)


KIND: Any = MsixKind()
