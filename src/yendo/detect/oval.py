"""Detection rules as OVAL 5.11 definitions.

Source: the Open Vulnerability and Assessment Language's schemas, version 5.11 (definitions, windows, independent).
Every rule is said as data in its own module; here the data becomes one document: tests, objects, states and variables,
each written once however often it is used.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal
from xml.etree import ElementTree as xml

from yendo.terms.rules import BaseRule, Criteria, Field, OvalTest

DEFINITIONS = "http://oval.mitre.org/XMLSchema/oval-definitions-5"
COMMON = "http://oval.mitre.org/XMLSchema/oval-common-5"
INSTANCE = "http://www.w3.org/2001/XMLSchema-instance"
SPACES = {
    "registry": "windows",
    "file": "windows",
    "service": "windows",
    "process58": "windows",
    "wmi57": "windows",
    "filehash58": "independent",
    "xmlfilecontent": "independent",
    "environmentvariable58": "independent",
    "unix file": "unix",
    "plist510": "macos",
    "launchd": "macos",
}
_PREFIXES = {"windows": "win", "independent": "ind", "unix": "unix", "macos": "macos"}
_VARIABLE = re.compile(r"%([^%\\]+)%")


class _Book:
    def __init__(self, name: str) -> None:
        self.name = re.sub(r"[^A-Za-z0-9_.-]", "-", name)
        self.parts: dict[str, dict[object, xml.Element]] = {"tst": {}, "obj": {}, "ste": {}, "var": {}}

    def identifier(self, sort: str) -> str:
        return f"oval:{self.name}:{sort}:{len(self.parts[sort]) + 1}"

    def element(self, sort: str, key: object, kind: str, comment: str = "") -> tuple[xml.Element, bool]:
        """The element for a key, and whether it is new."""
        if key in self.parts[sort]:
            return self.parts[sort][key], False
        found = xml.Element(
            kind, {"id": self.identifier(sort), "version": "1", **({"comment": comment} if comment else {})}
        )
        self.parts[sort][key] = found
        return found, True

    def tag(self, kind: str, suffix: str) -> str:
        return f"{{{DEFINITIONS}#{SPACES[kind]}}}{kind.rpartition(' ')[2]}_{suffix}"

    # --- the parts ---------------------------------------------------------------------------------

    def test(self, test: OvalTest, comment: str) -> str:
        found, new = self.element("tst", test, self.tag(test.kind, "test"), comment)
        if new:
            found.set("check_existence", "none_exist" if test.none else "at_least_one_exists")
            found.set("check", "at least one")
            if len(test.states) > 1:
                found.set("state_operator", "AND")
            xml.SubElement(found, self.inside(test.kind, "object"), object_ref=self.object(test))
            for state in test.states:
                xml.SubElement(found, self.inside(test.kind, "state"), state_ref=self.state(test.kind, state))
        return found.attrib["id"]

    def inside(self, kind: str, name: str) -> str:
        return f"{{{DEFINITIONS}#{SPACES[kind]}}}{name}"

    def object(self, test: OvalTest) -> str:
        found, new = self.element("obj", (test.kind, test.object, test.view, test.keep), self.tag(test.kind, "object"))
        if new:
            if test.view:
                xml.SubElement(found, self.inside(test.kind, "behaviors"), windows_view=test.view)
            for field in test.object:
                self.field(found, test.kind, field)
            if test.keep:
                xml.SubElement(found, f"{{{DEFINITIONS}}}filter", action="include").text = self.state(
                    test.kind, test.keep
                )
        return found.attrib["id"]

    def state(self, kind: str, fields: tuple[Field, ...]) -> str:
        found, new = self.element("ste", (kind, fields), self.tag(kind, "state"))
        if new:
            for field in fields:
                self.field(found, kind, field)
        return found.attrib["id"]

    def field(self, under: xml.Element, kind: str, field: Field) -> None:
        found = xml.SubElement(under, self.inside(kind, field.name))
        if field.datatype == "record":
            found.set("datatype", "record")
            name, _, value = (field.value or "").partition("=")
            xml.SubElement(found, f"{{{DEFINITIONS}}}field", name=name, datatype="int").text = value
            return
        if field.datatype != "string":
            found.set("datatype", field.datatype)
        if field.operation != "equals":
            found.set("operation", field.operation)
        if field.variable is not None:
            found.set("var_ref", self.of_items(field))
            found.set("var_check", "at least one")
        elif field.value is None:
            found.set(f"{{{INSTANCE}}}nil", "true")
        elif kind != "wmi57" and field.name in ("filepath", "path") and _VARIABLE.search(field.value):
            found.set("var_ref", self.path(field.value))
            found.set("var_check", "at least one")
        else:
            found.text = field.value

    def of_items(self, field: Field) -> str:
        """A variable: a field of the items of another test's object, within a text where ``%`` stands for it."""
        assert field.variable is not None
        found, new = self.element(
            "var",
            (field.variable, field.of_variable, field.value),
            f"{{{DEFINITIONS}}}local_variable",
            "found on the machine",
        )
        if new:
            found.set("datatype", "string")
            place = found if field.value is None else xml.SubElement(found, f"{{{DEFINITIONS}}}concat")
            before, _, after = (field.value or "").partition("%")
            self.literal(place, before)
            xml.SubElement(
                place,
                f"{{{DEFINITIONS}}}object_component",
                object_ref=self.object(field.variable),
                item_field=field.of_variable,
            )
            self.literal(place, after)
        return found.attrib["id"]

    def literal(self, under: xml.Element, text: str) -> None:
        if text:
            xml.SubElement(under, f"{{{DEFINITIONS}}}literal_component").text = text

    def path(self, text: str) -> str:
        """A path with variables of the machine in it."""
        found, new = self.element("var", ("path", text), f"{{{DEFINITIONS}}}local_variable", text)
        if new:
            found.set("datatype", "string")
            parts = _VARIABLE.split(text)
            place = xml.SubElement(found, f"{{{DEFINITIONS}}}concat") if any(parts[0::2]) or len(parts) > 3 else found
            for at, part in enumerate(parts):
                if at % 2:
                    where = OvalTest(
                        "environmentvariable58",
                        (Field("pid", None, datatype="int"), Field("name", part, "case insensitive equals")),
                    )
                    xml.SubElement(
                        place, f"{{{DEFINITIONS}}}object_component", object_ref=self.object(where), item_field="value"
                    )
                else:
                    self.literal(place, part)
        return found.attrib["id"]

    # --- the definition ----------------------------------------------------------------------------------

    def criteria(self, under: xml.Element, part: Criteria | OvalTest, comment: str) -> None:
        if isinstance(part, OvalTest):
            xml.SubElement(under, f"{{{DEFINITIONS}}}criterion", test_ref=self.test(part, comment), comment=comment)
            return
        found = xml.SubElement(under, f"{{{DEFINITIONS}}}criteria", operator=part.operator, comment=comment)
        if part.negate:
            found.set("negate", "true")
        for inner in part.parts:
            self.criteria(found, inner, comment)


