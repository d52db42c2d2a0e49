"""Command lines of the Windows Installer, written and read."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yendo.installers.msi import commandline

value = st.text(st.characters(min_codepoint=32, max_codepoint=0x2FF, blacklist_characters="\x7f"), max_size=30)


@given(
    st.dictionaries(st.from_regex(r"[A-Z_][A-Z0-9_]{0,10}", fullmatch=True), value, max_size=5),
    st.sampled_from([None, r"C:\logs here\x.log"]),
)
def test_what_is_written_is_read_back(properties: dict[str, str], log: str | None) -> None:
    line = commandline.install(r"C:\with space\a.msi", properties=properties, log=log)
    found = commandline.parse(line)
    assert (found.action, found.package, found.properties, found.log) == (
        "install",
        r"C:\with space\a.msi",
        properties,
        log,
    )
    assert found.quiet and found.restart_suppressed and not found.stray


@pytest.mark.parametrize(
    ("name_and_value", "written"),
    [
        (("A", "x"), "A=x"),
        (("A", ""), 'A=""'),
        (("A", "a b"), 'A="a b"'),
        (("A", 'say "hi"'), 'A="say ""hi"""'),
        (("A", "C:\\x y\\"), 'A="C:\\x y\\"'),
        (("A", "C:\\x\\"), "A=C:\\x\\"),
        (("A", "x=y;z"), "A=x=y;z"),
    ],
)
def test_quoting(name_and_value: tuple[str, str], written: str) -> None:
    assert commandline.assign(*name_and_value) == written


@pytest.mark.parametrize(
    ("line", "expected"),
    [
        ("msiexec /i a.msi /qn", ("install", "a.msi", True, False)),
        (
            '"C:\\Windows\\System32\\msiexec.exe" /X{0D6B1C5E-0000-0000-0000-000000000001} /quiet /norestart',
            ("uninstall", "{0D6B1C5E-0000-0000-0000-000000000001}", True, True),
        ),
        ("MsiExec.exe /package a.msi /passive", ("install", "a.msi", False, False)),
        ("msiexec -i a.msi -qn REBOOT=ReallySuppress", ("install", "a.msi", True, True)),
        ("msiexec /fomus a.msi /qn", ("repair", "a.msi", True, False)),
        ("msiexec /update a.msp /qn", ("patch", "a.msp", True, False)),
    ],
)
def test_spellings_people_use(line: str, expected: tuple[object, ...]) -> None:
    found = commandline.parse(line)
    assert (found.action, found.package, found.quiet, found.restart_suppressed) == expected


@pytest.mark.parametrize(
    ("line", "part"),
    [
        ("setup.exe /S", "setup.exe"),
        ("msiexec", "msiexec"),
        ('msiexec /i "a b.msi', '"a b.msi'),
        ("msiexec /i", "/i"),
        ("msiexec /i a.msi 1A=5", "1A=5"),
        ("", ""),
    ],
)
def test_what_the_installer_would_refuse(line: str, part: str) -> None:
    with pytest.raises(commandline.CommandError) as caught:
        commandline.parse(line)
    assert caught.value.part == part


def test_an_unquoted_space_is_a_stray_word() -> None:
    assert commandline.parse(r"msiexec /i a.msi /qn INSTALLDIR=C:\Program Files\Tide").stray == (r"Files\Tide",)
    assert commandline.parse("msiexec /i a.msi /qn /nosuch").stray == ("/nosuch",)


@given(st.text(max_size=80))
def test_any_text_is_parsed_or_refused(text: str) -> None:
    try:
        commandline.parse("msiexec " + text)
    except commandline.CommandError:
        pass
