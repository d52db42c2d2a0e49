"""Many packages at once: who plays what, on this computer's processes and on a cluster whose workers die."""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import subprocess
import sys
import threading
import time
import tracemalloc
from collections import Counter
from pathlib import Path

import msgspec
import psutil
import pytest
from conftest import Yendo
from farm_crew import SOURCE, Farm, cells, copies, farm
from hypothesis import given
from hypothesis import strategies as st

from yendo.demo.sequence import runtime
from yendo.errors import NoMachine, Unreadable, Usage
from yendo.farm import bundle, run
from yendo.farm.cluster import Cluster
from yendo.farm.job import Job, Making, play
from yendo.farm.schedule import MOST_DEATHS, Offer, Schedule, Task
from yendo.plan.model import Proving

KILLS = int(os.environ.get("YENDO_FARM_KILLS", "3"))

pytestmark = pytest.mark.skipif(os.name == "nt", reason="a farm's workers are tried on Linux")


@pytest.fixture(scope="module")
def workspace(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's smaller package, built."""
    return runtime(tmp_path_factory.mktemp("farm")).parents[1]


# --- who plays what -----------------------------------------------------------------------------------------


@given(
    st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from(["simulated", "wine"]), st.integers(1, 9)), max_size=30),
    st.randoms(use_true_random=False),
)
def test_every_cell_ends_once_whoever_comes_and_goes(wanted: list[tuple[str, str, int]], chance: random.Random) -> None:
    tasks = [Task(number, package, machine, cost) for number, (package, machine, cost) in enumerate(wanted)]
    schedule = Schedule(tasks)
    counted: Counter[int] = Counter()
    playing: list[tuple[str, int]] = []
    late: list[tuple[str, int]] = []
    made = 0
    for _ in range(5000):
        if not schedule.left:
            break
        if len(schedule.workers) < 2 or chance.random() < 0.05:
            made += 1
            schedule.join(f"w{made}", Offer({"simulated": 2, "wine": 1}, 2))
        for worker, task in schedule.begin():
            assert sum(name == worker for name, _ in playing) < 2, "never more at once than it said"
            playing.append((worker, task.number))
        if playing and chance.random() < 0.7:
            worker, number = playing.pop(chance.randrange(len(playing)))
            counted[number] += schedule.ended(worker, number)
        elif schedule.workers and chance.random() < 0.2:
            gone = chance.choice(schedule.workers)
            for task in schedule.leave(gone):
                counted[task.number] += 1
            late += [at for at in playing if at[0] == gone]
            playing = [at for at in playing if at[0] != gone]
        if late and chance.random() < 0.3:  # a result of one that was taken for gone comes after all
            worker, number = late.pop()
            assert not schedule.ended(worker, number)
    assert schedule.left == 0 and counted == Counter(dict.fromkeys(range(len(tasks)), 1))


def test_a_package_stays_where_it_is_and_the_longest_comes_first() -> None:
    tasks = [Task(number, "ab"[number % 2], "simulated", 1 + number) for number in range(8)]
    schedule = Schedule(tasks)
    schedule.join("one", Offer({"simulated": 1}))
    schedule.join("two", Offer({"simulated": 1}))
    order: dict[str, list[Task]] = {"one": [], "two": []}
    while schedule.left:
        for worker, task in list(schedule.begin()):
            order[worker].append(task)
            schedule.ended(worker, task.number)
    for played in order.values():
        assert len({task.package for task in played}) == 1
        assert [task.cost for task in played] == sorted((task.cost for task in played), reverse=True)


def test_a_cell_that_ends_its_workers_is_given_up() -> None:
    schedule = Schedule([Task(0, "a", "simulated")])
    for number in range(MOST_DEATHS):
        schedule.join(f"w{number}", Offer({"simulated": 1}))
        assert [task.number for _, task in schedule.begin()] == [0]
        given_up = schedule.leave(f"w{number}")
    assert [task.number for task in given_up] == [0] and schedule.left == 0


def test_rare_machines_are_not_filled_with_what_all_play() -> None:
    schedule = Schedule([Task(0, "a", "simulated", 5), Task(1, "a", "wine", 1), Task(2, "a", "simulated", 5)])
    schedule.join("both", Offer({"simulated": 1, "wine": 1}, 1))
    schedule.join("plain", Offer({"simulated": 1}))
    assert {worker: task.machine for worker, task in schedule.begin()} == {"both": "wine", "plain": "simulated"}
    assert schedule.nobody_offers() == set()
    schedule.leave("both")
    assert schedule.nobody_offers() == {"wine"}


