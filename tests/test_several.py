"""Many packages proved at once: a line for each, and one that cannot be played takes no other with it."""

from __future__ import annotations

from pathlib import Path

from conftest import Yendo, parsed
from test_kit import made


def test_a_folder_of_them(tmp_path: Path, yendo: Yendo) -> None:
    for name in ("chart", "tide"):
        made(tmp_path / "shelf" / name if (tmp_path / "shelf").is_dir() else _folder(tmp_path) / name)
    (tmp_path / "shelf" / "unbuilt").mkdir()
    (tmp_path / "shelf" / "unbuilt" / "plan.toml").write_bytes((tmp_path / "shelf" / "tide" / "plan.toml").read_bytes())
    (tmp_path / "shelf" / "notes").mkdir()
    found = parsed(yendo("prove", "shelf", "--scenario", "system", "--scenario", "twice", "--json", expect=1))
    assert not found["passed"] and [Path(one["package"]).name for one in found["packages"]] == [
        "chart",
        "tide",
        "unbuilt",
    ]
    assert [len(one["cells"]) for one in found["packages"]] == [2, 2, 0]
    assert {cell["outcome"] for one in found["packages"] for cell in one["cells"]} == {"passed"}
    assert "no built package" in found["packages"][2]["error"]
    again = parsed(yendo("prove", "shelf/chart", "shelf/tide", "--scenario", "system", "--go-on", "--json"))
    assert again["passed"] and all(cell["earlier"] for one in again["packages"] for cell in one["cells"])
    told = yendo("prove", "shelf", "--scenario", "system", expect=1).stdout
    assert (
        "3 packages, 2 without a failure" in told
        and "not played" in told
        and f"yendo prove {Path('shelf/unbuilt')}" in told
    )


def _folder(path: Path) -> Path:
    (path / "shelf").mkdir()
    return path / "shelf"


def test_what_is_of_one_package(tmp_path: Path, yendo: Yendo) -> None:
    for name in ("chart", "tide"):
        made(tmp_path / name)
    for more in (("--kit", "k.zip"), ("--from", "r.gz"), ("--machine", "ssh:w11"), ("--junit", "j.xml")):
        assert "name one" in yendo("prove", "chart", "tide", *more, expect=2).stderr
    assert "named twice" in yendo("prove", "chart", "./chart", expect=2).stderr


def test_a_machine_that_is_not_here_takes_its_own_cells_only(tmp_path: Path, yendo: Yendo) -> None:
    for name in ("chart", "tide"):
        made(tmp_path / name)
    line = ("prove", "chart", "tide", "--machine", "simulated", "--machine", "wine", "--scenario", "system", "--json")
    found = parsed(yendo(*line, environment={"PATH": "/nowhere"}, expect=1))
    assert [[cell["outcome"] for cell in one["cells"]] for one in found["packages"]] == [["passed"], ["passed"]]
    assert all("wine" in one["error"] for one in found["packages"])
