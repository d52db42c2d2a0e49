"""Drivers: ``.inf`` held against the layer's own reader, catalogues against osslsigncode and real ones, ranking against its order."""

from __future__ import annotations

import gzip
import itertools
import json
import os
import random
import shutil
import subprocess
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import family_specimens
import pytest
import samples
from conftest import Yendo, missing, parsed, unix
from driver_specimens import NOW, contents, folder, signer
from hypothesis import given, settings
from hypothesis import strategies as some
from specimens import Specimen
from test_signing import authority

from yendo.demo import drivers as demo
from yendo.drivers import ranking, reading, share, target
from yendo.drivers.driver import Device, Driver, DriverTrust
from yendo.drivers.target import DriverTarget
from yendo.effects import State
from yendo.effects.things import Part
from yendo.errors import NotCovered, Unreadable
from yendo.formats import inf as form
from yendo.formats import security_catalogue
from yendo.formats.inf import Inf
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build, carry
from yendo.package import manifest as package_form
from yendo.plan import read
from yendo.prove.prove import prove
from yendo.terms.rules import DriverRule, Sight

assert authority  # a fixture
MICROSOFT = ("1.3.6.1.4.1.311.10.3.5", "1.3.6.1.5.5.7.3.3")
ATTESTED = (*MICROSOFT, "1.3.6.1.4.1.311.10.3.5.1")
NEW = DriverTarget((10, 0, 26100), "x64", title="Windows 11 24H2")
VERIFIER = shutil.which("osslsigncode")


def faults(path: Path, windows: DriverTarget = NEW, **more: Any) -> list[str]:
    return [finding.id for finding in reading.read(path, windows, **more).findings if finding.level == "error"]


# --- the text ---------------------------------------------------------------------------------------------------------

RULES = r"""
; before any section
lost = 1
[Version] ; behind it
Provider=%Tidewell% , second
quoted = "a ""b"" ; , = c" , plain ;comment
long = one, \
   two , \
   "three\"
sole
"with space"="%Name%", %missing%, 50%%, %13%
[VERSION]
again = yes
[strings]
Tidewell = "Tidewell; Marrowby"
name=neutral
[Strings.0007]
Name = deutsch
[Strings.0c07]
Name = österreichisch
"""


def test_the_text() -> None:
    inf = Inf(RULES)
    lines = {line.key: line.values for line in inf.lines("version")}
    assert lines["Provider"] == ("Tidewell; Marrowby", "second")
    assert lines["quoted"] == ('a "b" ; , = c', "plain")
    assert lines["long"] == ("one", "two", "three\\")
    assert lines["sole"] == ("sole",) and lines["again"] == ("yes",)
    assert lines["with space"] == ("neutral", "%missing%", "50%", "%13%")
    assert [Inf(RULES, language=code).expand("%NAME%") for code in (0x407, 0xC07, 0x409)] == [
        "deutsch",
        "österreichisch",
        "neutral",
    ]
    assert inf.languages == [0x0007, 0x0C07]
    for data in (
        RULES.encode("utf-16"),
        b"\xfe\xff" + RULES.encode("utf-16-be"),
        RULES.encode("utf-8-sig"),
        RULES.encode("utf-16-le"),
        RULES.encode("cp1252"),
    ):
        assert Inf(form.decode(data)).sections == inf.sections


def _generated(chance: random.Random) -> str:
    """A file with everything that the documentation allows of lines."""
    words = [
        "gauge",
        "a b",
        '"a, b"',
        '"say ""x"""',
        "%Name%",
        '"%Name% ; x"',
        "0x10",
        "",
        "%%",
        'x"y z"w',
        "USB\\VID_FFFE&PID_0021",
        "'",
    ]
    lines = ["[Version]", 'Signature = "$Windows NT$"', "[Strings]", 'Name = "Tide, gauge"', "Other = x ; y"]
    for number in range(chance.randrange(2, 8)):
        lines.append(f"[Part{chance.choice(['', '.NT', '.NTamd64'])}{number}]{chance.choice(['', ' ; said'])}")
        for at in range(chance.randrange(0, 7)):
            values = [chance.choice(words) for _ in range(chance.randrange(1, 5))]
            joined = chance.choice([", ", ",", " , ", ", \\\n   "]).join(values)
            key = chance.choice([f"key{at} = ", f"Key{at}=", f'"k {at}" = ', "" if len(values) > 1 else f"k{at} = "])
            lines.append(chance.choice(["", "  ", "\t"]) + key + joined + chance.choice(["", " ; comment", ";"]))
    return "\r\n".join("\n".join(lines).split("\n")) + "\r\n"


@pytest.mark.wine
def test_the_layers_own_reader_finds_the_same(tmp_path: Path) -> None:
    python = os.environ.get("YENDO_WINPYTHON", "")
    if not python or not Path(python).exists():
        missing("a Windows Python", "name one by YENDO_WINPYTHON (shared/tools/windows-python/setup makes one)")
    paths = [tmp_path / f"{seed}.inf" for seed in range(60)]
    for seed, path in enumerate(paths):
        path.write_bytes(_generated(random.Random(seed)).encode("cp1252"))
    for number, source in enumerate(REAL):
        paths.append(tmp_path / f"real{number}.inf")
        paths[-1].write_bytes(gzip.decompress(source.read_bytes()) if source.suffix == ".gz" else source.read_bytes())
    script = tmp_path / "told.py"
    shutil.copy(Path(__file__).with_name("inf_by_the_layer.py"), script)
    environment = {key: value for key, value in os.environ.items() if key != "PYTHONPATH"}
    names = ["Z:" + str(path).replace("/", "\\") for path in (script, *paths)]
    done = subprocess.run([python, *names], capture_output=True, env=environment, timeout=200, check=True)
    different, compared = [], 0
    for path, line in zip(paths, done.stdout.decode().splitlines(), strict=True):
        theirs, ours = json.loads(line), form.read(path, language=0x409)
        assert set(theirs["sections"]) == set(ours.sections), path
        for section, lines in theirs["sections"].items():
            compared += len(lines)
            mine = [[known.key, list(known.values)] for known in ours.lines(section)]
            # the system puts folders in where they stand for themselves; here they stay numbers
            if mine != lines and not any("%1" in value for known in ours.lines(section) for value in known.values):
                different.append((path.name, section, mine, lines))
        for name, chosen in theirs["chosen"].items():
            plain = name.partition(".")[0]
            mine_chosen = next((plain + end for end in target.endings(DriverTarget()) if ours.has(plain + end)), None)
            if plain == name and mine_chosen != chosen:
                different.append((path.name, name, [[mine_chosen]], [[chosen]]))
    assert different == [] and compared > 500


