"""What happens is told as data: one table for both runners, and nothing that only one of them knows unless it says so."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yendo.terms import events

SOURCE = Path(events.__file__).parents[1]
TABLE = sorted(events.table().items())


def told(ending: str, expression: str) -> set[str]:
    texts = [path.read_text("utf-8") for path in SOURCE.rglob(f"*.{ending}") if path != Path(events.__file__)]
    return {name for text in texts for name in re.findall(expression, text)}


def test_each_event_is_told_by_whom_it_says() -> None:
    runner, interpreter = told("ps1", r"\bTell ([a-z-]+)"), told("py", r"tell\((?:events\.)?([A-Z]\w+)\(")
    # an event that is chosen between two stands behind the word
    interpreter |= told("py", r"events\.([A-Z]\w+)\([^\n]*\) if ") | told("py", r" else events\.([A-Z]\w+)\(")
    by = {name: {"both": "ri", "runner": "r", "interpreter": "i"}[kind.by] for name, kind in TABLE}
    assert {name for name, who in by.items() if "r" in who} == runner
    assert {name for name, who in by.items() if "i" in who} == {events.__dict__[kind].name() for kind in interpreter}


def test_the_runner_gives_each_event_its_values() -> None:
    """As many as the table has: counted in the script's own text, so that a value that is forgotten is found without a machine."""
    wrong = []
    for path in SOURCE.rglob("*.ps1"):
        for name, rest in re.findall(r"\bTell ([a-z-]+)([^\n;}]*)", path.read_text("utf-8")):
            words = re.findall(r"'[^']*'|\((?:[^()]|\([^()]*\))*\)(?:\[[^\]]*\])?|\S+", rest)
            if len(words) != len(events.table()[name].__struct_fields__):
                wrong.append(f"{path.name}: {name} {words}")
    assert wrong == []


@pytest.mark.parametrize(("name", "kind"), TABLE)
def test_a_sentence_has_every_value_in_it(name: str, kind: type[events.Event]) -> None:
    assert sorted(re.findall(r"\{(\w+)\}", kind.sentence)) == sorted(kind.__struct_fields__)
    assert not kind.sentence.endswith(".")


def made(draw: st.DataObject, kind: type[events.Event]) -> events.Event:
    values: dict[str, Any] = {}
    for field in msgspec.structs.fields(kind):
        choices = getattr(field.type, "__args__", None)
        strategy: st.SearchStrategy[Any] = (
            st.sampled_from(choices)
            if choices
            else {"int": st.integers(-(2**31), 2**31), "float": st.floats(0, 1e6)}.get(field.type.__name__, st.text())
        )
        values[field.name] = draw.draw(strategy)
    return kind(**values)


@given(st.data(), st.lists(st.sampled_from(sorted(events.table())), max_size=5))
def test_written_and_read_again(draw: st.DataObject, names: list[str]) -> None:
    known = [made(draw, events.table()[name]) for name in names]
    lines = b"".join(
        events.written(event, time="2026-02-01T08:00:00Z", verb="install", step=at) for at, event in enumerate(known)
    )
    assert events.read(lines) == tuple(known)
    assert all("\n" not in event.text and "\r" not in event.text for event in known)


@given(st.binary(max_size=200))
def test_what_is_no_line_of_ours_is_passed_over(data: bytes) -> None:
    assert events.read(data) == ()
    begun = b'{"v":1,"time":"","verb":"install","step":1,"event":"'
    assert events.read(begun + b"\xc7" + data.replace(b"\n", b"")) == ()


def test_a_later_form_is_not_guessed_at() -> None:
    line = events.written(events.RunEnded(0), time="", verb="install", step=0)
    assert events.read(line.replace(b'"v":1', b'"v":2')) == ()
    assert events.read(line.replace(b"run-ended", b"run-began")) == ()  # without its values


def test_what_a_console_lost_is_as_it_was_told() -> None:
    from yendo.prove.stage import _printed

    told = (events.NotDetected("file hash 71e7…", "is there"), events.RunEnded(0))
    for lost in ("?", "\ufffd"):
        output = f"not detected: file hash 71e7{lost}, is there\r\n\r\nsaid by a program: what?\r\ndone with 0\r\n"
        assert _printed(output, told) == (told[0].text, "said by a program: what?", "done with 0")