# --- how a package travels ----------------------------------------------------------------------------------


def test_a_package_travels_with_what_its_proof_needs(tmp_path: Path, workspace: Path) -> None:
    package = next(workspace.glob("package/*/manifest.json")).parent
    (tmp_path / "w").mkdir()
    (tmp_path / "w" / "there.ini").write_text("[x]")
    proving = Proving(files={r"C:\there.ini": "there.ini"}, packages=(str(package),))
    made = bundle.of(package, proving, tmp_path / "w")
    assert made.digest == bundle.of(package, proving, tmp_path / "w").digest, "the same content is known again"
    assert max(map(len, bundle.pieces(made))) <= bundle.PIECE
    coming = bundle.Arriving(tmp_path / "cache", made.digest)
    for number, piece in enumerate(bundle.pieces(made)):
        coming.put(number, piece)
        coming.put(number, piece)  # one that is sent again after a cut line
    root = coming.end()
    assert bundle.arrived(tmp_path / "cache", made.digest) == root
    assert (root / made.proving.files[r"C:\there.ini"]).read_text() == "[x]"
    here = sorted(path.relative_to(package) for path in package.rglob("*") if path.is_file())
    assert (
        sorted(path.relative_to(root / "package") for path in (root / "package").rglob("*") if path.is_file()) == here
    )
    assert (root / made.proving.packages[0] / "manifest.json").is_file()
    there = msgspec.structs.replace(made.proving, packages=())  # it is itself, and would be there already
    proof = play(Job("package", "desk", "", "simulated", proving=there), root, Making(str(tmp_path)))
    assert proof.outcome == "passed" and "there.ini" in proof.label


def test_a_large_file_travels_without_being_held(tmp_path: Path) -> None:
    (tmp_path / "p").mkdir()
    with (tmp_path / "p" / "large.bin").open("wb") as file:
        file.truncate(8 * bundle.PIECE + 5)
    made = bundle.of(tmp_path / "p", Proving(), tmp_path)
    tracemalloc.start()
    coming = bundle.Arriving(tmp_path / "cache", made.digest)
    for number, piece in enumerate(bundle.pieces(made)):
        coming.put(number, piece)
    root = coming.end()
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert (root / "package" / "large.bin").stat().st_size == 8 * bundle.PIECE + 5 and most < 5 * bundle.PIECE


def test_what_arrives_with_other_bytes_is_thrown_away(tmp_path: Path, workspace: Path) -> None:
    package = next(workspace.glob("package/*/manifest.json")).parent
    made = bundle.of(package, Proving(), workspace)
    coming = bundle.Arriving(tmp_path / "cache", made.digest)
    for number, piece in enumerate(bundle.pieces(made)):
        coming.put(number, piece[:-1] + b"x")
    with pytest.raises(Unreadable, match="other bytes"):
        coming.end()
    assert list((tmp_path / "cache").iterdir()) == []
    with pytest.raises(Unreadable, match="piece 3"):
        bundle.Arriving(tmp_path / "cache", made.digest).put(3, b"")
    with pytest.raises(Usage, match=r"not-there\.ini"):
        bundle.of(package, Proving(files={r"C:\x": "not-there.ini"}), workspace)
    (tmp_path / "p").mkdir()
    (tmp_path / "p" / "manifest.json").symlink_to("/etc/passwd")
    with pytest.raises(Usage, match="link"):
        bundle.of(tmp_path / "p", Proving(), tmp_path)


# --- this computer's processes --------------------------------------------------------------------------------


def test_a_process_that_dies_is_replaced_and_its_cell_played_again(tmp_path: Path, workspace: Path) -> None:
    some = cells(copies(workspace, 2, tmp_path), ["desk", "system", "repair"])
    crew = run.Processes(2, Making(str(tmp_path)), ["simulated"])
    killed = []

    def heard(ended: run.Ended | None, count: int, workers: int) -> None:
        if count == 2 and not killed:
            for slot in crew._slots.values():
                if slot.process:
                    slot.process.kill()
                    killed.append(slot.process.pid)

    found = run.play(some, crew, heard=heard)
    assert killed and [one.trouble for one in found] == [""] * len(some)
    assert not any(psutil.pid_exists(pid) for pid in killed)


