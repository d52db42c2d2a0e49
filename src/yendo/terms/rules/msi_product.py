"""A product that the Windows Installer has on record."""

from __future__ import annotations

from yendo.effects import Product
from yendo.platforms.windows.registry_keys import pack_code
from yendo.terms.amounts import Code
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight, bounds, fits, version_states, within

_HOME = r"SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer"


class MsiProductRule(BaseRule, tag="msi-product", frozen=True, kw_only=True):
    """The Windows Installer has this product on record, or one of this upgrade code, in a version within the range."""

    code: Code | None = None
    upgrade_code: Code | None = None
    version: str | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if (self.code is None) == (self.upgrade_code is None):
            raise ValueError("a product is named by its code or by its upgrade_code, one of the two")

    @property
    def title(self) -> str:
        name = self.code or f"of upgrade code {self.upgrade_code}"
        return f"product {name}" + (f" {self.version}" if self.version else "")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        if self.code:
            found = [sight.state.get("product", self.code)]
        else:
            found = [
                thing
                for thing in sight.state.of("product")
                if isinstance(thing, Product)
                and (thing.upgrade_code or "").lower() == (self.upgrade_code or "").lower()
            ]
        there = [thing for thing in found if isinstance(thing, Product)]
        for product in there:
            if fits(product.version, self.version):
                return True, f"version {product.version} is on record"
        return (
            False,
            f"version {there[0].version} is on record" if there else "the Windows Installer has no such product",
        )

    def data(self) -> dict[str, object]:
        return {
            "product": pack_code(self.code) if self.code else "",
            "line": pack_code(self.upgrade_code) if self.upgrade_code else "",
            "version": bounds(self.version),
        }

    def fulfil(self, sight: Sight) -> None:
        code = self.code or "{00000000-0000-4000-8000-000000000001}"
        sight.state.add(Product(code, version=within(self.version) or "1.0.0", upgrade_code=self.upgrade_code))

    def oval(self) -> Criteria | OvalTest:
        if not self.code:
            # a product's own key does not name its line; the line's key names the products as values
            line = OvalTest(
                "registry",
                (
                    Field("hive", "HKEY_LOCAL_MACHINE"),
                    Field(
                        "key",
                        rf"SOFTWARE\Microsoft\Windows\CurrentVersion\Installer\UpgradeCodes\{pack_code(self.upgrade_code or '')}",  # noqa: E501
                        "case insensitive equals",
                    ),
                    Field("name", ".+", "pattern match"),
                ),
                view="64_bit",
            )
            key = Field(
                "key",
                rf"(?i)^{_HOME}\\UserData\\[^\\]+\\Products\\%\\InstallProperties$",
                "pattern match",
                variable=line,
                of_variable="name",
            )
        else:
            key = Field(
                "key",
                rf"(?i)^{_HOME}\\UserData\\[^\\]+\\Products\\{pack_code(self.code)}\\InstallProperties$",
                "pattern match",
            )
        return OvalTest(
            "registry",
            (Field("hive", "HKEY_LOCAL_MACHINE"), key, Field("name", "DisplayVersion")),
            version_states("value", self.version),
            view="64_bit",
        )
