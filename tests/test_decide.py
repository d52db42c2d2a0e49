"""What a draft leaves open is asked, one question at a time, and answered without an editor."""

from __future__ import annotations

import os
import sys
import tomllib
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, parsed
from hypothesis import given
from hypothesis import strategies as st

from yendo.draft import deciding
from yendo.errors import Usage

CONTACT = "Survey office, extension 12"


@pytest.fixture
def lantern(vendor: Path, tmp_path: Path, yendo: Yendo) -> Path:
    yendo("draft", "lantern", vendor / "lantern-6.2.1.msi")
    return tmp_path / "lantern"


def plan(workspace: Path) -> Any:
    return tomllib.loads((workspace / "plan.toml").read_text())


def test_four_commands_and_no_editor(lantern: Path, yendo: Yendo) -> None:
    """From a vendor's file to a proved package."""
    said = yendo(
        "decide", "lantern", "--accept-defaults",
        "--answer", f"package.contact={CONTACT}", "--answer", "media.origin=Tidewell's share",
    ).stdout  # fmt: skip
    assert "Everything is decided" in said and "yendo build lantern" in said
    yendo("build", "lantern")
    assert "Proved" in yendo("prove", "lantern").stdout
    decided = plan(lantern)
    assert decided["package"]["contact"] == CONTACT and decided["media"][0]["origin"] == "Tidewell's share"
    text = (lantern / "plan.toml").read_text()
    assert "DECIDE:" not in text and "# who answers for this package" in text  # the comment stays, the mark goes


def test_what_is_open_is_listed_and_nothing_is_written(lantern: Path, yendo: Yendo) -> None:
    before = (lantern / "plan.toml").read_bytes()
    listed = parsed(yendo("decide", "lantern", "--json", expect=1))
    assert [one["key"] for one in listed["open"]] == ["package.contact", "media.origin", "when.os"]
    assert all(one["line"] > 1 for one in listed["open"])
    assert {one["key"] for one in listed["standing"]} == {
        "install.1.properties.AUTOUPDATE",
        "install.1.properties.SITE",
    }
    assert (lantern / "plan.toml").read_bytes() == before
    shown = yendo("decide", "lantern", "--list", expect=1).stdout
    assert "who answers for this package" in shown and "yendo decide lantern --answer package.contact=" in shown


def test_a_vendors_default_is_decided_in_its_place(lantern: Path, yendo: Yendo) -> None:
    yendo("decide", "lantern", "--answer", "install.1.properties.SITE=Marrowby", expect=1)
    assert plan(lantern)["install"][0]["properties"] == {"SITE": "Marrowby"}
    assert 'SITE = "Marrowby" # instead of Unassigned, the vendor\'s default' in (lantern / "plan.toml").read_text()
    assert "SITE" not in str(parsed(yendo("decide", "lantern", "--json", expect=1))["standing"])


def test_two_media_are_two_questions_and_one_answer(vendor: Path, tmp_path: Path, yendo: Yendo) -> None:
    """Each with its own line; the key that the draft prints answers both."""
    yendo("draft", "two", vendor / "lantern-6.2.1.msi", "--with", vendor / "lantern-6.2.3.msp")
    asked = {one["key"]: one["line"] for one in parsed(yendo("decide", "two", "--json", expect=1))["open"]}
    lines = (tmp_path / "two" / "plan.toml").read_text().splitlines()
    origins = [number for number, line in enumerate(lines, 1) if line.startswith("origin =")]
    assert [asked["media.1.origin"], asked["media.2.origin"]] == origins
    yendo("decide", "two", "--answer", "media.origin=Tidewell's share", expect=1)
    assert [medium["origin"] for medium in plan(tmp_path / "two")["media"]] == ["Tidewell's share"] * 2


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ("when.os=banana", "no version bound"),
        ("package.nothing=1", "no open question"),
        ("package.contact", "write KEY=VALUE"),
    ],
)
def test_an_answer_that_cannot_be_is_refused(lantern: Path, yendo: Yendo, given: str, said: str) -> None:
    before = (lantern / "plan.toml").read_bytes()
    refused = yendo("decide", "lantern", "--answer", given, expect=2)
    assert said in refused.stderr and (lantern / "plan.toml").read_bytes() == before


def test_one_wrong_answer_writes_none(lantern: Path, yendo: Yendo) -> None:
    before = (lantern / "plan.toml").read_bytes()
    yendo("decide", "lantern", "--answer", f"package.contact={CONTACT}", "--answer", "when.os=banana", expect=2)
    assert (lantern / "plan.toml").read_bytes() == before


@given(st.text(st.characters(exclude_categories=["Cs"]), max_size=40))
def test_any_text_is_written_as_it_was_given(tmp_path_factory: pytest.TempPathFactory, text: str) -> None:
    path = tmp_path_factory.mktemp("plan") / "plan.toml"
    path.write_text(
        '[package]\nid = "x"\nname = "X"\nversion = "1"\ncontact = "" # DECIDE: who\n'
        '[[install]]\nkind = "wait"\ntime = "1 s"\n[[uninstall]]\nkind = "take-back"\n'
    )
    try:
        deciding.answer(path, {"package.contact": text})
    except Usage:  # what no plan can hold, as a text of several lines
        assert "DECIDE" in path.read_text()
    else:
        assert tomllib.loads(path.read_text())["package"]["contact"] == text.strip()


@pytest.mark.skipif(sys.platform == "win32", reason="a terminal of POSIX")
def test_asked_at_a_terminal(lantern: Path) -> None:
    """Enter lets stand, a dash leaves open, and what cannot be is asked again."""
    import pty
    import time

    process, terminal = pty.fork()
    if process == 0:
        os.chdir(lantern.parent)
        os.execv(sys.executable, [sys.executable, "-m", "yendo", "decide", "lantern"])
    shown = b""
    for answer in (CONTACT, "-", "banana", ""):
        prompts = shown.count(b"   > ")
        until = time.monotonic() + 30
        while shown.count(b"   > ") == prompts and time.monotonic() < until:
            shown += os.read(terminal, 4096)
        os.write(terminal, answer.encode() + b"\n")
    while True:
        try:
            more = os.read(terminal, 4096)
        except OSError:
            break
        if not more:
            break
        shown += more
    _, status = os.waitpid(process, 0)
    assert os.waitstatus_to_exitcode(status) == 1  # one is open still
    assert b"no version bound" in shown and b"2 of 3" in shown
    decided = plan(lantern)
    assert decided["package"]["contact"] == CONTACT and decided["when"]["os"].startswith(">=10")
    left = [question.key for question in deciding.questions(lantern / "plan.toml") if not question.optional]
    assert left == ["media.origin"]
