"""Detection rules of a half for macOS as OVAL 5.11 definitions.

Source: the Open Vulnerability and Assessment Language's schemas, version 5.11 (macos, unix, independent). That form has
no test for where a bundle was moved to, for who signed it, or for its seal: then it says less, and that is told.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from yendo.detect import oval
from yendo.errors import Usage
from yendo.mac_half import model
from yendo.mac_half.detection import laid_in, may_change
from yendo.mac_half.model import AnyMacRule, MacPlan
from yendo.mac_half.removal import hash_of
from yendo.mac_half.work import LaidItem
from yendo.terms.rules import Criteria, Field, OvalTest

RECEIPTS = "/private/var/db/receipts"


class MacOval(msgspec.Struct, frozen=True):
    """``weaker`` says what the document does not ask, though the rules do."""

    data: bytes
    weaker: tuple[str, ...]


def document(plan: MacPlan, items: Sequence[LaidItem]) -> MacOval:
    """One inventory definition that is true where all rules hold. Raises Usage."""
    if not plan.detect:
        raise Usage("there is no rule to export: yendo detect derive proposes some")
    package = plan.package
    parts = [(_part(rule, items), rule.title) for rule in plan.detect]
    data = oval.of_parts(
        parts,
        identifier=package.id,
        name=package.name,
        version=package.version,
        revision=package.revision,
        made="2000-01-01T00:00:00",  # a fixed moment, so that the same plan gives the same bytes
        family="macos",
    )
    return MacOval(data, tuple(line for rule in plan.detect for line in _weaker(rule)))


def _weaker(rule: AnyMacRule) -> Iterator[str]:
    if isinstance(rule, model.BundleRule):
        if rule.anywhere:
            yield f"{rule.identifier} is looked for at {rule.path}, and not where somebody moved it"
        if rule.team:
            yield f"that the team {rule.team} signed {rule.identifier} is not asked"
        if rule.intact:
            yield f"that every file of {rule.identifier} is what was sealed is not asked"


def _part(rule: AnyMacRule, items: Sequence[LaidItem]) -> Criteria | OvalTest:
    match rule:
        case model.BundleRule():
            info = f"{rule.path}/Contents/Info.plist"
            found: list[Criteria | OvalTest] = [_listed(info, "CFBundleIdentifier", Field("value", rule.identifier))]
            if rule.version:
                found.append(_listed(info, "CFBundleShortVersionString", _at_least(rule.version)))
            return Criteria("AND", tuple(found))
        case model.ReceiptRule():
            path = f"{RECEIPTS}/{rule.identifier}.plist"
            wanted = _at_least(rule.version) if rule.version else Field("value", ".", "pattern match")
            return _listed(path, "PackageVersion", wanted)
        case model.MacFileRule():
            return _file(rule.path, rule.sha256)
        case model.MacFolderRule():
            there = laid_in(rule, items)
            return Criteria("AND", tuple(_file(one.path, None if may_change(one) else hash_of(one)) for one in there))
        case model.MacSettingRule():
            return _listed(f"/Library/Preferences/{rule.domain}.plist", rule.key, Field("value", rule.value))
        case model.MacJobRule():
            return OvalTest("launchd", (Field("label", rule.label),))


def _at_least(version: str) -> Field:
    return Field("value", version, "greater than or equal", datatype="version")


def _listed(path: str, key: str, wanted: Field) -> OvalTest:
    where = (Field("key", key), Field("filepath", path), Field("instance", "1", datatype="int"))
    return OvalTest("plist510", where, ((wanted,),))


def _file(path: str, sha256: str | None) -> OvalTest:
    if sha256 is None:
        return OvalTest("unix file", (Field("filepath", path),), ((Field("type", "regular"),),))
    where = (Field("filepath", path), Field("hash_type", "SHA-256"))
    return OvalTest("filehash58", where, ((Field("hash", sha256, "case insensitive equals"),),))
