"""Setup programs in plans: drafted, tried, checked, built, replayed; answer files; the demo's second program."""

from __future__ import annotations

import hashlib
import json
import random
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

import family_specimens as specimens
import msgspec
import pytest
import script_specimens as scripts
from conftest import Yendo, missing
from hypothesis import given
from hypothesis import strategies as some

from yendo.check import Workspace, check
from yendo.demo import sounder
from yendo.draft import draft, setups
from yendo.effects import Effect, File, Folder, RegistryValue, Shortcut, State, UninstallEntry
from yendo.errors import NotCovered, Unreadable, Usage
from yendo.formats import answers, registrar
from yendo.installers import answers_exe, programs
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.machines.wine.machine import WineMachine
from yendo.package import build
from yendo.plan import PlanError, read
from yendo.platforms.windows.recording import Recording, portable, replay, settled
from yendo.platforms.windows.surroundings import windows
from yendo.prove.prove import prove

SETUP = Path(sounder.__file__).with_name("sounder-setup.exe")
PLACE = r"C:\Program Files\Tidewell\Sounder"
PLACED = (
    Folder(r"C:\Program Files\Tidewell"),
    Folder(PLACE),
    File(PLACE + r"\sounder.exe", 10752, "ab" * 32, "3.0.1.0"),
    File(PLACE + r"\remove.exe", 10752, "ab" * 32, "3.0.1.0"),
    RegistryValue("HKLM", r"Software\Tidewell\Sounder", "Version", "sz", "3.0.1"),
    UninstallEntry("TidewellSounder", "HKLM", "64", "Tidewell Sounder", "3.0.1", "Tidewell", f'"{PLACE}\\remove.exe"'),
)


def trial(keep: Path, setup: Path, *, early: bool = True) -> Path:
    """The evidence of a trial as the trial itself keeps it, of a run that was not made here."""
    keep.mkdir(parents=True, exist_ok=True)
    sha256 = hashlib.sha256(setup.read_bytes()).hexdigest()
    commands = {"install": f'"{setup.name}" /unattended', "uninstall": f'"{PLACE}\\remove.exe" /unattended'}
    runs = []
    for purpose, command in commands.items():
        runs.append({
            "purpose": purpose, "command": command, "verdict": "silent and complete", "date": "2026-11-23T10:00:00+00:00", "exit_code": 3010 if purpose == "install" else 0,
            "returned_early": 2.0 if early else 0.0, "outlived": ["sounder-worker.exe"] if early else [],
        })  # fmt: skip
        change: Any = "add" if purpose == "install" else "remove"
        recording = Recording(
            media=sha256, command=command, exit_code=runs[-1]["exit_code"], seconds=2.5, restart=purpose == "install", machine="a layer", date="2026-11-23T10:00:00",
            account="user", effects=tuple(Effect(change, thing, "observed") for thing in PLACED),
        )  # fmt: skip
        (keep / f"observed-{purpose}.json").write_bytes(msgspec.json.encode(recording))
    body = {
        "schema": "yendo.evidence/1",
        "trial": {"installer": setup.name, "sha256": sha256, "machine": "a layer", "runs": runs, **commands},
    }
    (keep / "evidence.json").write_text(json.dumps(body))
    return keep


@pytest.fixture
def tried(tmp_path: Path) -> Path:
    """A workspace for the demo's second program, with a trial taken over."""
    draft.from_installer(tmp_path / "sounder", SETUP)
    setups.take_over(tmp_path / "sounder", trial(tmp_path / "sounder" / "trial", SETUP))
    return tmp_path / "sounder"


def test_the_prebuilt_program_is_made_from_its_source(tmp_path: Path) -> None:
    import shutil

    if not shutil.which("x86_64-w64-mingw32-gcc"):
        missing("a compiler for Windows", "apt-get install gcc-mingw-w64-x86-64")
    from yendo.machines.wine import driver_store, lookout

    for module, made in ((sounder, "sounder-setup.exe"), (lookout, "lookout.exe"), (driver_store, "pnputil.exe")):
        source = Path(module.__file__).parent
        copy = Path(shutil.copytree(source, tmp_path / made))
        (copy / made).unlink()
        subprocess.run(["sh", str(copy / "make")], check=True, capture_output=True)
        assert (copy / made).read_bytes() == (source / made).read_bytes(), (
            f"{made} is not what its source gives: run {source / 'make'}"
        )


