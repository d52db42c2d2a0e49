"""A certificate in a store of the machine."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta

from yendo.effects import RegistryValue
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight


class CertificateRule(BaseRule, tag="certificate", frozen=True, kw_only=True):
    """A store of the machine holds the certificate with this SHA-1 thumbprint."""

    store: Text = "Root"
    thumbprint: Annotated[str, Meta(pattern="^[0-9A-Fa-f]{40}$")]

    @property
    def _key(self) -> str:
        return rf"Software\Microsoft\SystemCertificates\{self.store}\Certificates\{self.thumbprint.upper()}"

    @property
    def title(self) -> str:
        return f"certificate {self.thumbprint[:12]}… in {self.store}"

    def judge(self, sight: Sight) -> tuple[bool, str]:
        there = sight.state.get("registry", RegistryValue("HKLM", self._key, "Blob").identity) is not None
        return there, f"{self.thumbprint[:12].upper()} is {'' if there else 'not '}in {self.store}"

    def data(self) -> dict[str, object]:
        return {"store": self.store, "thumbprint": self.thumbprint.upper()}

    def fulfil(self, sight: Sight) -> None:
        sight.state.add(RegistryValue("HKLM", self._key, "Blob", "binary"))

    def oval(self) -> Criteria | OvalTest:
        where = (
            Field("hive", "HKEY_LOCAL_MACHINE"),
            Field("key", self._key, "case insensitive equals"),
            Field("name", "Blob", "case insensitive equals"),
        )
        return OvalTest("registry", where, view="64_bit")