# --- which section ----------------------------------------------------------------------------------------------------

OLD, SERVER = DriverTarget((10, 0, 17763), "x64"), DriverTarget((10, 0, 20348), "x64", 3, 0x110)
CHOICES = [
    (["", "NT", "NTx86"], NEW, None),  # 64 bits never take one without their processor
    (["", "NTamd64"], NEW, "NTamd64"),
    (["NTamd64", "NTarm64"], DriverTarget(architecture="arm64"), "NTarm64"),
    (["NTamd64.6.1", "NTamd64.10.0", "NTamd64.11.0"], NEW, "NTamd64.10.0"),
    (["NTamd64.10.0...17763", "NTamd64.10.0...22000"], NEW, "NTamd64.10.0...22000"),
    (["NTamd64.10.0...17763", "NTamd64.10.0...22000"], OLD, "NTamd64.10.0...17763"),
    (["NTamd64.10.0...22000"], OLD, None),
    (["NTamd64", "NTamd64...3"], NEW, "NTamd64"),
    (["NTamd64", "NTamd64...3"], SERVER, "NTamd64...3"),
    (["NTamd64...1", "NTamd64...2"], SERVER, None),
    (["NTamd64", "NTamd64....0x10"], SERVER, "NTamd64....0x10"),
    (["NTamd64", "NTamd64....0x80"], SERVER, "NTamd64"),
    (["NTamd64.6.1..3", "NTamd64.10.0"], SERVER, "NTamd64.10.0"),
    (["", "NT"], DriverTarget(architecture="x86"), ""),
    (["NTx86.10.0", ""], DriverTarget(architecture="x86"), "NTx86.10.0"),
    (["NTmips"], NEW, None),
    (["NTamd64.ten"], NEW, None),
]


@pytest.mark.parametrize(("endings", "windows", "wanted"), CHOICES)
def test_the_section_that_a_windows_takes(endings: list[str], windows: DriverTarget, wanted: str | None) -> None:
    assert target.chosen(endings, windows) in ({wanted, "NT"} if wanted == "" else {wanted})


# --- real ones --------------------------------------------------------------------------------------------------------

SERIAL = next(
    (
        path
        for path in (samples.SAMPLES / "qemupciserial.inf", Path("/usr/share/doc/qemu-system-data/qemupciserial.inf"))
        if path.exists()
    ),
    None,
)
REAL = [
    path
    for path in (
        *Path("/usr/share/doc").glob("linux-doc-*/Documentation/usb/*.inf.gz"),
        Path("/usr/share/wine/wine.inf"),
    )
    if path.exists()
]


def test_files_of_other_people(tmp_path: Path) -> None:
    if SERIAL is None:
        missing("an .inf of other people's making", "apt-get install qemu-system-data")
        return
    for source in (SERIAL, *REAL):
        path = tmp_path / source.name.removesuffix(".gz")
        path.write_bytes(gzip.decompress(source.read_bytes()) if source.suffix == ".gz" else source.read_bytes())
        reading.read(path)
    serial = reading.read(tmp_path / "qemupciserial.inf")
    assert [device.hardware for device in serial.devices] == [rf"PCI\VEN_1B36&DEV_000{number}" for number in (2, 3, 4)]
    assert serial.architectures == ("x64", "x86") and serial.system == ("mf.inf",) and serial.version == "1.3.0"


@pytest.mark.wine
def test_a_catalogue_of_other_people() -> None:
    """The Windows Python's own: who signed it, when, and as many digests as its list is long."""
    python = os.environ.get("YENDO_WINPYTHON", "")
    path = Path(python).parents[1] / "python" / "python.cat" if python else Path()
    if not path.is_file():
        missing("a Windows Python", "name one by YENDO_WINPYTHON (shared/tools/windows-python/setup makes one)")
    raw = path.read_bytes()
    listed = security_catalogue.parse(raw)
    assert listed.version == 2 and len(listed.members) > 4000
    again = security_catalogue.parse(_signed_again(raw, listed))
    assert again == listed
    from yendo.installers.judging import judged_message

    judged = judged_message(raw, None, path.name)
    assert judged.problems == () and judged.seen and len(judged.above) >= 2
    at = raw.index(listed.members[7].digest)
    altered = judged_message(raw[:at] + bytes([raw[at] ^ 1]) + raw[at + 1 :], None, path.name)
    assert any("other content" in problem for problem in altered.problems)


def _signed_again(raw: bytes, listed: security_catalogue.SecurityCatalogue) -> bytes:
    import datetime

    from yendo.package.signing import list_message

    written = security_catalogue.build(listed.members, listed.attributes, datetime.datetime.fromisoformat(listed.made))
    from asn1crypto import cms

    theirs = cms.ContentInfo.load(raw)["content"]["encap_content_info"]["content"].contents
    ours = written[4:] if written[1] == 0x82 else written[5:]
    assert (
        len(ours) == len(theirs) and sum(one != other for one, other in zip(ours, theirs, strict=True)) <= 16
    )  # its random number
    return list_message(signer(), written, None, "again")


