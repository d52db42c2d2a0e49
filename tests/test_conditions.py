"""Run conditions: what holds, what does not, and what may later; judged alike here and by the real runner."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import msgspec
import pytest
from conftest import Yendo, parsed
from hypothesis import given
from hypothesis import strategies as st

from yendo.check.sequences import impossible
from yendo.facts.machine import USUAL, Facts
from yendo.facts.versions import Version, VersionRange
from yendo.package import build
from yendo.package.look import facts_of
from yendo.plan import read
from yendo.terms.when import FACTS, Condition, judge, resolve

RULE = {"kind": "folder", "path": r"C:\Windows"}
NEVER = {"kind": "folder", "path": r"C:\nowhere at all"}
# a condition, the answer on the usual machine, a piece of the reason
ANSWERS: list[tuple[dict[str, Any], str, str]] = [
    ({"os": ">=10.0.17763"}, "yes", "windows is 10.0.19045.2965"),
    ({"os": ">=10.0.19045.3000"}, "no", "windows is"),
    ({"edition": ["pro", "ENTERPRISE"]}, "yes", "edition"),
    ({"language": ["en"]}, "yes", "en-GB"),
    ({"language": ["e"]}, "no", "en-GB"),
    ({"memory": "16 GB"}, "no", "memory"),
    ({"disk": "D: 1 GB"}, "yes", "disk D is not judged here"),
    ({"disk": "200 GB"}, "no", "disk C"),
    ({"power": "battery"}, "later", "mains"),
    ({"network": "any"}, "yes", "unmetered"),
    ({"domain": True}, "yes", "yes"),
    ({"domain": "other.example"}, "no", "marrowby.example"),
    ({"people": "some"}, "later", "people is no"),
    ({"quiet": True}, "yes", "quiet is yes"),
    ({"shell": ">=5.1, <6"}, "yes", "shell"),
    ({"multi_session": True}, "no", "multi-session is no"),
    ({"hours": "20:00-06:00"}, "later", "T09:00"),
    ({"hours": "08:00-17:00"}, "yes", "T09:00"),
    ({"days": ["sat", "sun"]}, "later", "day"),
    ({"after": "2026-12-01"}, "later", "date"),
    ({"before": "2026-11-01"}, "no", "date"),
    ({"holds": [RULE]}, "yes", "there"),
    ({"holds": [NEVER]}, "no", "not there"),
    ({"os": "<10", "power": "battery"}, "no", "windows"),
    ({"any": [{"os": "<10"}, {"power": "battery"}]}, "later", "power"),
    ({"any": [{"os": "<10"}, {"power": "mains"}]}, "yes", "mains"),
    ({"not": {"power": "mains"}}, "later", "mains"),
    ({"not": {"os": ">=10"}}, "no", "windows"),
    ({"not": {"any": [{"os": "<10"}, {"edition": ["Home"]}]}}, "yes", ""),
    ({"all": [{"os": ">=10"}, {"not": {"holds": [NEVER]}}]}, "yes", ""),
    ({"group": "boats", "inventory": r"C:\groups.csv"}, "yes", "boats"),
    ({"group": "boats", "inventory": r"C:\none.csv"}, "later", "cannot be read"),
]


def word(text: dict[str, Any], facts: Facts = USUAL) -> tuple[str, str]:
    condition = msgspec.convert(text, Condition)
    found = judge(
        resolve(condition),
        facts,
        lambda rule: (rule.path == r"C:\Windows", "there" if rule.path == r"C:\Windows" else "not there"),  # type: ignore[union-attr]
        inventories={r"C:\groups.csv": "OTHER-01,boats\r\nmarrowby-01 ; Boats\r\n"},
    )
    return "yes" if found.holds else "later" if found.later else "no", "; ".join(found.reasons)


@pytest.mark.parametrize(("text", "answer", "reason"), ANSWERS)
def test_what_holds_and_what_may_later(text: dict[str, Any], answer: str, reason: str) -> None:
    found, why = word(text)
    assert found == answer and reason.lower() in why.lower(), why


def test_what_a_machine_does_not_tell_is_not_judged() -> None:
    bare = Facts(windows="10.0.19045", architecture="x64")
    for text in (
        {"edition": ["Home"]},
        {"power": "battery"},
        {"memory": "9 GB"},
        {"people": "some"},
        {"dotnet": ">=9"},
    ):
        found, why = word(text, bare)
        assert found == "yes" and "is not judged here" in why


LEAF = st.sampled_from(
    [
        text
        for text, _, _ in ANSWERS
        if "group" not in text and "not" not in text and "any" not in text and "all" not in text
    ]
)
TREE = st.recursive(
    LEAF,
    lambda inner: (
        st.builds(lambda parts: {"all": parts}, st.lists(inner, min_size=1, max_size=3))
        | st.builds(lambda parts: {"any": parts}, st.lists(inner, min_size=1, max_size=3))
        | st.builds(lambda part: {"not": part}, inner)
    ),
    max_leaves=6,
)


@given(TREE)
def test_opposites_and_waiting(text: dict[str, Any]) -> None:
    """The opposite of a condition holds exactly where it does not; what only lasting facts decide is never told to wait."""
    found, _ = word(text)
    opposite, _ = word({"not": text})
    assert (found == "yes") != (opposite == "yes")
    lasting = not re.search(r"'(power|people|hours|days|after|network|quiet)'", str(text))
    assert not lasting or found != "later"


@given(
    st.lists(
        st.tuples(st.sampled_from([">=", "<=", ">", "<", "=="]), st.integers(0, 4), st.integers(0, 3)),
        min_size=1,
        max_size=4,
    )
)
def test_conditions_that_never_hold_are_found(parts: list[tuple[str, int, int]]) -> None:
    text = ", ".join(f"{sign}{one}.{two}" for sign, one, two in parts)
    wanted = VersionRange.parse(text)
    some = any(
        wanted.holds(Version((one, two, three, 0))) for one in range(6) for two in range(5) for three in (0, 1, 65535)
    )
    if some:
        assert impossible(Condition(os=text)) == ""
    elif not any(sign in "><" for sign, _, _ in parts):
        assert impossible(Condition(os=text)) != ""


@pytest.mark.wine
def test_the_runner_judges_as_we_do(tmp_path: Path, shell_wine: Any) -> None:
    """Every condition as the ``when`` of a step, asked by the real script of a real machine, whose own facts we are given."""
    import tomlkit

    told = facts_of(shell_wine)
    yes = {"yes": True, "no": False}
    facts = Facts(
        windows=told["windows"],
        architecture=told["architecture"],
        edition=told.get("edition"),
        language=told.get("language"),
        memory=int(told["memory"]),
        disks={"C": int(told["disk C"])},
        power=told.get("power"),
        network=told.get("network"),
        domain=told.get("domain"),
        people=int(yes[told["people"]]),
        busy=not yes[told["quiet"]] if "quiet" in told else None,
        shell=told["shell"],
        dotnet=told.get("dotnet"),
        multi_session=yes[told["multi-session"]],
        computer=told["computer"],
        now=told["time"],
    )
    asked = [text for text, _, _ in ANSWERS if "group" not in text and "disk" not in text and "domain" not in text]
    document = tomlkit.document()
    document["package"] = {"id": "tide", "name": "Tide", "version": "1"}
    document["install"] = [{"kind": "wait", "time": "1 s", "when": text} for text in asked]
    text = tomlkit.dumps(document)
    (tmp_path / "plan.toml").write_text(re.sub(r'"(2026-\d\d-\d\d)"', r"\1", text), "utf-8")
    made = build.build(tmp_path, read(tmp_path / "plan.toml")[0]).folder
    with shell_wine.fresh() as real:
        real.bring(made, r"C:\tide")
        ran = real.run(r'cmd /s /c ""C:\tide\apply.cmd" install -WhatIf"', timeout=60)
        lines = [line for line in ran.output.splitlines() if line.startswith("step ")]
        assert ran.exit_code == 0 and len(lines) == len(asked), ran.output
        for line, condition in zip(lines, asked, strict=True):
            assert ("would carry out" in line) == (word(condition, facts)[0] == "yes"), (line, condition)


def test_the_command(yendo: Yendo) -> None:
    page = yendo("facts").stdout
    assert "marrowby.example" in page and "8.6 GB" in page and 'hours = "20:00-06:00"' in page
    found = parsed(yendo("facts", "--json"))
    assert found["schema"] == "yendo.facts/1" and set(found["facts"]) == set(FACTS)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-be", "cp1252"])
def test_an_inventory_in_any_encoding(encoding: str) -> None:
    from yendo.texts import text_of

    data = "MARROWBY-01,Lotsenbüro\r\n".encode(encoding)
    assert text_of(b"\xfe\xff" + data if encoding == "utf-16-be" else data) == "MARROWBY-01,Lotsenbüro\r\n"