def document(rules: Sequence[BaseRule], *, identifier: str, name: str, version: str, revision: int, made: str) -> bytes:
    """One inventory definition that is true where all rules hold.

    Raises NotCovered with the rule that OVAL has no test for, ValueError without a rule. The rest as in ``of_parts``.
    """
    parts = [(rule.oval(), rule.title) for rule in rules]
    return of_parts(parts, identifier=identifier, name=name, version=version, revision=revision, made=made)


def of_parts(
    parts: Sequence[tuple[Criteria | OvalTest, str]],
    *,
    identifier: str,
    name: str,
    version: str,
    revision: int,
    made: str,
    family: Literal["windows", "macos"] = "windows",
) -> bytes:
    """One inventory definition that is true where all parts hold, each with its words.

    ``made`` is the document's time stamp (ISO, UTC), given so that the same rules give the same bytes.
    Raises ValueError without a part.
    """
    if not parts:
        raise ValueError("there is no rule to export")
    for prefix, space in (("oval", COMMON), ("xsi", INSTANCE), ("def", DEFINITIONS)):
        xml.register_namespace(prefix, space)
    for space, prefix in _PREFIXES.items():
        xml.register_namespace(prefix, f"{DEFINITIONS}#{space}")
    root = xml.Element(f"{{{DEFINITIONS}}}oval_definitions")
    generator = xml.SubElement(root, f"{{{DEFINITIONS}}}generator")
    xml.SubElement(generator, f"{{{COMMON}}}product_name").text = "Yendo"
    xml.SubElement(generator, f"{{{COMMON}}}schema_version").text = "5.11"
    xml.SubElement(generator, f"{{{COMMON}}}timestamp").text = made
    book = _Book(identifier)
    definitions = xml.SubElement(root, f"{{{DEFINITIONS}}}definitions")
    definition = xml.SubElement(
        definitions,
        f"{{{DEFINITIONS}}}definition",
        {"id": f"oval:{book.name}:def:1", "version": str(revision), "class": "inventory"},
    )
    metadata = xml.SubElement(definition, f"{{{DEFINITIONS}}}metadata")
    xml.SubElement(metadata, f"{{{DEFINITIONS}}}title").text = f"{name} {version} is installed"
    xml.SubElement(metadata, f"{{{DEFINITIONS}}}affected", family=family)
    xml.SubElement(
        metadata, f"{{{DEFINITIONS}}}description"
    ).text = f"The package {identifier} {version}, revision {revision}, is on the machine."
    top = xml.SubElement(definition, f"{{{DEFINITIONS}}}criteria", operator="AND")
    for part, words in parts:
        book.criteria(top, part, words)
    for name_of_part, sort in (("tests", "tst"), ("objects", "obj"), ("states", "ste"), ("variables", "var")):
        if book.parts[sort]:
            xml.SubElement(root, f"{{{DEFINITIONS}}}{name_of_part}").extend(book.parts[sort].values())
    xml.indent(root)
    return bytes(xml.tostring(root, encoding="utf-8", xml_declaration=True)) + b"\n"
