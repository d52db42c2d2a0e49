"""The manifest of a package of the system (``update.mum``): what it is, what it is for, what it needs first.

Its form is not published. What is read here is what such documents say in words of their own: identities, parents,
whether a restart is possible, whether the package stays for good, features and capabilities. What is not understood is
left out and nothing is guessed.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import msgspec

from yendo.errors import Unreadable
from yendo.formats import plain_xml

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

_NAMESPACE = "urn:schemas-microsoft-com:asm.v3"
_PROCESSORS = {"amd64": "x64", "x86": "x86", "arm64": "arm64", "arm": "arm", "wow64": "x64"}
MOST_NAMED = 10_000


class ServicedIdentity(msgspec.Struct, frozen=True, order=True):
    """A package of the system by name, version, processor and language (``neutral`` for all of them); ``token`` is that
    of the key it was signed by.
    """

    name: str
    version: str
    processor: str = ""
    language: str = ""
    token: str = ""

    @property
    def whole(self) -> str:
        """As the system's own tool writes it: ``NAME~TOKEN~PROCESSOR~LANGUAGE~VERSION``."""
        processor = "amd64" if self.processor == "x64" else self.processor
        language = "" if self.language.lower() in ("neutral", "*") else self.language
        return f"{self.name}~{self.token}~{processor}~{language}~{self.version}"


class ServicedParent(msgspec.Struct, frozen=True):
    """What has to be there already; ``compare`` says how its version is held against the one named: EQ, GE, or empty
    where the document does not say.
    """

    identity: ServicedIdentity
    compare: str = ""


class ServicedManifest(msgspec.Struct, frozen=True, kw_only=True):
    """``release`` is what kind of package it is, in its own word (Update, Security Update, Language Pack, Feature Pack,
    OnDemand Pack, Foundation, ...). ``restart`` is its own word too. ``permanent`` where it cannot be removed.
    """

    identity: ServicedIdentity
    shown: str = ""
    article: str = ""
    release: str = ""
    restart: str = ""
    permanent: bool = False
    parents: tuple[ServicedParent, ...] = ()
    inner: tuple[ServicedIdentity, ...] = ()
    features: tuple[str, ...] = ()
    capabilities: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()


def read(data: bytes, name: str) -> ServicedManifest:
    """Raises Unreadable where it is no such manifest."""
    root = plain_xml.parsed(data, name)
    own, package = root.find(_tag("assemblyIdentity")), root.find(_tag("package"))
    if root.tag != _tag("assembly") or own is None or package is None:
        raise Unreadable(f"{name} is no manifest of a package of the system")
    parents, inner = [], []
    for parent in package.findall(_tag("parent")):
        how = parent.get("buildCompare", "")
        parents += [ServicedParent(identity(one), how) for one in parent.findall(_tag("assemblyIdentity"))]
    features = []
    for update in package.findall(_tag("update")):
        found = [identity(one) for one in update.iterfind(f"{_tag('package')}/{_tag('assemblyIdentity')}")]
        inner += found
        if update.find(_tag("selectable")) is not None or update.get("displayName"):
            features.append(update.get("name", ""))
    declared = package.find(_tag("declareCapability"))
    shown = root.get("displayName") or root.get("description") or ""
    return ServicedManifest(
        identity=identity(own), shown="" if shown.lower() in ("default", "") else shown[:300],
        article=package.get("identifier", "")[:100], release=package.get("releaseType", "")[:60],
        restart=package.get("restart", "")[:40], permanent=package.get("permanence", "").lower() == "permanent",
        parents=tuple(parents[:MOST_NAMED]), inner=tuple(inner[:MOST_NAMED]),
        features=tuple(one for one in features[:MOST_NAMED] if one),
        capabilities=tuple(_capabilities(declared, "capability")), needs=tuple(_capabilities(declared, "dependency")),
    )  # fmt: skip


def _capabilities(declared: Element | None, tag: str) -> Iterator[str]:
    """Capabilities by their names as the system's own tool writes them: ``Language.Basic~~~de-DE~0.0.1.0``."""
    for one in [] if declared is None else declared.findall(_tag(tag)):
        for named in one.findall(_tag("capabilityIdentity")):
            yield f"{named.get('name', '')}~~~{named.get('language', '')}~{named.get('version', '')}"


def _tag(name: str) -> str:
    return f"{{{_NAMESPACE}}}{name}"


def identity(one: Element) -> ServicedIdentity:
    """An identity as such documents write it."""
    processor = one.get("processorArchitecture", "").lower()
    return ServicedIdentity(
        one.get("name", "")[:300], one.get("version", "")[:60], _PROCESSORS.get(processor, processor),
        one.get("language", "")[:40], one.get("publicKeyToken", "")[:40],
    )  # fmt: skip
