"""Signatures that lie in a file itself: a database of the Windows Installer, signed by us and judged by another program
(osslsigncode), and the other way round.
"""

from __future__ import annotations

import random
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import Yendo
from test_app_form import TAKES_APPS, VERIFIER, signer
from test_forms import office

from yendo import forms
from yendo.errors import Unreadable, Usage
from yendo.formats.msi import Database
from yendo.package import file_signing
from yendo.package.signing import identity

assert signer  # a fixture

other = pytest.mark.skipif(not TAKES_APPS, reason="an osslsigncode of 2.6 or later is not here")


@pytest.fixture
def database(tmp_path: Path) -> Path:
    folder, plan = office(tmp_path / "w")
    return forms.build(folder, plan).main


def judged_elsewhere(path: Path, trusted: Path) -> bool:
    done = subprocess.run([VERIFIER, "verify", "-CAfile", trusted, "-in", path], capture_output=True, text=True)
    return done.returncode == 0 and "Signature verification: ok" in done.stdout


def streams(path: Path) -> dict[str, bytes]:
    with Database(path) as database:
        return {entry.name: entry.read() for entry in database.container.entries()}


@other
def test_by_us_and_by_another(tmp_path: Path, database: Path, signer: Path) -> None:
    unsigned = tmp_path / "unsigned.msi"
    shutil.copyfile(database, unsigned)
    with Database(unsigned) as before:
        rows = {name: list(map(tuple, before[name])) for name in before.tables}
    assert file_signing.sign_file(database, identity(signer)).problems == ()
    size = database.stat().st_size
    assert file_signing.sign_file(database, identity(signer)).problems == () and database.stat().st_size == size
    assert judged_elsewhere(database, signer)
    own = frozenset({file_signing.verify_file(database).thumbprint})
    with Database(database) as after:  # nothing but the signature has come to it
        assert {name: list(map(tuple, after[name])) for name in after.tables} == rows
    for more in ([], ["-add-msi-dse"]):
        theirs = tmp_path / f"theirs{len(more)}.msi"
        words = [VERIFIER, "sign", *more, "-certs", signer, "-key", signer, "-in", unsigned, "-out", theirs]
        subprocess.run(words, check=True, capture_output=True)
        assert file_signing.verify_file(theirs).problems == ()
        whole, chance, spoilt = theirs.read_bytes(), random.Random(len(more)), tmp_path / "spoilt.msi"
        for _ in range(20):
            data = bytearray(whole)
            data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
            spoilt.write_bytes(data)
            try:
                problems = file_signing.verify_file(spoilt, own).problems  # a changed certificate is a stranger's
            except (Unreadable, Usage):
                continue
            # a bit of the container that no stream lies in: the other program may refuse to read on
            assert problems or judged_elsewhere(spoilt, signer) or streams(spoilt) == streams(theirs)


def test_the_form_knows_the_signed_one(tmp_path: Path, yendo: Yendo, database: Path, signer: Path) -> None:
    """The plan of the form's workspace gets the new hash, and the proof is of the signed bytes."""
    assert "is not signed" in yendo("sign", database, "--verify", expect=2).stderr
    told = yendo("sign", database, "--identity", signer).stdout
    assert "the signature holds" in told and "TrustedPublisher" in told
    yendo("check", "w/forms/msi")
    yendo("build", "w/forms/msi")
    yendo("prove", "w/forms/msi")
    seen = yendo("read", database, "--verify").stdout
    assert "signed by Office" in " ".join(seen.split())