def test_what_reading_says_of_the_demos_second_program(yendo: Yendo) -> None:
    found = json.loads(yendo("read", SETUP, "--json").stdout)
    assert (
        found["family"] == "plain-exe"
        and found["identity"]["name"] == "Tidewell Sounder"
        and found["identity"]["version"] == "3.0.1"
    )
    assert [line["command"] for line in found["candidates"]][:2] == [
        '"sounder-setup.exe" /silent',
        '"sounder-setup.exe" /unattended',
    ]
    assert found["program"]["elevation"] == "requireAdministrator" and found["blind_spots"]


def test_a_plan_from_reading_alone_waits_for_a_trial(yendo: Yendo, tmp_path: Path) -> None:
    told = yendo("draft", "sounder", SETUP).stdout
    assert "yendo try" in told
    found = {finding.rule for finding in check(Workspace(tmp_path / "sounder"))}
    assert {"setup-untried", "no-uninstall", "no-detection"} <= found


def test_a_trial_fills_the_plan(tried: Path) -> None:
    plan, _ = read(tried / "plan.toml")
    install, removal = plan.install[0], plan.uninstall[0]
    assert (install.arguments, install.wait_for, install.observed) == (
        "/unattended",
        ("sounder-worker.exe",),
        "trial/observed-install.json",
    )  # type: ignore[union-attr]
    assert (removal.program, removal.arguments) == (PLACE + r"\remove.exe", "/unattended")  # type: ignore[union-attr]
    assert [type(rule).__name__ for rule in plan.detect] == ["UninstallEntryRule", "FileRule"] and plan.detect[
        1
    ].path.endswith("sounder.exe")  # type: ignore[union-attr]
    assert "yendo try" not in (tried / "plan.toml").read_text()
    assert {finding.rule for finding in check(Workspace(tried))} == {"undecided"}


def test_a_recording_replays_in_the_proof(tried: Path) -> None:
    plan, _ = read(tried / "plan.toml")
    built = build.build(tried, plan)
    assert {"observed/install-1.json", "observed/uninstall-1.json"} <= {file.path for file in built.manifest.files}
    for scenario in ("desk", "system"):
        proof = prove(built.folder, SimulatedMachine(), scenario=scenario)
        assert proof.passed, [phase for phase in proof.phases if phase.outcome == "failed"]
        assert proof.comparison and any(
            "replayed from a run of 2026-11-23 on a layer" in spot for spot in proof.comparison.blind_spots
        )
    assert build.build(tried, plan).digest == built.digest


CHANGES = {
    "other arguments": (
        'arguments = "/unattended" # silent',
        'arguments = "/unattended /folder=x" # silent',
        "recording-stale",
    ),
    "no waiting": ('wait_for = ["sounder-worker.exe"]', "wait_for = []", "setup-returns-early"),
    "no recording": ('observed = "trial/observed-install.json"', "", "setup-untried"),
    "another medium": ('media = "sounder-setup.exe"', 'media = "sounder.exe"', "setup-missing"),
    "no answers": (
        'arguments = "/unattended" # silent',
        "arguments = '/s /f1\"{package}\\extras\\none.iss\"' # silent",
        "setup-missing",
    ),
}


@pytest.mark.parametrize(("old", "new", "rule"), CHANGES.values(), ids=CHANGES)
def test_what_checks_find(tried: Path, old: str, new: str, rule: str) -> None:
    text = (tried / "plan.toml").read_text()
    assert old in text
    (tried / "plan.toml").write_text(text.replace(old, new, 1))
    found = [finding for finding in check(Workspace(tried)) if finding.rule == rule]
    assert found and found[0].line > 1 and found[0].remedy


def test_a_stale_recording_stops_the_build(tried: Path) -> None:
    text = (tried / "plan.toml").read_text()
    (tried / "plan.toml").write_text(
        text.replace('arguments = "/unattended" # silent', 'arguments = "/other" # silent', 1)
    )
    with pytest.raises(Usage, match="try again"):
        build.build(tried, read(tried / "plan.toml")[0])