def test_several_packages_on_the_command_line(tmp_path: Path, workspace: Path, yendo: Yendo) -> None:
    one, two = copies(workspace, 2, tmp_path)
    said = yendo("prove", one, two, "--scenario", "desk", "--scenario", "system", "--json")
    assert [len(package["cells"]) for package in json.loads(said.stdout)["packages"]] == [2, 2]
    again = json.loads(yendo("prove", one, two, "--scenario", "all", "--go-on", "--json").stdout)
    earlier = [cell["scenario"] for cell in again["packages"][0]["cells"] if cell["earlier"]]
    assert sorted(earlier) == ["desk", "system"]


def test_only_what_has_changed(tmp_path: Path, workspace: Path, yendo: Yendo) -> None:
    one, two = copies(workspace, 2, tmp_path)
    old = time.time() - 90 * 86400
    for path in one.rglob("*"):
        os.utime(path, (old, old))
    day = time.strftime("%Y-%m-%d", time.localtime(time.time() - 3 * 86400))
    said = json.loads(yendo("prove", one, two, "--changed-since", day, "--json").stdout)
    assert [Path(package["package"]).name for package in said["packages"]] == ["copy-1"]
    future = yendo("prove", one, two, "--changed-since", "2100-01-01")
    assert "nothing has changed" in future.stdout
    who = ("-c", "user.name=Mara Quill", "-c", "user.email=mara@marrowby.example")
    for words in (["init", "-q"], ["add", "-A"], [*who, "commit", "-qm", "first"]):
        subprocess.run(["git", "-C", str(tmp_path), *words], check=True)
    (two / "plan.toml").write_text((two / "plan.toml").read_text() + "\n# changed\n")
    said = json.loads(yendo("prove", one, two, "--changed-since", "HEAD", "--json").stdout)
    assert [Path(package["package"]).name for package in said["packages"]] == ["copy-1"]
    wrong = yendo("prove", one, two, "--changed-since", "--output=x", expect=None)
    assert wrong.returncode == 2 and not (tmp_path / "x").exists()
    assert "no day" in yendo("prove", one, two, "--changed-since", "no-such-branch", expect=2).stderr


# --- a cluster ----------------------------------------------------------------------------------------------


def _playing(crew: Cluster, some: list[run.FarmCell]) -> tuple[list[run.Ended], Counter[Path]]:
    """Plays, and how many records of each cell were kept."""
    kept: Counter[Path] = Counter()

    def keep(proof: object, package: Path) -> None:
        kept[package / str(getattr(proof, "scenario", ""))] += 1

    return run.play(some, crew, keep=keep), kept


def test_workers_killed_at_random(tmp_path: Path, workspace: Path) -> None:
    """YENDO_FARM_KILLS=50 gives the figure of docs/measured.md."""
    some = cells(copies(workspace, max(12, 12 * KILLS), tmp_path / "w"), ["desk", "system", "repair"])
    chance = random.Random(7)
    over = threading.Event()
    killed = 0

    def kill(place: Farm) -> None:
        nonlocal killed
        while not over.wait(chance.uniform(0.6, 1.8)) and killed < KILLS:
            place.kill(chance.choice(place.workers))
            killed += 1
            place.add()

    with farm(tmp_path / "farm", 3) as place:
        killer = threading.Thread(target=kill, args=(place,))
        crew = Cluster(place.address)
        killer.start()
        try:
            found, kept = _playing(crew, some)
        finally:
            over.set()
            killer.join()
    assert killed == KILLS, f"only {killed} were killed while it lasted"
    assert [one.trouble for one in found if one.proof is None] == []
    assert set(kept.values()) == {1} and len(kept) == len(some)


