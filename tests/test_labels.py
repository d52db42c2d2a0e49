"""Labels and sets of drivers: kept, also when the vendor's next version comes."""

from __future__ import annotations

import tomllib
from pathlib import Path

import msgspec
import pytest
from conftest import Yendo, parsed
from hypothesis import given, settings
from hypothesis import strategies as st

from yendo.demo import drivers as demo
from yendo.drivers import labels, share
from yendo.drivers.driver import Driver
from yendo.drivers.labels import DriverLabels, LabelFile
from yendo.errors import Unreadable, Usage

OLD, NEW, TWICE, BETA, ARM = (
    "tidegauge-1.4/tidegauge.inf", "tidegauge-2.1/tidegauge.inf", "from-the-quay/tidegauge/tidegauge.inf",
    "tidegauge-2.2-beta/tidegauge.inf", "tidegauge-2.1-arm64/tidegauge.inf",
)  # fmt: skip


@pytest.fixture(scope="module")
def read(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Driver]:
    return share.read(demo.share(tmp_path_factory.mktemp("share"))).drivers


@pytest.mark.parametrize(
    ("newer", "sets", "passed"),
    [
        ("merge", {OLD: "slate", NEW: "slate desk", TWICE: "slate", BETA: "slate desk"}, ()),
        ("leave", {OLD: "slate", NEW: "desk"}, ()),
        ("overwrite", {OLD: "slate", NEW: "slate", TWICE: "slate", BETA: "slate"}, ()),
        ("pass", {OLD: "slate", NEW: "desk"}, (TWICE, BETA)),
    ],
)
def test_when_a_newer_one_comes(
    read: dict[str, Driver], newer: labels.Newer, sets: dict[str, str], passed: tuple[str, ...]
) -> None:
    """The same bytes twice are of one age; another processor is another driver."""
    file = LabelFile(newer, {OLD: DriverLabels(("approved",), ("slate",)), NEW: DriverLabels(sets=("desk",)), "x.inf": DriverLabels(("gone",))})  # fmt: skip
    found = labels.labelled(file, read)
    assert {path: " ".join(one.sets) for path, one in found.labels.items()} == sets
    assert found.passed == passed and found.gone == ("x.inf",) and ARM not in found.labels
    assert found.carried == {path for path, one in found.labels.items() if one != file.driver.get(path)}


@settings(max_examples=150, deadline=None)
@given(
    own=st.lists(st.frozensets(st.sampled_from("abc")), min_size=1, max_size=6),
    ages=st.lists(st.integers(1, 4), min_size=6, max_size=6),
    newer=st.sampled_from(["merge", "leave", "overwrite", "pass"]),
)
def test_as_said_plainly(
    read: dict[str, Driver], own: list[frozenset[str]], ages: list[int], newer: labels.Newer
) -> None:
    """Against the sentences of the documentation, read one by one."""
    some = {
        f"{number}.inf": msgspec.structs.replace(read[OLD], date=f"2026-01-{age:02}")
        for number, (_, age) in enumerate(zip(own, ages, strict=False))
    }
    file = LabelFile(
        newer, {f"{number}.inf": DriverLabels(sets=tuple(sorted(one))) for number, one in enumerate(own) if one}
    )
    found = labels.labelled(file, some)

    def counts(path: str) -> set[str]:
        mine = set(file.driver[path].sets) if path in file.driver else set()
        older = [one for one in some if some[one].date < some[path].date and counts(one)]
        if not older or newer in ("leave", "pass"):
            return mine
        nearest = max(some[one].date for one in older)
        before = {name for one in older if some[one].date == nearest for name in counts(one)}
        return before if newer == "overwrite" else mine | before

    assert {path: set(one.sets) for path, one in found.labels.items()} == {
        path: counts(path) for path in some if counts(path)
    }


def test_from_the_command_line(tmp_path: Path, yendo: Yendo) -> None:
    drivers = demo.share(tmp_path / "drivers")
    (drivers / labels.FILE).write_text("# the quay's own\n")
    yendo("label", drivers, OLD, NEW, "--say", "approved, Ada", "--set", "slate", "--set", "image")
    yendo("label", drivers, NEW, "--without", "image", "--without", "approved, Ada")
    text = (drivers / labels.FILE).read_text("utf-8")
    assert text.startswith("# the quay's own") and tomllib.loads(text)["driver"] == {
        OLD: {"words": ["approved, Ada"], "sets": ["slate", "image"]}, NEW: {"sets": ["slate"]}
    }  # fmt: skip
    told = parsed(yendo("read", drivers, "--json"))
    assert told["labels"][BETA]["sets"] == ["slate", "image"] and BETA in told["carried"]
    assert "sets | said" in yendo("read", drivers).stdout
    yendo("read", drivers, "--csv", tmp_path / "older.csv")
    assert "(said of an older version)" in (tmp_path / "older.csv").read_text("utf-8")
    yendo("label", drivers, "--newer", "leave")
    only = parsed(yendo("read", drivers, "--in", "slate", "--json"))
    assert sorted(row["path"] for row in only["rows"]) == sorted((OLD, NEW))
    device = yendo("read", drivers, "--in", "image", "--device", r"USB\VID_FFFE&PID_0021").stdout
    assert "1.4.2.0" in device and "2.1.0.0" not in device
    table = tmp_path / "t.csv"
    yendo("read", drivers, "--csv", table)
    assert 'slate, image","approved, Ada' in table.read_text("utf-8")
    for wrong, why in (
        (("read", drivers, "--in", "slte"), "did you mean slate"), (("label", drivers, "x.inf", "--set", "a"), "is no driver"),
        (("label", drivers, OLD), "what is to be said"), (("label", drivers), "what is to be said"),
    ):  # fmt: skip
        assert why in yendo(*wrong, expect=2).stderr
    (drivers / labels.FILE).write_text("newer = 'never'\n")
    with pytest.raises(Unreadable):
        labels.read(drivers)
    with pytest.raises(Unreadable):
        labels.change(drivers, [OLD], sets=["a"])
    (drivers / labels.FILE).unlink()
    with pytest.raises(Usage):
        labels.change(drivers, ["../x.inf"], sets=["a"])
