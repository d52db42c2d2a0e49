"""Versions and the condition language."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yendo.facts import conditions
from yendo.facts.versions import Version, VersionRange


@given(st.lists(st.integers(0, 65535), min_size=1, max_size=4), st.lists(st.integers(0, 65535), min_size=1, max_size=4))
def test_versions_compare_field_by_field(one: list[int], other: list[int]) -> None:
    left, right = (Version.parse(".".join(map(str, fields))) for fields in (one, other))
    pad = lambda fields: (fields + [0, 0, 0, 0])[:4]  # noqa: E731
    assert (left < right) == (pad(one) < pad(other)) and (left == right) == (pad(one) == pad(other))


@pytest.mark.parametrize("text", ["", "1.2.3.4.5", "1..2", "65536", "1.x", "-1", "1.2 beta", "١"])
def test_no_version(text: str) -> None:
    with pytest.raises(ValueError, match=r"version|65535"):
        Version.parse(text)


@pytest.mark.parametrize(
    ("text", "inside", "outside"),
    [
        (">=6.2.1", ["6.2.1", "6.2.1.1", "7"], ["6.2.0.9"]),
        ("==6.2", ["6.2", "6.2.0.0"], ["6.2.0.1"]),
        (">=6, <7", ["6", "6.9.9"], ["5.9", "7"]),
        ("6.2.1", ["6.2.1"], ["6.2.2"]),
        ("<=3", ["3", "1"], ["3.0.1"]),
        (">1,<=2", ["1.0.1", "2"], ["1", "2.1"]),
    ],
)
def test_ranges(text: str, inside: list[str], outside: list[str]) -> None:
    wanted = VersionRange.parse(text)
    assert all(wanted.holds(Version.parse(version)) for version in inside)
    assert not any(wanted.holds(Version.parse(version)) for version in outside)


def test_a_range_that_is_none() -> None:
    with pytest.raises(ValueError, match="no version bound"):
        VersionRange.parse("~>6.2")


class Known:
    """The surroundings of the table below, and of the real evaluator's session."""

    properties = {
        "ONE": "1",
        "TEXT": "Harbour",
        "BIG": "65537",
        "NEGATIVE": "-5",
        "SPACED": " 7",
        "ZERO": "0",
        "NUMBER": "12",
        "NINE": "9",
        "FOUR": "4.10",
        "VersionNT": "603",
        "Installed": "",
        "HUGE": "99999999999",
    }

    def prop(self, name: str) -> str:
        return self.properties.get(name, "")

    def environment(self, name: str) -> str:
        return {"TIDE": "high"}.get(name.upper(), "")

    def component(self, name: str, *, action: bool) -> int | None:
        return {"Present": 3 if action else 2}.get(name)

    def feature(self, name: str, *, action: bool) -> int | None:
        return {"Main": 3 if action else 2}.get(name)


TABLE = [
    ("ONE", True),
    ("UNSET", False),
    ("NOT UNSET", True),
    ("ZERO", True),
    ('""', False),
    ('"x"', True),
    ("0", False),
    ("5", True),
    ("ONE = 1", True),
    ('ONE = "1"', True),
    ("TEXT = 1", False),
    ("TEXT <> 1", True),
    ("TEXT > 1", False),
    ("UNSET <> 1", True),
    ("UNSET < 1", False),
    ('TEXT = "harbour"', False),
    ('TEXT ~= "harbour"', True),
    ('TEXT >< "bou"', True),
    ('TEXT ~>< "BOU"', True),
    ('TEXT << "Har"', True),
    ('TEXT >> "our"', True),
    ('TEXT << "our"', False),
    ('TEXT ~<< "har"', True),
    ('"abc" < "abd"', True),
    ('NUMBER < "9"', False),
    ('NUMBER > "9"', True),
    ('"9" < NUMBER', True),
    ('"12" < "9"', True),
    ('NUMBER = "012"', True),
    ('NUMBER ~= "012"', True),
    ("NUMBER > ONE", True),
    ("NUMBER > NINE", True),
    ('NUMBER >< "4"', True),
    ('NUMBER << "1"', False),
    ('TEXT > "9"', True),
    ('HUGE > "9"', True),
    ('SPACED > "6"', False),
    ('NEGATIVE < "-10"', False),
    ('"4.10" < "4.9"', True),
    ('FOUR < "4.9"', True),
    ('TEXT <> "Harbour"', False),
    ("BIG >< 1", True),
    ("BIG >< 2", False),
    ("BIG << 1", True),
    ("BIG >> 1", True),
    ("BIG >> 2", False),
    ("VersionNT >= 601 AND NOT Installed", True),
    ("ONE AND UNSET OR ONE", True),
    ("ONE OR ONE AND UNSET", True),
    ("NOT ONE OR ONE", True),
    ("NOT (ONE OR ONE)", False),
    ("NOT NOT ONE", True),
    ("ONE XOR ONE", False),
    ("ONE XOR UNSET", True),
    ("ONE EQV ONE", True),
    ("ONE EQV UNSET", False),
    ("ONE IMP UNSET", False),
    ("UNSET IMP ONE", True),
    ("one", False),
    ("1 < 2", True),
    ("-5 < 0", True),
    ("NEGATIVE < 0", True),
    ("NEGATIVE = -5", True),
    ('UNSET = ""', True),
    ('TEXT = ""', False),
    ("ONE And UNSET", False),
    ("(ONE)", True),
    ("((ONE) AND (ONE))", True),
    ("ONE=1", True),
    ("ONE<>2", True),
    ("", True),
    ("   ", True),
]
STATES = [
    ("$Present = 3", True),
    ("?Present = 2", True),
    ("&Main = 3", True),
    ("!Main = 2", True),
    ("$Nothing", False),
    ('%TIDE = "high"', True),
    ("%NONE", False),
    ("&Main = 3 AND !Main <> 3", True),
]