def test_a_missing_switch_that_reading_is_sure_of(tmp_path: Path) -> None:
    if not scripts.SAMPLE.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    draft.from_installer(tmp_path / "w", scripts.write(tmp_path, "uninstaller"))
    workspace = tmp_path / "w"
    assert "setup-not-silent" not in {finding.rule for finding in check(Workspace(workspace))}
    text = (workspace / "plan.toml").read_text()
    (workspace / "plan.toml").write_text(
        text.replace('arguments = "/S"', 'arguments = "/s"')
    )  # this one is told by its capital
    assert "setup-not-silent" in {finding.rule for finding in check(Workspace(workspace))}


def test_a_readable_setup_is_proved_without_a_recording(tmp_path: Path) -> None:
    """The simulated machine interprets the script, and its uninstaller's, itself."""
    if not scripts.SAMPLE.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    workspace = tmp_path / "w"
    draft.from_installer(workspace, scripts.write(tmp_path, "uninstaller"))
    plan, _ = read(workspace / "plan.toml")
    proof = prove(build.build(workspace, plan).folder, SimulatedMachine())
    assert proof.passed, [
        (phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"
    ]


def own_place(folder: Path) -> Path:
    """A draft for a real setup that installs into the folder it stands in, as it is."""
    if not scripts.SAMPLE.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    drafted = draft.from_installer(folder, scripts.SAMPLE)
    path = folder / "plan.toml"
    text = path.read_text()
    assert "Hand over" not in text and r"arguments = '/S /D=%ProgramFiles%\clam' # certain" in text
    assert drafted.defaults[0].startswith(r"install folder: %ProgramFiles%\clam;")
    assert [decision.partition(":")[0] for decision in drafted.decisions] == [
        "package.contact",
        "media.origin",
        "when.os",
    ]
    assert "path = '%ProgramFiles%\\clam'" in text and "it brings no uninstaller" in text
    assert not [finding for finding in check(Workspace(folder)) if finding.rule == "step-mistake"]
    return build.build(folder, read(path)[0]).folder


def test_a_setup_that_installs_beside_itself_gets_a_folder(tmp_path: Path) -> None:
    proof = prove(own_place(tmp_path / "w"), SimulatedMachine())
    assert proof.passed, [
        (phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"
    ]


@pytest.mark.wine
def test_the_drafted_folder_on_the_layer(tmp_path: Path, wine: WineMachine) -> None:
    """What is predicted is what the real stub does with the line that the runner expands."""
    if "32" not in wine.widths:
        missing("a layer for 32-bit programs", "apt-get install wine32")
    proof = prove(own_place(tmp_path / "w"), wine)
    assert proof.passed, [
        (phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"
    ]


def test_a_setup_with_a_place_of_its_own_keeps_it(tmp_path: Path) -> None:
    if not scripts.SAMPLE.exists():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    draft.from_installer(tmp_path / "w", scripts.write(tmp_path, "uninstaller"))
    assert "/D=" not in (tmp_path / "w" / "plan.toml").read_text()


def test_a_setup_that_nobody_knows_is_refused_by_the_simulation(yendo: Yendo, tmp_path: Path) -> None:
    yendo("draft", "w", SETUP)
    with (tmp_path / "w" / "plan.toml").open("a") as plan:
        plan.write("\n[[detect]]\nkind = \"file\"\npath = 'C:\\x'\n")
    assert "no-uninstall" in yendo("build", "w", expect=1).stdout
    yendo("build", "w", "--although", "no-uninstall=a trial will tell")
    told = " ".join(yendo("prove", "w", expect=1).stdout.split())
    assert "what it does is known only from a run" in told and "`yendo try`" in told


def test_an_exe_step_has_one_program(tried: Path) -> None:
    text = (tried / "plan.toml").read_text()
    (tried / "plan.toml").write_text(text.replace('media = "sounder-setup.exe"', "", 1))
    with pytest.raises(PlanError, match="exactly one of media and program"):
        read(tried / "plan.toml")


def test_nothing_is_taken_over_without_a_result(tmp_path: Path) -> None:
    draft.from_installer(tmp_path / "w", SETUP)
    keep = trial(tmp_path / "keep", SETUP)
    before = (tmp_path / "w" / "plan.toml").read_bytes()
    body = json.loads((keep / "evidence.json").read_text())
    body["trial"]["install"] = None
    (keep / "evidence.json").write_text(json.dumps(body))
    with pytest.raises(Usage, match="no silent command line"):
        setups.take_over(tmp_path / "w", keep)
    assert (tmp_path / "w" / "plan.toml").read_bytes() == before
    with pytest.raises(Usage, match="holds no trial"):
        setups.take_over(tmp_path / "w", tmp_path)


# --- recordings ---------------------------------------------------------------------------------------------------------


_NAMES = some.text(alphabet="abc xyz", min_size=1, max_size=8).map(str.strip).filter(bool)
_PLACES = some.sampled_from(
    [
        r"C:\Users\mara\AppData\Roaming",
        r"C:\Users\mara\Desktop",
        r"C:\Program Files",
        r"C:\Users\mara\AppData\Local\Temp",
    ]
)


@given(some.lists(some.tuples(_PLACES, _NAMES), min_size=1, max_size=8, unique=True))
def test_a_recording_fits_another_account(given_places: list[tuple[str, str]]) -> None:
    effects = [
        Effect("add", Shortcut(f"{place}\\{name}.lnk", f'"{place}\\{name}.exe"'), "observed")
        for place, name in given_places
    ]
    mine, other = windows("user").environment, windows("system").environment
    kept = portable(effects, mine)
    assert not any("mara" in str(effect) for effect in kept)
    assert list(settled(kept, mine)) == effects
    assert not any("mara" in str(msgspec.to_builtins(effect)) for effect in settled(kept, other))


@given(some.lists(some.sampled_from(PLACED), unique=True))
def test_a_replay_leads_to_the_same_state_twice(things: list[Any]) -> None:
    recording = Recording(
        media="",
        command="",
        exit_code=0,
        seconds=0,
        restart=False,
        machine="m",
        date="2026-01-01",
        account="user",
        effects=tuple(Effect("add", thing) for thing in things),
    )
    state = State()
    assert len(replay(recording, state, {})) == len(things)
    once = dict(state.items())
    assert replay(recording, state, {}) == [] and dict(state.items()) == once


# --- answer files -----------------------------------------------------------------------------------------------------


_WORD = some.text(alphabet="abcXYZ019 _", min_size=1, max_size=12).map(str.strip).filter(bool)


@given(
    some.lists(
        some.tuples(_WORD, some.dictionaries(_WORD.map(lambda word: "k" + word.replace(" ", "")), _WORD, max_size=4)),
        max_size=5,
        unique_by=lambda pair: pair[0].lower(),
    )
)
def test_answers_are_read_as_written(dialogs: list[tuple[str, dict[str, str]]]) -> None:
    product = "{82223415-1AAB-4701-9629-06E8DDB80BDA}"
    file = answers_exe.AnswerFile(
        "v7.00",
        tuple((f"{product}-{name}-0", {**given, "Result": "1"}) for name, given in dialogs),
        {"Name": "clam"},
        product,
    )
    text = answers_exe.write_answers(file)
    assert answers_exe.read_answers(text) == file and text.count("\r\n") == text.count("\n")


def test_what_is_wrong_with_answers() -> None:
    file = answers_exe.AnswerFile(
        "v7.00", (("Welcome-0", {"Result": "12"}), ("Folder-0", {}), ("Name-0", {"szName": "x"}))
    )
    wrong = answers_exe.check_answers(file)
    assert [text.partition(" ")[0] for text in wrong] == ["Welcome-0", "Folder-0", "Name-0"]
    assert answers_exe.check_answers(answers_exe.AnswerFile("v7.00", ()))
    with pytest.raises(Unreadable, match="not an answer file"):
        answers_exe.read_answers("[Something]\na=b\n")
    assert answers_exe.result_of("[ResponseResult]\nResultCode=-5\n") == -5 and answers_exe.result_of("no log") is None


@given(some.binary(max_size=5000), _WORD)
def test_folding_is_undone(data: bytes, name: str) -> None:
    folded = answers.fold(data, name)
    assert answers.unfold(folded, name, 0, True) == data
    assert answers.unfold(folded[1024:], name, 1024, True) == data[1024:]


def test_engines_round_a_database_and_with_a_script(yendo: Yendo) -> None:
    if not scripts.SAMPLES.is_dir():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    round_one = programs.account(scripts.SAMPLES / "clam_ISmsi_int.exe")
    assert (
        round_one.silent.uninstall
        and round_one.silent.uninstall.confidence == "certain"
        and len(round_one.effects) == 11
    )
    scripted = json.loads(yendo("read", scripts.SAMPLES / "clam_IScab_int.exe", "--json").stdout)
    assert scripted["identity"]["name"] == "clam" and scripted["identity"]["version"] == "1.00.0000"
    assert scripted["effects"]["counts"]["file"] == 23 and scripted["effects"]["counts"]["registry"] > 1000
    away = scripted["silent"]["uninstall"]
    assert away["confidence"] == "to be tried" and "-l0x9 -removeonly /s /sms" in away["command"]
    assert any("compiled" in spot["why"] for spot in scripted["blind_spots"])
    assert any("ResultCode" in aspect["value"] for aspect in scripted["behaviour"])
    assert scripted["behaviour"][1]["value"].startswith("11.0.0.28844,") and "90563" in str(round_one.behaviour)


def test_a_header_of_cabinets_that_lies() -> None:
    """Its groups and its product, and damaged ones: read or refused, never for long."""
    if not scripts.SAMPLES.is_dir():
        missing("clamav-testfiles", "apt-get install clamav-testfiles")
    with (scripts.SAMPLES / "clam_IScab_int.exe").open("rb") as file:
        reading = programs.Reading(file, "clam_IScab_int.exe")
        record = next(one for one in reading.found.what.records if one.name.lower() == "data1.hdr")
        header = b"".join(answers.pieces(file, record))
    good = answers.medium(header)
    assert (good.name, good.company, good.version) == ("clam", "ClamAV", "1.00.0000")
    assert [(one.first, one.last) for one in good.groups if one.target == "<TARGETDIR>"] == [(28, 28)]
    chance, read = random.Random(9), 0
    for _ in range(3000):
        data = bytearray(header)
        for _ in range(chance.randint(1, 20)):
            data[chance.randrange(512, len(data))] = chance.randrange(256)
        begun = time.monotonic()
        try:
            read += bool(answers.medium(bytes(data[: chance.choice([len(data), chance.randrange(len(data))])])))
        except (Unreadable, NotCovered):
            pass
        assert time.monotonic() - begun < 5
    assert read > 100
    with pytest.raises(NotCovered):
        answers.medium(header[:4] + (0x01005000).to_bytes(4, "little") + header[8:])


_PLAIN = some.text(alphabet="abcXYZ{}=-. 0'\\", min_size=1, max_size=8).filter(
    lambda text: text.strip() not in ("", "{", "}", "=")
)


@given(
    some.recursive(
        some.dictionaries(_PLAIN, some.tuples(some.sampled_from("sdb"), some.none()), max_size=3),
        lambda inner: some.dictionaries(_PLAIN, some.tuples(some.just("s"), inner), max_size=3),
    )
)
def test_a_registrar_script_says_what_was_written(tree: dict[str, Any]) -> None:
    """Keys with a value each, however named, come back in their order."""

    def quoted(text: str) -> str:
        return "'" + text.replace("'", "''") + "'"

    data = {"s": ("a 'text' {1}", "sz", "a 'text' {1}"), "d": ("&H2a", "dword", 42), "b": ("00FF", "binary", "00ff")}
    wanted: list[tuple[str, str, Any]] = []

    def write(tree: dict[str, Any], above: str) -> str:
        out = ""
        for name, (kind, inner) in tree.items():
            key = f"{above}\\{name}" if above else name
            text, type_, value = data[kind]
            wanted.append((key, type_, value))
            out += f"NoRemove {quoted(name)} = {kind} {quoted(text)}\n"
            if inner:
                out += "{ " + write(inner, key) + " }\n"
        return out

    script = "HKCR\n{\n" + write(tree, "") + "}\n"
    found = registrar.parse(script)
    assert [(one.key, one.type, one.data) for one in found if one.name is not None] == wanted


@given(some.text(alphabet="HKCR{}='sval d\n x1", max_size=80))
def test_a_damaged_registrar_script_is_refused(text: str) -> None:
    try:
        registrar.parse(text)
    except Unreadable:
        pass


def test_a_later_form_is_recognised_and_said(tmp_path: Path) -> None:
    path = tmp_path / "later.exe"
    path.write_bytes(specimens.program(behind=answers.LATER_MARK + bytes(200)))
    account = programs.account(path)
    assert account.family == "answers-exe" and "later form" in str(account.why["family"])


def retold(keep: Path, purpose: str, command: str) -> None:
    """Another command line in the evidence and the recording of a purpose."""
    body = json.loads((keep / "evidence.json").read_text())
    run = next(run for run in body["trial"]["runs"] if run["purpose"] == purpose)
    run["command"] = body["trial"][purpose] = command
    (keep / "evidence.json").write_text(json.dumps(body))
    recording = json.loads((keep / f"observed-{purpose}.json").read_text()) | {"command": command}
    (keep / f"observed-{purpose}.json").write_text(json.dumps(recording))


def test_recorded_answers_travel_with_the_package(tmp_path: Path) -> None:
    workspace = tmp_path / "w"
    draft.from_installer(workspace, SETUP)
    keep = trial(workspace / "trial", SETUP, early=False)
    retold(keep, "install", f'"{SETUP.name}" /s /sms /f1"C:\\Hand over\\answers.iss" /f2"C:\\Hand over\\answers.log"')
    body = json.loads((keep / "evidence.json").read_text())
    body["trial"]["recorded_answers"] = "answers.iss"
    (keep / "evidence.json").write_text(json.dumps(body))
    (keep / "answers.iss").write_text("[X Silent]\nVersion=v7.00\n")
    setups.take_over(workspace, keep)
    plan, _ = read(workspace / "plan.toml")
    assert plan.install[0].arguments == r'/s /sms /f1"{package}\extras\answers.iss" /f2"{logs}\answers.log"'  # type: ignore[union-attr]
    assert not plan.install[0].wait_for  # type: ignore[union-attr]
    built = build.build(workspace, plan)
    assert (built.folder / "extras" / "answers.iss").read_text().startswith("[X Silent]")
    proof = prove(built.folder, SimulatedMachine())
    assert proof.passed, [(phase.title, phase.found) for phase in proof.phases if phase.outcome == "failed"]


def test_a_product_that_a_setup_installed_is_removed_by_its_code(tmp_path: Path) -> None:
    """The removal is the Windows Installer's; the simulated machine replays it, since it never saw the database."""
    code = "{6C1E0F0A-9F0D-4E0B-9E4B-0C2C5C2B6A01}"
    workspace = tmp_path / "w"
    draft.from_installer(workspace, SETUP)
    keep = trial(workspace / "trial", SETUP)
    retold(keep, "uninstall", f"msiexec /x {code} /qn /norestart")
    setups.take_over(workspace, keep)
    plan, _ = read(workspace / "plan.toml")
    removal = plan.uninstall[0]
    assert (removal.product, removal.observed) == (code, "trial/observed-uninstall.json")  # type: ignore[union-attr]
    assert prove(build.build(workspace, plan).folder, SimulatedMachine()).passed
    text = (workspace / "plan.toml").read_text()
    (workspace / "plan.toml").write_text(text.replace(code, code.replace("6C1E", "7777"), 1))
    assert "recording-stale" in {finding.rule for finding in check(Workspace(workspace))}


def test_a_folder_is_no_setup_to_try(yendo: Yendo, tmp_path: Path) -> None:
    (tmp_path / "share").mkdir()
    assert "is no file" in yendo("try", "share", expect=2).stderr
    assert (
        "is not there" in yendo("read", "share/none.exe", expect=2).stderr
        or "No such file" in yendo("read", "share/none.exe", expect=2).stderr
    )


def test_what_lies_beside_a_setup_comes_along_when_it_is_asked_for(yendo: Yendo, tmp_path: Path) -> None:
    """Nobody can read what such a setup needs, so that is said; subfolders keep their form."""
    share = tmp_path / "share"
    (share / "data").mkdir(parents=True)
    shutil.copyfile(SETUP, share / "setup.exe")
    (share / "settings.ini").write_text("[tide]")
    (share / "data" / "one.dat").write_text("one")
    said = " ".join(yendo("draft", "w", share / "setup.exe").stdout.split())
    assert "whether they are needed is not known" in said and "settings.ini" in said
    yendo("draft", "v", share / "setup.exe", "--take", "*.ini", "--take", "data")
    plan = read(tmp_path / "v" / "plan.toml")[0]
    assert {medium.file for medium in plan.media} == {"setup.exe", "settings.ini", "data/one.dat"}
    assert (tmp_path / "v" / "media" / "data" / "one.dat").read_text() == "one"
    assert "nothing beside" in yendo("draft", "u", share / "setup.exe", "--take", "none", expect=2).stderr