def test_with_keys_over_the_command_line(tmp_path: Path, workspace: Path, yendo: Yendo) -> None:
    keys = tmp_path / "keys"
    yendo("farm", "keys", keys)
    assert (keys / "key.pem").stat().st_mode & 0o77 == 0
    yendo("farm", "keys", keys, expect=2)
    one, two = copies(workspace, 2, tmp_path / "w")
    with farm(tmp_path / "farm", 2, keys=keys) as place:
        assert place.address.startswith("tls://")
        options = ["--farm", place.address, "--farm-keys", keys]
        said = json.loads(yendo("prove", one, two, "--scenario", "desk", *options, "--json").stdout)
        assert said["passed"] and (one / "package").glob("*.proof-simulated-desk.json")
        there = json.loads(yendo("farm", "status", place.address, "--keys", keys, "--json").stdout)
        assert [worker["machines"] for worker in there["workers"]] == [{"simulated": 1}] * 2
        assert "has keys: give" in yendo("farm", "status", place.address, expect=4).stderr


def heeding() -> None:
    """Ctrl-C is heeded, also where the tests themselves were started in the background, which has it ignored."""
    signal.signal(signal.SIGINT, signal.default_int_handler)


def test_ctrl_c_ends_the_cells(tmp_path: Path, workspace: Path) -> None:
    some = copies(workspace, 30, tmp_path / "w")
    with farm(tmp_path / "farm", 2) as place:
        line = [sys.executable, "-m", "yendo", "prove", *map(str, some), "--scenario", "all", "--farm", place.address]
        env = {**os.environ, "PYTHONPATH": SOURCE}
        with subprocess.Popen(
            line, env=env, preexec_fn=heeding, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE
        ) as process:
            until = time.monotonic() + 60
            while not list((tmp_path / "w").glob("*/package/*.proof-*")) and time.monotonic() < until:
                time.sleep(0.05)
            process.send_signal(signal.SIGINT)
            assert process.wait(30) == 130
        count = len(list((tmp_path / "w").glob("*/package/*.proof-*")))
        time.sleep(1.5)
        assert 0 < len(list((tmp_path / "w").glob("*/package/*.proof-*"))) == count
        crew = Cluster(place.address)
        try:
            found, _ = _playing(crew, cells(some[:1], ["desk"]))  # and the workers go on for the next
        finally:
            crew.stop()
        assert found[0].proof is not None


def test_nobody_who_has_the_machine(tmp_path: Path, workspace: Path) -> None:
    cell = cells(copies(workspace, 1, tmp_path / "w"), ["desk"])[0]
    cell = msgspec.structs.replace(cell, job=msgspec.structs.replace(cell.job, machine="wine"))
    with farm(tmp_path / "farm", 1) as place, pytest.raises(NoMachine, match="no worker plays on wine"):
        run.play([cell], Cluster(place.address), patience=1)


def test_another_version_is_refused(tmp_path: Path, workspace: Path) -> None:
    cell = cells([workspace], ["desk"])[0]
    old = msgspec.structs.replace(cell, job=msgspec.structs.replace(cell.job, version="0.1"))
    found = run.play([old], run.Processes(1, Making(str(tmp_path)), ["simulated"]), keep=lambda proof, package: None)
    assert "0.1 asks; they have to be the same" in found[0].trouble


def test_what_is_asked_wrongly(yendo: Yendo) -> None:
    assert "make keys first" in yendo("farm", "scheduler", "--host", "0.0.0.0", expect=2).stderr
    for offers in ("toaster", "simulated=0", "simulated=x", "ssh:"):
        said = yendo("farm", "worker", "tcp://127.0.0.1:1", "--offers", offers, expect=2).stderr
        assert offers.partition("=")[0] in said
    assert "no farm answers" in yendo("farm", "status", "tcp://127.0.0.1:1", expect=4).stderr


def test_a_slot_dies_with_its_owner(tmp_path: Path, workspace: Path) -> None:
    package = next(workspace.glob("package/*/manifest.json")).parent
    code = (
        "import sys, time\nfrom pathlib import Path\nfrom yendo.farm.slots import Slot\nfrom yendo.farm.job import Job, Making\n"
        f"slot = Slot()\nslot.play(Job({str(package)!r}, 'desk', '', 'simulated'), Path('/'), Making('/tmp'))\n"
        "print(slot.process.pid, flush=True)\ntime.sleep(60)"
    )
    env = {**os.environ, "PYTHONPATH": SOURCE}
    with subprocess.Popen([sys.executable, "-c", code], env=env, stdout=subprocess.PIPE) as owner:
        assert owner.stdout is not None
        child = psutil.Process(int(owner.stdout.readline()))
        owner.kill()
    with contextlib.suppress(psutil.NoSuchProcess):
        child.wait(10)
    assert not child.is_running()
