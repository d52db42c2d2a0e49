"""What a transform or a patch was made for, and whether it fits a database.

The real code refuses a transform whose validation fails (1624) and, where a flag allows it, passes
over changes without a target. The layer validates nothing, so the judgement is made here.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

import msgspec

from yendo.facts.versions import Version
from yendo.formats.msi import Database, Summary
from yendo.formats.msi.overlay import Overlay, OverlayProblem
from yendo.formats.msi.patch import Patch
from yendo.formats.msi.transform import Transform
from yendo.installers.msi.session import platform_of

# Source: "Character Count Summary property": the upper half of a transform's says what must agree.
LANGUAGE, PRODUCT, PLATFORM, MAJOR, MINOR, UPDATE = 0x1, 0x2, 0x4, 0x8, 0x10, 0x20
LESS, LESS_EQUAL, EQUAL, GREATER_EQUAL, GREATER, UPGRADE_CODE = 0x40, 0x80, 0x100, 0x200, 0x400, 0x800
_SIGNS = {LESS: "<", LESS_EQUAL: "<=", EQUAL: "==", GREATER_EQUAL: ">=", GREATER: ">"}
_FOR = re.compile(r"(\{[^}]{36}\})([0-9.]*);(\{[^}]{36}\})([0-9.]*)(?:;(\{[^}]{36}\}))?")


class MadeFor(msgspec.Struct, frozen=True):
    """What a transform's summary says: codes and versions before and after, and what must agree."""

    product: str
    version: str
    new_product: str
    new_version: str
    upgrade_code: str
    platform: str
    languages: str
    validates: int
    suppresses: int


class Fit(msgspec.Struct, frozen=True):
    """Whether a transform goes onto a database.

    ``refused`` are reasons for which the Windows Installer does not apply it at all; ``problems``
    changes without a target; ``doubts`` what it does not look at and a person should.
    """

    changes: int
    refused: tuple[str, ...]
    problems: tuple[OverlayProblem, ...]
    doubts: tuple[str, ...]
    undecoded: Mapping[str, str]

    @property
    def fits(self) -> bool:
        return not (self.refused or self.problems or self.undecoded)

    @property
    def in_words(self) -> str:
        """One line: ``fits``, or how much of it has no target any more."""
        if self.refused:
            return "does not fit: " + "; ".join(self.refused)
        lost = len(self.problems) + len(self.undecoded)
        if lost:
            return f"{'applies in part' if lost < self.changes else 'does not fit'}: {lost} of {self.changes} changes {'has' if lost == 1 else 'have'} no target"  # noqa: E501
        return f"fits: {self.changes} of {self.changes} changes have their target"


def made_for(summary: Summary) -> MadeFor | None:
    """What a transform says it is for, or None where it says nothing that can be read."""
    match = _FOR.match(summary.revision or "")
    if not match:
        return None
    flags = (summary.characters or 0) & 0xFFFFFFFF
    return MadeFor(
        match[1].upper(),
        match[2],
        match[3].upper(),
        match[4],
        (match[5] or "").upper(),
        platform_of(summary.template),
        (summary.template or "").partition(";")[2],
        flags >> 16,
        flags & 0xFFFF,
    )


def facts(database: Database) -> dict[str, str]:
    """The Property table as a dictionary."""
    return {row.text("Property"): row.text("Value") for row in database["Property"]}


def _fields(text: str, count: int) -> tuple[int, ...]:
    try:
        version = Version.parse(text).product
    except ValueError:
        return ()
    return version[:count]


def validation(base: Database, target: MadeFor) -> list[str]:
    """Why the Windows Installer would refuse the transform on ``base``; empty where it would not."""
    mine, flags, reasons = facts(base), target.validates, []
    if flags & PRODUCT and mine.get("ProductCode", "").upper() != target.product:
        reasons.append(f"it is for the product {target.product}, this is {mine.get('ProductCode', 'none').upper()}")
    if flags & UPGRADE_CODE and mine.get("UpgradeCode", "").upper() != target.upgrade_code:
        reasons.append(
            f"it is for the product line {target.upgrade_code or 'without a code'}, this is "
            f"{mine.get('UpgradeCode', 'none').upper()}"
        )
    if flags & PLATFORM and platform_of(base.summary.template) != target.platform:
        reasons.append(f"it is for {target.platform}, this is for {platform_of(base.summary.template)}")
    if flags & LANGUAGE and target.languages and mine.get("ProductLanguage", "") not in target.languages.split(","):
        reasons.append(f"it is for language {target.languages}, this is {mine.get('ProductLanguage', 'without one')}")
    precision = 1 if flags & MAJOR else 2 if flags & MINOR else 3 if flags & UPDATE else 0
    if precision and target.version:
        here, there = _fields(mine.get("ProductVersion", ""), precision), _fields(target.version, precision)
        for flag, sign in _SIGNS.items():
            good = {
                "<": here < there,
                "<=": here <= there,
                "==": here == there,
                ">=": here >= there,
                ">": here > there,
            }[sign]
            if flags & flag and not good:
                wanted = ".".join(target.version.split(".")[:precision])
                reasons.append(f"it wants version {sign} {wanted}, this is {mine.get('ProductVersion', 'without one')}")
    return reasons


