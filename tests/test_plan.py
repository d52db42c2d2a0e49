"""The plan file: reading, mistakes with their lines, the published schema."""

from __future__ import annotations

import json
import re
from pathlib import Path

import jsonschema
import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from yendo.plan import CopyStep, FileRule, MsiStep, PlanError, read, read_text
from yendo.plan.model import schema
from yendo.plan.places import lines, nearest
from yendo.terms.amounts import seconds, size

GOOD = r"""
[package]
id = "tide"
name = "Tide tables"
version = "3"

[[media]]
file = "tide.msi"
sha256 = "0000000000000000000000000000000000000000000000000000000000000000"

[when]
os = ">=10.0.17763"
architecture = ["x64"]

[in_the_way]
programs = ["tide.exe", "Gauge"]

[[install]]
kind = "msi"
media = "tide.msi"
properties = { SITE = "Marrowby", PORT = 7 }
timeout = "30 min"

[[install]]
kind = "copy"
from = "extras/site.ini"
to = 'C:\x'

[[uninstall]]
kind = "take-back"

[[detect]]
kind = "file"
path = 'C:\x'
version = ">=1"
"""


def test_a_good_plan() -> None:
    plan, found = read_text(GOOD)
    first, second = plan.install
    assert (
        isinstance(first, MsiStep)
        and first.properties == {"SITE": "Marrowby", "PORT": 7}
        and isinstance(second, CopyStep)
    )
    assert second.source == "extras/site.ini" and isinstance(plan.detect[0], FileRule)
    assert plan.in_the_way.names == ("tide", "Gauge") and found["install", 1, "to"] == 27


MISTAKES = [
    ('name = "Tide tables"', 'nmae = "Tide tables"', 4, "did you mean 'name'"),
    ('kind = "take-back"', 'kind = "take-bak"', 30, "did you mean 'take-back'"),
    ('kind = "file"', 'kind = "regstry"', 33, "did you mean 'registry'"),
    ('kind = "copy"', 'kind = "scirpt"', 25, "did you mean 'script'"),
    ('timeout = "30 min"', 'timeout = "soon"', 18, "write 90 s, 30 min, 2 h"),
    ('timeout = "30 min"', "timeout = 30", 22, 'a text in quotes belongs here, as timeout = "30 min"'),
    ('os = ">=10.0.17763"', 'os = "Windows 10"', 11, "no version bound"),
    ('architecture = ["x64"]', 'architecture = ["x46"]', 13, "x46"),
    ('id = "tide"', 'id = "Tide Tables"', 3, "small letters"),
    ('version = "3"', "", 2, "'version' is missing"),
    ('media = "tide.msi"\n', "", 18, "exactly one of media, product, patch and command"),
    ('sha256 = "0', 'sha256 = "x', 9, "64 digits"),
    ("[when]", "[[need]]\npakage = 1\n[when]", 12, "did you mean 'package'"),
    ("[when]", "[neeed]\nx = 1\n[when]", 11, "did you mean 'need'"),
    ('version = ">=1"', 'version = "new"', 32, "no version bound"),
    ("[in_the_way]", "[in_the_way", 15, "not TOML"),
    (
        'properties = { SITE = "Marrowby", PORT = 7 }',
        'properties = { SITE = ["a"] }',
        21,
        "each value in it is a whole number or a text in quotes",
    ),
]


@pytest.mark.parametrize(("old", "new", "line", "message"), MISTAKES)
def test_mistakes_are_placed(old: str, new: str, line: int, message: str) -> None:
    assert old in GOOD
    with pytest.raises(PlanError) as caught:
        read_text(GOOD.replace(old, new, 1), "plan.toml")
    problem = caught.value.problems[0]
    assert message.lower() in problem.message.lower() and abs(problem.line - line) <= 1, (problem.line, problem.message)


def test_every_unknown_key_is_named_at_once() -> None:
    with pytest.raises(PlanError) as caught:
        read_text(
            GOOD.replace('name = "Tide tables"', 'nmae = "Tide"').replace('timeout = "30 min"', 'timeuot = "30 min"')
        )
    assert [problem.line for problem in caught.value.problems] == [4, 22]


def test_a_plan_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(PlanError, match="yendo draft"):
        read(tmp_path / "plan.toml")
    (tmp_path / "plan.toml").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(PlanError, match="UTF-8"):
        read(tmp_path / "plan.toml")


@given(st.text(max_size=200))
def test_any_text_is_a_plan_or_an_error(text: str) -> None:
    with pytest.raises(PlanError) as caught:
        read_text(text)
    assert all(problem.line >= 1 for problem in caught.value.problems)


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers(-5, 5) | st.text(max_size=5),
        lambda inner: (
            st.lists(inner, max_size=3)
            | st.dictionaries(
                st.sampled_from(["package", "media", "install", "kind", "detect", "id", "when", "properties"]),
                inner,
                max_size=4,
            )
        ),
        max_leaves=12,
    )
)
def test_any_values_are_a_plan_or_an_error(value: object) -> None:
    if not isinstance(value, dict):
        return
    try:
        text = tomlkit.dumps(value)
    except Exception:
        return
    with pytest.raises(PlanError):
        read_text(text)


@pytest.mark.parametrize(("text", "expected"), [("90 s", 90), ("30 min", 1800), ("1.5 h", 5400), ("2 hours", 7200)])
def test_lengths_of_time(text: str, expected: float) -> None:
    assert seconds(text) == expected


@pytest.mark.parametrize(("text", "expected"), [("500 MB", 500_000_000), ("1.5 GB", 1_500_000_000), ("7 B", 7)])
def test_amounts_of_disk(text: str, expected: int) -> None:
    assert size(text) == expected


def test_the_published_schema_is_the_models_own(drafted: Path) -> None:
    import tomllib

    published = json.loads((Path(__file__).parents[1] / "docs" / "plan.schema.json").read_text("utf-8"))
    assert published == json.loads(json.dumps(schema())), "run tools/write_docs.py"
    jsonschema.validate(tomllib.loads(GOOD), published)
    jsonschema.validate(tomllib.loads((drafted / "plan.toml").read_text("utf-8")), published)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(tomllib.loads(GOOD.replace("take-back", "take-bak")), published)


def test_places() -> None:
    found = lines(
        'a = 1\n[t]\n"quoted key" = 2\nb.c = 3\n[[list]]\nx = { y = 1, z = 2 }\ntext = """\n[not-a-table]\n"""\n[[list]]\nw = 1\n'
    )
    assert (
        found["a",] == 1
        and found["t", "quoted key"] == 3
        and found["t", "b", "c"] == 4
        and found["list", 0, "x", "z"] == 6
    )
    assert found["list", 1] == 10 and ("not-a-table",) not in found
    assert nearest(found, ("list", 0, "x", "z", "deeper")) == 6 and nearest(found, ("nowhere",)) == 1


def test_every_form_that_a_text_must_have_is_said_in_words() -> None:
    """No expression reaches a person: each that a model has is known to the words for it."""
    from yendo.plan import mistakes

    source = Path(mistakes.__file__).parents[1]
    found = [
        expression
        for path in source.rglob("*.py")
        for expression in re.findall(r"Meta\(pattern=r?\"((?:[^\"\\]|\\.)*)\"\)", path.read_text("utf-8"))
    ]
    assert len(found) >= 12
    for expression in found:
        said = mistakes._plainly(f"Expected `str` matching regex '{expression}'", ["name"], {})
        assert "form that is needed" not in said, expression
