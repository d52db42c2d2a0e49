"""A software identification tag (ISO/IEC 19770-2)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yendo.effects.things import parent
from yendo.errors import NotCovered
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight, bounds, fits

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

MAX_TAG = 1 << 20


class TagRule(BaseRule, tag="identification-tag", frozen=True, kw_only=True):
    """A software identification tag lies at a path, with this tag id, in a version within the range."""

    path: Text
    tag_id: Text
    version: str | None = None

    @property
    def title(self) -> str:
        return f"identification tag {self.tag_id}" + (f" {self.version}" if self.version else "")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        path = sight.expand(self.path)
        if sight.state.get("file", path) is None:
            return False, f"{path} does not exist"
        data = sight.read(path) if sight.read else None
        if data is None:
            raise NotCovered(f"what {path} says is not known here")
        found = _attributes(data)
        if found.get("tagId") != self.tag_id:
            return False, f"its tag id is {found.get('tagId') or 'not stated'}"
        return fits(found.get("version"), self.version), f"version {found.get('version')} is tagged"

    def data(self) -> dict[str, object]:
        return {"path": self.path, "tag_id": self.tag_id, "version": bounds(self.version)}

    def fulfil(self, sight: Sight) -> None:
        raise NotCovered(f"the tag {self.path} cannot be made up below {parent(self.path)}")

    def oval(self) -> Criteria | OvalTest:
        if self.version:
            raise NotCovered(f"OVAL 5.11 compares no versions within XML: “{self.title}”")
        where = (Field("filepath", self.path), Field("xpath", "/*[local-name()='SoftwareIdentity']/@tagId"))
        return OvalTest("xmlfilecontent", where, ((Field("value_of", self.tag_id),),))


def _attributes(data: bytes) -> dict[str, str]:
    from defusedxml import ElementTree

    if len(data) > MAX_TAG:
        return {}
    try:
        root: Element = ElementTree.fromstring(data, forbid_dtd=True)
    except (ElementTree.ParseError, ValueError):
        return {}
    return dict(root.attrib) if root.tag.rpartition("}")[2] == "SoftwareIdentity" else {}