def fit(base: Database, transform: Transform) -> Fit:
    """Judges a transform on a database without applying it to any file."""
    target = made_for(transform.summary)
    doubts: list[str] = []
    refused: list[str] = []
    if target is None:
        doubts.append("it does not say what it was made for")
    else:
        refused = validation(base, target)
        mine = facts(base)
        if not target.validates:
            doubts.append("it asks for no validation, so it goes onto any installer unseen")
        if not refused and (mine.get("ProductCode", "").upper(), mine.get("ProductVersion")) != (
            target.product,
            target.version,
        ):
            doubts.append(
                f"it was made for version {target.version or 'unknown'} ({target.product}), this is "
                f"{mine.get('ProductVersion')}"
            )
    problems = tuple(Overlay(base, [transform]).problems)
    return Fit(max(len(transform), len(problems)), tuple(refused), problems, tuple(doubts), transform.undecoded)


def summary_for(
    base: Database,
    new: Database | None = None,
    *,
    version_flags: int = PRODUCT | UPGRADE_CODE | PLATFORM | UPDATE | EQUAL,
) -> Summary:
    """The summary of a transform from ``base`` to ``new``: for this product, line, platform and exact version."""
    before, after = facts(base), facts(new or base)
    revision = f"{before.get('ProductCode', '')}{before.get('ProductVersion', '')};{after.get('ProductCode', '')}{after.get('ProductVersion', '')}"  # noqa: E501
    if before.get("UpgradeCode"):
        revision += f";{before['UpgradeCode']}"
    else:
        version_flags &= ~UPGRADE_CODE
    return Summary(
        code_page=base.summary.code_page,
        title="Transform",
        template=base.summary.template or "Intel;0",
        last_saved_by=(new or base).summary.template or "Intel;0",
        revision=revision,
        pages=base.summary.pages or 200,
        characters=version_flags << 16,
        security=base.summary.security,
    )


class PatchFit(msgspec.Struct, frozen=True):
    """Which of a patch's transforms go onto a database, in order; ``reasons`` where none does."""

    names: tuple[str, ...]
    reasons: tuple[str, ...]

    @property
    def fits(self) -> bool:
        return bool(self.names)


def fit_patch(base: Database, patch: Patch) -> PatchFit:
    """Judges a patch on a database as it stands, other patches included."""
    code = facts(base).get("ProductCode", "").upper()
    if patch.targets and code not in patch.targets:
        return PatchFit((), (f"it is for {', '.join(patch.targets)}, this is {code or 'without a product code'}",))
    reasons: list[str] = []
    for name in (name for name in patch.names if not name.startswith("#")):
        target = made_for(patch.transform(name, base).summary)
        against = validation(base, target) if target else []
        if not against:
            return PatchFit(tuple(entry for entry in (name, f"#{name}") if entry in patch.names), ())
        reasons += against
    return PatchFit((), tuple(dict.fromkeys(reasons)) or ("it holds no transform",))


def patched(base: Database, patch: Patch) -> Overlay | None:
    """The database with a patch laid over it, its cabinets at hand; None where it does not fit."""
    found = fit_patch(base, patch)
    if not found.fits:
        return None
    layers: list[Transform] = []
    at: Database = base
    for name in found.names:
        layers.append(patch.transform(name, at))
        at = Overlay(base, layers)
    layers.append(Transform(streams=patch.cabinets))
    return Overlay(base, layers)


def kind_of_update(base: Database, patch: Patch) -> str:
    """``small update`` (same version), ``minor update`` (new version, same product) or ``major upgrade``."""
    after = patched(base, patch)
    if after is None:
        return "unknown"
    old, new = facts(base), facts(after)
    if old.get("ProductCode", "").upper() != new.get("ProductCode", "").upper():
        return "major upgrade"
    return "small update" if old.get("ProductVersion") == new.get("ProductVersion") else "minor update"