@pytest.mark.parametrize(("text", "expected"), TABLE + STATES)
def test_conditions(text: str, expected: bool) -> None:
    assert conditions.evaluate(text, Known()) is expected


@pytest.mark.parametrize(
    "text",
    [
        "(",
        "ONE AND",
        "= 1",
        "ONE TWO",
        '"open',
        "ONE = = 1",
        "ONE ! TWO",
        "NOT",
        "()",
        "ONE)",
        "a" * 20_000,
        "(" * 500 + "A" + ")" * 500,
        "@x",
    ],
)
def test_no_condition(text: str) -> None:
    with pytest.raises(conditions.ConditionError):
        conditions.parse(text)


leaf = st.sampled_from(["ONE", "UNSET", "5", '"x"', 'TEXT ~= "HARBOUR"', "VersionNT < 700", "$Present = 3", "%TIDE"])
tree = st.recursive(
    leaf,
    lambda inner: st.one_of(
        inner.map(lambda text: f"NOT ({text})"),
        inner.map(lambda text: f"({text})"),
        st.tuples(inner, st.sampled_from(["AND", "OR", "XOR", "EQV", "IMP"]), inner).map(
            lambda parts: f"({parts[0]}) {parts[1]} ({parts[2]})"
        ),
    ),
    max_leaves=12,
)


@given(tree)
def test_generated_conditions(text: str) -> None:
    node = conditions.parse(text)
    value = conditions.holds(node, Known())
    assert conditions.evaluate(f"NOT ({text})", Known()) is not value
    assert conditions.in_words(node) and list(conditions.leaves(node))


@given(st.text(max_size=60))
def test_any_text_is_a_condition_or_an_error(text: str) -> None:
    try:
        conditions.evaluate(text, Known())
    except conditions.ConditionError as error:
        assert 0 <= error.at <= len(text)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("VersionNT64", "64-bit Windows"),
        ("NOT NEWER", "NEWER is not set"),
        (
            "VersionNT >= 601 AND Privileged",
            "the Windows version is at least Windows 7 and installing with elevated rights",
        ),
        ("Installed OR A = 1", "already installed or A is 1"),
        ("", "always"),
    ],
)
def test_conditions_in_words(text: str, words: str) -> None:
    assert conditions.in_words(conditions.parse(text)) == words


@pytest.mark.wine
def test_the_real_evaluator_agrees(machine: Any, tmp_path: Path) -> None:
    """The table, judged by the installer's own code through its COM object."""
    from specimens import Specimen

    specimen = Specimen("conditions-judge").with_file()
    known = {
        name: value for name, value in Known.properties.items() if value and name not in ("VersionNT", "Installed")
    }
    specimen.add("Property", *known.items())
    package = specimen.ours(tmp_path)
    machine.bring(tmp_path, r"C:\judge")
    asked = [text for text, _ in TABLE if '"open' not in text]
    script = [
        'var i = new ActiveXObject("WindowsInstaller.Installer"); i.UILevel = 2;',
        f'var s = i.OpenPackage("C:\\\\judge\\\\{package.name}", 1);',
    ]
    script += [
        f"WScript.Echo(s.EvaluateCondition({text!r}));".replace("'", '"')
        if '"' not in text
        else f"WScript.Echo(s.EvaluateCondition('{text}'));"
        for text in asked
    ]
    machine.host(r"C:\judge").joinpath("ask.js").write_text("\r\n".join(script))
    ran = machine.run(r"cscript /nologo C:\judge\ask.js", timeout=120)
    answers = ran.output.split()
    assert len(answers) == len(asked), ran
    # 1 holds, 0 does not, 2 there is no condition
    wrong = [
        (text, answer)
        for text, answer in zip(asked, answers, strict=True)
        if conditions.evaluate(text, Known()) != (answer in ("1", "2")) and text not in DIFFER
    ]
    assert not wrong


DIFFER: dict[str, str] = {}  # condition -> why the layer's evaluator says something else than Windows documents