@pytest.mark.skipif(
    not os.environ.get("YENDO_DRIVER"), reason="YENDO_DRIVER names a folder with a driver that Microsoft signed"
)
def test_a_driver_that_microsoft_signed() -> None:
    found = share.read(Path(os.environ["YENDO_DRIVER"]))
    assert found.troubles == {}
    for driver in found.drivers.values():
        assert driver.trust.state == "holds" and driver.trust.by.startswith("microsoft-") and driver.trust.seen
        assert driver.trust.uncovered == driver.trust.altered == ()


# --- catalogues -------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(0, 200, 1 if os.environ.get("YENDO_THOROUGH") else 10))
def test_whole_and_changed(tmp_path: Path, seed: int) -> None:
    """Half of them whole; of the others one byte of one file is changed, of a program's or another's, or of the ``.inf``."""
    chance = random.Random(seed)
    inf = folder(tmp_path / "d", contents(chance), who=signer(uses=MICROSOFT))
    names = sorted(path.name for path in inf.parent.iterdir() if path.suffix != ".cat")
    altered = names[seed // 2 % len(names)] if seed % 2 else ""
    if altered:
        data = bytearray((inf.parent / altered).read_bytes())
        data[-1] ^= 1
        (inf.parent / altered).write_bytes(data)
    found = reading.read(inf, NEW)
    assert found.trust.state == "holds" and found.trust.altered == ((altered,) if altered else ())
    assert [finding.id for finding in found.findings if finding.level == "error"] == (["edited"] if altered else [])
    if VERIFIER and seed % 20 < 2:
        root = tmp_path / "root.pem"
        _pem(inf.parent / "gauge.cat", root)
        for name in names:
            if name.endswith(".sys"):  # it takes programs, and no other files
                words = [
                    VERIFIER,
                    "verify",
                    "-CAfile",
                    root,
                    "-catalog",
                    inf.parent / "gauge.cat",
                    "-in",
                    inf.parent / name,
                ]
                said = subprocess.run(words, capture_output=True, text=True).stdout
                assert ("Signature verification: ok" in said) == (name != altered), said


def _pem(catalogue: Path, to: Path) -> None:
    """The authority's certificate out of a catalogue."""
    from asn1crypto import cms, pem

    certificates = cms.ContentInfo.load(catalogue.read_bytes())["content"]["certificates"]
    for choice in certificates:
        if choice.chosen.subject == choice.chosen.issuer:
            to.write_bytes(pem.armor("CERTIFICATE", choice.chosen.dump()))


def test_who_signed_and_when(tmp_path: Path, authority: str) -> None:
    files = {"gauge.sys": contents(random.Random(1))["gauge.sys"]}
    assert faults(folder(tmp_path / "none", files)) == ["unsigned"]
    assert faults(folder(tmp_path / "test", files, who=signer("WDK Test Certificate"))) == ["test-signed"]
    assert faults(folder(tmp_path / "ended", files, who=signer(ended=True, uses=MICROSOFT))) == ["expired"]
    assert faults(folder(tmp_path / "publisher", files, who=signer())) == ["not-loaded"]
    assert faults(folder(tmp_path / "old", files, who=signer()), DriverTarget((6, 1, 7601))) == []
    assert faults(folder(tmp_path / "user", files, who=signer(), service=16)) == []
    attested = folder(tmp_path / "attested", files, who=signer(uses=ATTESTED))
    assert faults(attested) == [] and faults(attested, SERVER) == ["attested-on-server"]
    certified = folder(tmp_path / "certified", files, who=signer(uses=MICROSOFT))
    assert faults(certified, SERVER) == []
    assert [finding.id for finding in reading.read(certified).findings] == ["unknown-key"]  # a name alone is nobody's
    stamped = folder(tmp_path / "stamped", files, who=signer(uses=MICROSOFT), stamp=authority)
    later = NOW.replace(year=NOW.year + 3)
    assert faults(stamped, now=later) == [] and faults(certified, now=later) == ["expired"]
    raw = bytearray((certified.parent / "gauge.cat").read_bytes())
    raw[-3] ^= 1
    (certified.parent / "gauge.cat").write_bytes(raw)
    assert faults(certified) == ["broken-signature"]
    (certified.parent / "gauge.cat").write_bytes(b"a stand-in for the catalogue")
    assert faults(certified) == ["unreadable-catalogue"]
    (certified.parent / "gauge.cat").unlink()
    assert faults(certified) == ["unsigned"]
    (attested.parent / "gauge.sys").unlink()
    assert faults(attested) == ["missing-file"]


def test_a_signer_with_a_comma_in_its_name(tmp_path: Path) -> None:
    inf = folder(tmp_path / "d", {"gauge.sys": b"x"}, who=signer("Marrowby, Harbour"))
    assert reading.read(inf).trust.chain == ("Marrowby, Harbour", "Tidewell Authority")


def test_without_the_library_for_signatures(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Who signed is told all the same, and what the catalogue lists is held against the files."""

    def absent(*_: object) -> None:
        raise ImportError("cryptography")

    monkeypatch.setattr("yendo.drivers.trust.judged_message", absent)
    inf = folder(tmp_path / "d", {"gauge.sys": b"x"}, who=signer())
    found = reading.read(inf, NEW)
    assert (found.trust.state, found.trust.signer) == ("not judged", "Tidewell") and len(found.trust.covered) == 2
    assert [finding.id for finding in found.findings] == ["not-judged"]
    (inf.parent / "gauge.sys").write_bytes(b"y")
    assert faults(inf) == ["edited"]


def test_what_else_is_found(tmp_path: Path) -> None:
    files = {"gauge.sys": contents(random.Random(1))["gauge.sys"]}
    who = signer(uses=MICROSOFT)
    narrow = bytearray(files["gauge.sys"])
    at = int.from_bytes(narrow[60:64], "little") + 4
    narrow[at : at + 2] = (0xAA64).to_bytes(2, "little")
    assert faults(folder(tmp_path / "narrow", {"gauge.sys": bytes(narrow)}, who=who)) == ["wrong-program"]
    assert faults(folder(tmp_path / "arm", files, who=who, decoration="NTarm64")) == ["other-processor"]
    assert faults(folder(tmp_path / "new", files, who=who, decoration="NTamd64.10.0...30000")) == ["other-windows"]
    firmware = folder(
        tmp_path / "firmware", files, who=who, setup_class="Firmware", class_id="{f2e7dd72-6468-4e36-b6f1-6488f42c1b52}"
    )
    assert "firmware" in [finding.id for finding in reading.read(firmware, NEW).findings]
    told = folder(
        tmp_path / "told",
        files,
        who=who,
        to=12,
        more="AddReg = Values\nDelFiles = Copied\n[Values]\nHKLM,Software\\Tidewell,A,,x",
    )
    assert reading.read(told).isolated == (
        r"copies into %SystemRoot%\System32\drivers",
        "writes below HKLM",
        "deletes files",
    )
    assert reading.read(folder(tmp_path / "kept", files, who=who)).isolated == ()


def test_another_file_that_it_builds_on(tmp_path: Path) -> None:
    files = {"gauge.sys": contents(random.Random(1))["gauge.sys"]}
    inf = folder(tmp_path / "d", files, more="Include = base.inf, machine.inf\nNeeds = Base")
    (inf.parent / "base.inf").write_text("[Version]\nSignature=x\n[Base.NT]\nAddReg = Told\n[Told]\nHKR,,Depth,,7\n")
    found = reading.read(inf)
    assert found.registry == (r"HKR\Depth",) and found.system == ("machine.inf",)


@pytest.mark.parametrize(
    "data", [b"", b"[", b"=\n" * 9, b"[a]\n\\\n\\\n", b'[a]\n"', b"\xff\xfe[\0", b"[Version]\nDriverVer=99/99/2026,x\n"]
)
def test_damaged_ones(tmp_path: Path, data: bytes) -> None:
    path = tmp_path / "x.inf"
    path.write_bytes(data)
    assert reading.read(path).devices == ()
    with pytest.raises(Unreadable):
        security_catalogue.parse(data)


def test_large_and_wicked_ones_end_soon(tmp_path: Path) -> None:
    """Lines that go on for ever, as many files as lines, sections that need one another."""
    begun = time.monotonic()
    Inf("[Version]\r\n" + "a \\\r\n" * 200_000)
    names = [f"f{number}.sys" for number in range(4_000)]
    many = folder(tmp_path / "many", {}, more="")
    text = many.read_text().replace(
        "[SourceDisksFiles]", "[SourceDisksFiles]\n" + "\n".join(f"{name} = 1" for name in names)
    )
    many.write_text(text.replace("[Copied]", "[Copied]\n" + "\n".join(names)))
    assert len(reading.read(many).files) == 4_000
    needs = "\n".join(
        f"[S{number}.NT]\nInclude = loop.inf\nNeeds = " + ",".join(f"S{other}" for other in range(60))
        for number in range(60)
    )
    loop = folder(tmp_path / "loop", {}, more="Include = loop.inf\nNeeds = S0")
    (loop.parent / "loop.inf").write_text("[Version]\nSignature=x\n" + needs)
    reading.read(loop)
    assert time.monotonic() - begun < 20


@unix
def test_what_is_no_file(tmp_path: Path, yendo: Yendo) -> None:
    """A pipe would wait for ever, a link is another's; beside a driver both are passed over."""
    for name in ("x.inf", "x.cat"):
        os.mkfifo(tmp_path / name)
        assert "no file to read" in yendo("read", name, expect=2).stderr
    assert "no such" in yendo("read", "none.inf", expect=None).stderr.lower()
    (tmp_path / "y.cat").write_bytes(b"nothing")
    assert "y.cat" in yendo("read", "y.cat", expect=3).stderr
    inf = folder(tmp_path / "d", {"gauge.sys": b"x"})
    os.mkfifo(inf.parent / "pipe")
    (inf.parent / "gauge.sys").unlink()
    (inf.parent / "gauge.sys").symlink_to("/etc/passwd")
    assert faults(inf) == ["missing-file", "unsigned"]


# --- which one wins ---------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Case:
    better: dict[str, Any]
    worse: dict[str, Any]


NEAR, FAR, CLASS, OTHER = r"USB\VID_FFFE&PID_0021&REV_0200", r"USB\VID_FFFE&PID_0021", r"USB\Class_02", r"USB\Class_FF"
WANTED = ranking.DeviceIdentifiers((NEAR, FAR), (CLASS, OTHER))
CASES = [
    Case({"date": "2020-01-01"}, {"signed": False, "date": "2026-01-01"}),
    Case({"signed": True, "by": "publisher", "date": "2026-02-01"}, {"by": "microsoft-certified"}),  # signers count the same
    Case({"feature": 10, "identifiers": (FAR,)}, {"identifiers": (NEAR,)}),
    Case({"identifiers": (NEAR,)}, {"identifiers": (FAR,), "date": "2026-02-02"}),
    Case({"identifiers": (FAR,)}, {"identifiers": ("x", NEAR)}),  # as hardware identifier before a compatible one
    Case({"identifiers": ("x", FAR)}, {"identifiers": (CLASS,)}),
    Case({"identifiers": (CLASS,)}, {"identifiers": ("x", CLASS)}),
    Case({"identifiers": ("x", CLASS)}, {"identifiers": ("x", OTHER)}),
    Case({"date": "2026-02-02", "version": "1.0.0.0"}, {"version": "9.0.0.0"}),
    Case({"version": "2.10.0.0"}, {"version": "2.9.9.9"}),
]  # fmt: skip


def made(path: str, *, signed: bool = True, by: str = "publisher", feature: int = 255, identifiers: tuple[str, ...] = (FAR,), date: str = "2026-01-01",
         version: str = "1.0.0.0", extension: str = "") -> Driver:  # fmt: skip
    hardware, *compatible = identifiers
    device = Device("Gauge", hardware, tuple(compatible), "Install", 1)
    held = DriverTrust("holds" if signed else "none", by=by)
    return Driver("gauge.inf", path, "", path, "", "Extension" if extension else "Ports", "", "", "", "Tidewell", date, version, ("x64",), (), (device,),
                  (), (), (), (), (), (), (), feature, extension, held)  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_each_rule_of_the_order(case: Case) -> None:
    for first, second in (
        (made("a", **case.better), made("b", **case.worse)),
        (made("b", **case.better), made("a", **case.worse)),
    ):
        found = ranking.rank([second, first], WANTED)
        assert [one.driver for one in found.base] == [first, second], ranking.why(found.base[0], found.base[1])
        assert "either" not in ranking.why(*found.base)


def test_extensions_are_chosen_beside() -> None:
    drivers = [
        made("a"),
        made("e1", extension="{1}"),
        made("e2", extension="{1}", version="2.0.0.0"),
        made("e3", extension="{2}"),
    ]
    found = ranking.rank(drivers, WANTED)
    assert [one.driver.path for one in found.base] == ["a"] and [one.driver.path for one in found.extensions] == [
        "e2",
        "e3",
    ]
    assert ranking.rank(drivers, ranking.DeviceIdentifiers(("PCI\\X",))) == ranking.Ranking((), ())


PARTS = some.fixed_dictionaries({
    "signed": some.booleans(), "feature": some.sampled_from((0, 10, 255)), "date": some.sampled_from(("", "2020-01-01", "2026-01-01")),
    "version": some.sampled_from(("", "1.0", "1.0.0.1", "2.0.0.0")), "identifiers": some.lists(some.sampled_from((NEAR, FAR, CLASS, OTHER, "x")), min_size=1, max_size=3).map(tuple),
})  # fmt: skip


@settings(max_examples=10_000 if os.environ.get("YENDO_THOROUGH") else 100, deadline=None)
@given(some.lists(PARTS, max_size=6), some.randoms())
def test_no_better_one_ever_loses(parts: list[dict[str, Any]], chance: random.Random) -> None:
    """Whatever the order in which they are given: the same, and each is at least as good as the next in what comes first."""
    drivers = [made(str(number), **part) for number, part in enumerate(parts)]
    found = ranking.rank(drivers, WANTED).base
    chance.shuffle(drivers)
    assert ranking.rank(drivers, WANTED).base == found
    for better, worse in itertools.pairwise(found):
        assert (better.signed, better.feature, better.match, better.place) <= (
            worse.signed,
            worse.feature,
            worse.match,
            worse.place,
        )
        if better.order[:4] == worse.order[:4]:
            assert better.driver.date >= worse.driver.date


# --- a share, and the commands ----------------------------------------------------------------------------------------


def test_a_share(tmp_path: Path, yendo: Yendo) -> None:
    demo.share(tmp_path / "drivers")
    (tmp_path / "drivers" / "broken").mkdir()
    (tmp_path / "drivers" / "broken" / "x.inf").write_bytes(b"\0" * (form.MAX_SIZE + 1))
    done = yendo("read", "drivers", "--csv", "all.csv", expect=1)
    for words in ("5 drivers, held against Windows 10 22H2, x64", "from-the-quay/tidegauge/tidegauge.inf = tidegauge-2.1/tidegauge.inf",
                  "other-processor", "unsigned", "broken/x.inf: x.inf is larger"):  # fmt: skip
        assert words in " ".join(done.stdout.split()), words
    assert len((tmp_path / "all.csv").read_text("utf-8-sig").splitlines()) == 7
    told = json.loads(yendo("read", "drivers", "--json", "--for", "arm64", "--windows", "11-24h2", expect=1).stdout)
    assert {row["path"]: row["devices"] for row in told["rows"]}["tidegauge-2.1-arm64/tidegauge.inf"] == 2
    assert len(told["older"]) == 3 and told["claims"] == {}
    won = yendo("read", "drivers", "--device", f"{demo.DEVICE}&REV_0200,{demo.DEVICE}").stdout
    assert (
        won.index("from-the-quay") < won.index("tidegauge-2.1/") < won.index("tidegauge-1.4/") < won.index("2.2-beta")
    )
    assert "that one is signed, this one is not" in won and "the same bytes" in won and "may still win" in won
    assert "none of these is for it" in yendo("read", "drivers", "--device", "PCI\\X", expect=1).stdout


def test_a_set_for_a_start_up_image(tmp_path: Path, yendo: Yendo) -> None:
    """By class; not what is older, double, for another processor or unsigned. Nothing is written over what is there."""
    who, network = signer(uses=MICROSOFT), {"setup_class": "Net", "class_id": "{4d36e972-e325-11ce-bfc1-08002be10318}"}
    files = {"gauge.sys": contents(random.Random(1))["gauge.sys"]}
    folder(tmp_path / "s" / "new", files, who=who, **network)
    folder(tmp_path / "s" / "old", files, who=who, version="1.0.0.0", date="01/01/2020", **network)
    shutil.copytree(tmp_path / "s" / "new", tmp_path / "s" / "other place")
    folder(tmp_path / "s" / "arm", files, who=who, decoration="NTarm64", **network)
    folder(tmp_path / "s" / "ports", files, who=who)
    done = yendo("read", "s", "--start-up", "set").stdout
    assert "1 driver in set" in done and "put-into-image.cmd" in done
    for words in ("older than new/gauge.inf", "the same bytes as new/gauge.inf", "it has no device for"):
        assert words in " ".join(done.split()), words
    assert sorted(path.name for path in (tmp_path / "set" / "drivers" / "001-gauge").iterdir()) == [
        "gauge.cat",
        "gauge.inf",
        "gauge.sys",
    ]
    script = (tmp_path / "set" / "put-into-image.cmd").read_text()
    assert '/Add-Driver "/Driver:%~dp0drivers" /Recurse' in script
    assert "is there already" in yendo("read", "s", "--start-up", "set", expect=2).stderr
    assert "nothing to put together" in yendo("read", "s/ports", "--start-up", "other", expect=2).stderr


def test_one_driver_and_its_catalogue(tmp_path: Path, yendo: Yendo) -> None:
    demo.put(demo.CURRENT, tmp_path / "d")
    one = yendo("read", "d/tidegauge.inf").stdout
    for words in (
        "by its publisher alone, the signature holds",
        "Tide gauge 2",
        "the driver store",
        "isolated yes",
        "publisher-not-trusted",
    ):
        assert words in " ".join(one.split()), words
    assert "2 of 2 files are in it" in " ".join(yendo("read", "d/tidegauge.cat").stdout.split())
    assert json.loads(yendo("read", "d/tidegauge.inf", "--json").stdout)["trust"]["signer"] == "Tidewell"


def test_a_plan_with_a_driver(tmp_path: Path, yendo: Yendo) -> None:
    demo.put(demo.CURRENT, tmp_path / "w" / "extras" / "gauge")
    (tmp_path / "w" / "extras" / "tidewell.cer").write_bytes(demo.publisher())
    head = '[package]\nid = "gauge"\nname = "Gauge"\nversion = "2.1"\narchitecture = "x64"\n'
    trusted = '[[install]]\nkind = "certificate"\nfrom = "extras/tidewell.cer"\n'
    step = '[[install]]\nkind = "driver"\nfrom = "extras/gauge"\n'

    def found(plan: str) -> set[str]:
        (tmp_path / "w" / "plan.toml").write_text(plan, "utf-8")
        told = json.loads(yendo("check", "w", "--json", expect=None).stdout)
        return {finding["rule"] for finding in told["findings"] if finding["rule"].startswith("driver-")}

    assert found(head + step) == {"driver-doubt"} and found(head + trusted + step) == set()
    assert found(head.replace("x64", "arm64") + trusted + step) == {"driver-fault"}
    demo.put(demo.SHARE[4], tmp_path / "w" / "extras" / "gauge" / "arm64")  # one folder for both processors
    assert found(head.replace("x64", "arm64") + trusted + step) == set()
    with (tmp_path / "w" / "extras" / "gauge" / "tidegauge.tab").open("ab") as file:
        file.write(b"x")
    assert found(head + trusted + step) == {"driver-fault"}


def test_a_database_that_brings_a_driver(tmp_path: Path, yendo: Yendo) -> None:
    """Its publisher has to be trusted before: Windows asks the same of a driver that a product installs."""
    specimen = Specimen("gauge").component("Gauge", key="F0")
    for number, (name, data) in enumerate(demo.CURRENT.all_files.items()):
        specimen.file("Gauge", f"F{number}", name, data)
    path = specimen.ours(tmp_path)
    said = " ".join(yendo("read", path).stdout.split())
    assert (
        "Drivers in it tidegauge.inf serial or parallel port 2.1.0.0 2026-03-14" in said
        and "publisher-not-trusted" in said
    )
    told = json.loads(yendo("read", path, "--json").stdout)
    assert [driver["trust"]["signer"] for driver in told["drivers"]] == ["Tidewell"]
    assert told["drivers"][0]["path"].lower().endswith(r"\tidegauge.inf")
    yendo("draft", "w", path)
    plan = tmp_path / "w" / "plan.toml"
    assert "tidegauge.inf, which it brings: Tidewell signed it" in yendo("check", "w", expect=None).stdout
    (tmp_path / "w" / "extras").mkdir(exist_ok=True)
    (tmp_path / "w" / "extras" / "tidewell.cer").write_bytes(demo.publisher())
    trusted = '[[install]]\nkind = "certificate"\nfrom = "extras/tidewell.cer"\n\n[[install]]\n'
    plan.write_text(plan.read_text("utf-8").replace("[[install]]\n", trusted, 1), "utf-8")
    assert "which it brings" not in yendo("check", "w", expect=None).stdout


@pytest.mark.parametrize("kind", ["7z", "zip", "cabinet", "nested"])
def test_drivers_inside_a_setup_program(tmp_path: Path, yendo: Yendo, kind: str) -> None:
    """In folders of an archive that unpacks itself, and in an archive in it; one that is for another processor is told
    by read, and no finding of check.
    """
    demo.share(tmp_path / "share")
    files = {"setup.exe": family_specimens.program()}
    for number in (0, 2, 3):
        place = tmp_path / "share" / demo.SHARE[number].folder
        files |= {f"drivers/{place.name}/{one.name}": one.read_bytes() for one in place.iterdir() if one.is_file()}
    if kind == "nested":
        files = {"setup.exe": files.pop("setup.exe"), "more.zip": family_specimens.zipped(files)}
    data = family_specimens.archive_exe("7z" if kind == "nested" else kind, files)
    (tmp_path / "setup.exe").write_bytes(data)
    told = parsed(yendo("read", tmp_path / "setup.exe", "--json"))["drivers"]
    assert len(told) == 3, told
    assert all(one["path"].endswith("tidegauge.inf") and demo.SHARE[0].folder[:9] in one["path"] for one in told)
    said = " ".join(yendo("read", tmp_path / "setup.exe").stdout.split())
    assert said.count("tidegauge.inf serial or parallel port") == 3 and "unsigned" in said, said
    yendo("draft", tmp_path / "w", tmp_path / "setup.exe", "--silent=/S")
    found = yendo("check", tmp_path / "w", expect=None).stdout
    assert "driver-doubt" in found and "which lies in it" in " ".join(found.split()) and "driver-fault" not in found


@pytest.mark.parametrize(
    ("line", "words"),
    [
        (r"{sys}\pnputil.exe /add-driver tide.inf", "it adds or removes a driver"),
        (r"{tmp}\devcon64.exe install tide.inf ROOT\TIDE", "it adds or removes a driver"),
        (
            "rundll32.exe setupapi.dll,InstallHinfSection DefaultInstall 132 tide.inf",
            "installs a driver or a part by its .inf",
        ),
        (r"{app}\tide.exe /first", "what that program does, only a run knows"),
    ],
)
def test_a_setup_that_calls_a_device_tool(tmp_path: Path, yendo: Yendo, line: str, words: str) -> None:
    streams = family_specimens.Streams(name="Sounder", folder=r"{pf}\Sounder", uninstallable="yes")
    streams.language("en", "English")
    streams.run(*line.split(" ", 1))
    (tmp_path / "setup.exe").write_bytes(streams.build())
    spots = parsed(yendo("read", tmp_path / "setup.exe", "--json"))["blind_spots"]
    assert any(words in spot["why"] for spot in spots), spots


# --- carried out ------------------------------------------------------------------------------------------------------

PLAN = """[package]
id = "gauge"
name = "Gauge"
version = "{version}"
architecture = "x64"

[[install]]
kind = "driver"
from = "extras/gauge"

[[uninstall]]
kind = "take-back"

[[detect]]
kind = "driver"
inf = "{inf}"
version = "=={version}"
"""


def packaged(workspace: Path, driver: Path, version: str) -> Path:
    shutil.copytree(driver.parent, workspace / "extras" / "gauge")
    (workspace / "plan.toml").write_text(PLAN.format(inf=driver.name, version=version), "utf-8")
    return build.build(workspace, read(workspace / "plan.toml")[0]).folder


@pytest.mark.wine
def test_packages_with_drivers_on_the_layer(tmp_path: Path, shell_wine: Any) -> None:
    """Installed, detected, removed, and nothing left, by the layer's own store; the demo's first, generated ones after it."""
    demo.put(demo.CURRENT, tmp_path / "demo")
    drivers = [(tmp_path / "demo" / "tidegauge.inf", "2.1.0.0")]
    for seed in range(20 if os.environ.get("YENDO_THOROUGH") else 1):
        chance = random.Random(seed)
        version = f"{chance.randrange(1, 9)}.{chance.randrange(20)}.0.{seed}"
        inf = folder(tmp_path / f"d{seed}", contents(chance), who=signer(), version=version)
        drivers.append((inf.rename(inf.with_name(f"gauge{seed}.inf")), version))
    for number, (inf, version) in enumerate(drivers):
        proof = prove(packaged(tmp_path / f"w{number}", inf, version), shell_wine)
        assert proof.passed, [
            (phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"
        ]
        assert proof.comparison is not None and proof.comparison.false == () and proof.comparison.missed == ()
        assert any("nothing is shown of signatures" in reason for reason in proof.comparison.layer_differences)


@pytest.mark.wine
def test_a_driver_that_was_there_before_stays(tmp_path: Path, shell_wine: Any) -> None:
    _stays(tmp_path, shell_wine, r'cmd /s /c ""C:\gauge\apply.cmd" {}"')


def test_a_driver_that_was_there_before_stays_simulated(tmp_path: Path) -> None:
    _stays(tmp_path, SimulatedMachine(), "")


def _stays(tmp_path: Path, machine: Any, line: str) -> None:
    """Another brought the older one, and the very same: a package takes away what it brought itself, and nothing else."""
    demo.share(tmp_path / "share")
    package = packaged(tmp_path / "w", tmp_path / "share" / "tidegauge-2.1" / "tidegauge.inf", "2.1.0.0")
    older = DriverRule(inf="tidegauge.inf", version="<2")
    newer = DriverRule(inf="tidegauge.inf", version=">=2")

    def there(session: Any) -> tuple[bool, bool]:
        sight = Sight(session.state(), session.surroundings.environment)
        return older.judge(sight)[0], newer.judge(sight)[0]

    def apply(session: Any, verb: str) -> None:
        if line:
            assert session.run(line.format(verb), timeout=120).exit_code == 0
        else:
            manifest = package_form.read(package)
            assert carry.carry(manifest, package, session, verb, folder=r"C:\gauge").exit_code == 0

    for before, afterwards in (("tidegauge-1.4", (True, False)), ("tidegauge-2.1", (False, True))):
        with machine.fresh() as session:
            session.bring(tmp_path / "share" / before, r"C:\before")
            session.bring(package, r"C:\gauge")
            assert (
                session.run(r'pnputil.exe /add-driver "C:\before\*.inf" /subdirs /install', timeout=60).exit_code == 0
            )
            assert there(session) == afterwards
            apply(session, "install")
            assert there(session)[1]
            apply(session, "uninstall")
            assert there(session) == afterwards, before


def test_going_back_to_an_older_one(tmp_path: Path, yendo: Yendo) -> None:
    _back(tmp_path, SimulatedMachine(), "")
    _back(tmp_path / "by words", SimulatedMachine(), "", BY_WORDS)
    told = json.loads(yendo("check", "w", "--json", expect=None).stdout)
    assert not [finding for finding in told["findings"] if finding["rule"] == "step-mistake"]
    plan = tmp_path / "w" / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('"tidegauge.inf"\nversion = ">2.1"', '"oem3.inf"'), "utf-8")
    assert "the name that one machine's store gave it" in yendo("check", "w", expect=None).stdout


@pytest.mark.wine
def test_going_back_to_an_older_one_on_the_layer(tmp_path: Path, shell_wine: Any) -> None:
    _back(tmp_path / "a", shell_wine, r'cmd /s /c ""C:\gauge\apply.cmd" {}"')
    _back(tmp_path / "b", shell_wine, r'cmd /s /c ""C:\gauge\apply.cmd" {}"', BY_WORDS)


BY_WORDS = 'provider = "tidewell"\nclass = "Ports"\n'


def _back(tmp_path: Path, machine: Any, line: str, which: str = 'inf = "tidegauge.inf"\n') -> None:
    """The newer one goes first: an older driver does not replace it. Another driver of the store stays."""
    demo.share(tmp_path / "share")
    workspace = tmp_path / "w"
    packaged(workspace, tmp_path / "share" / "tidegauge-2.1" / "tidegauge.inf", "2.1.0.0")
    plan = workspace / "plan.toml"
    # one of another provider is not meant
    first = '[[install]]\nkind = "remove-driver"\nprovider = "Somebody else"\n\n'
    first += f'[[install]]\nkind = "remove-driver"\n{which}version = ">2.1"\n\n[[install]]\n'
    plan.write_text(plan.read_text("utf-8").replace("[[install]]\n", first, 1), "utf-8")
    package = build.build(workspace, read(plan)[0]).folder

    def there(session: Any) -> list[bool]:
        sight = Sight(session.state(), session.surroundings.environment)
        return [DriverRule(inf="tidegauge.inf", version=one).judge(sight)[0] for one in ("<2", "==2.1.0.0", ">2.1")]

    with machine.fresh() as session:
        for number in (1, 3):
            session.bring(tmp_path / "share" / demo.SHARE[number].folder, rf"C:\d{number}")
            assert (
                session.run(rf'pnputil.exe /add-driver "C:\d{number}\*.inf" /subdirs /install', timeout=60).exit_code
                == 0
            )
        session.bring(package, r"C:\gauge")
        assert there(session) == [True, False, True]
        if line:
            ran = session.run(line.format("install"), timeout=120)
            assert ran.exit_code == 0, ran.output
        else:
            assert (
                carry.carry(package_form.read(package), package, session, "install", folder=r"C:\gauge").exit_code == 0
            )
        assert there(session) == [True, True, False]


PLAN_OF_REMOVAL = '[package]\nid = "t"\nname = "t"\nversion = "1"\n[[install]]\nkind = "remove-driver"\n{0}\n'


def removed_by(tmp_path: Path, machine: Any, which: str, line: str) -> list[bool]:
    """Which of the signed 1.4 and the unsigned 2.2 are left."""
    demo.share(tmp_path / "share")
    (tmp_path / "w").mkdir()
    (tmp_path / "w" / "plan.toml").write_text(PLAN_OF_REMOVAL.format(which))
    package = build.build(tmp_path / "w", read(tmp_path / "w" / "plan.toml")[0]).folder
    with machine.fresh() as session:
        for number in (1, 3):
            session.bring(tmp_path / "share" / demo.SHARE[number].folder, rf"C:\d{number}")
            session.run(rf'pnputil.exe /add-driver "C:\d{number}\*.inf" /subdirs /install', timeout=60)
        session.bring(package, r"C:\gauge")
        if line:
            session.run(line, timeout=120)
        else:
            carry.carry(package_form.read(package), package, session, "install", folder=r"C:\gauge")
        sight = Sight(session.state(), session.surroundings.environment)
        return [DriverRule(inf="tidegauge.inf", version=one).judge(sight)[0] for one in ("<2", ">2.1")]


REMOVALS = [
    ('catalogue = "TIDEGAUGE.cat"', [False, True]), ('class = "Net"', [True, True]),
    ('class = "ports"\nprovider = "Tidewell"', [False, False]), ('provider = "Tide"', [True, True]),
]  # fmt: skip


@pytest.mark.parametrize(("which", "left"), REMOVALS)
def test_removed_by_what_its_file_says(tmp_path: Path, which: str, left: list[bool]) -> None:
    assert removed_by(tmp_path, SimulatedMachine(), which, "") == left


@pytest.mark.wine
@pytest.mark.parametrize(("which", "left"), REMOVALS[:1] + REMOVALS[2:3])
def test_removed_by_the_runner(tmp_path: Path, shell_wine: Any, which: str, left: list[bool]) -> None:
    assert removed_by(tmp_path, shell_wine, which, r'cmd /s /c ""C:\gauge\apply.cmd" install"') == left


def test_a_version_that_only_the_machine_knows() -> None:
    """A picture of a machine lists the store without versions: that is neither yes nor no."""
    state = State()
    state.add(Part("driver", "tidegauge.inf"))
    sight = Sight(state, {})
    assert DriverRule(inf="TideGauge.inf").judge(sight)[0]
    assert not DriverRule(inf="other.inf", version=">=2").judge(sight)[0]
    with pytest.raises(NotCovered, match="only on the machine itself"):
        DriverRule(inf="tidegauge.inf", version=">=2").judge(sight)
