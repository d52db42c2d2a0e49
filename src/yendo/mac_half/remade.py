"""Another bundle in a bundle's place, as an update, an older one or a stranger's would be.

Its list says something else, and it is whole again, signed by nobody.
"""

from __future__ import annotations

import contextlib
import plistlib
import shutil
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path

from yendo.errors import YendoError
from yendo.formats import property_list
from yendo.mac import bundles
from yendo.package.code_signing import sign_code


@contextlib.contextmanager
def instead(here: Path, aside: Path, values: Mapping[str, str]) -> Iterator[None]:
    """For a while there is another bundle at a place; ``aside`` is a folder on the same file system."""
    with tempfile.TemporaryDirectory(dir=aside) as work:
        copy, kept = Path(work) / "new" / here.name, Path(work) / here.name
        shutil.copytree(here, copy, symlinks=True)
        info = copy / "Contents" / "Info.plist"
        info.write_bytes(plistlib.dumps({**property_list.if_any(info.read_bytes()), **values}))
        with contextlib.suppress(YendoError):  # see not_by_us
            sign_code(copy, None)
        here.rename(kept)
        copy.rename(here)
        yield
        shutil.rmtree(here)
        kept.rename(here)


def not_by_us(here: Path, aside: Path) -> str:
    """Why an update of this bundle cannot be made here: its vendor would sign it, or nobody can seal it again. Empty
    where it can.
    """
    app = bundles.read(here)
    if app.code and app.code[0].held == "holds" and app.code[0].apple:
        return "its vendor would have to sign it"
    if app.sealed != "whole":
        return ""
    with tempfile.TemporaryDirectory(dir=aside) as work:
        copy = Path(work) / here.name
        shutil.copytree(here, copy, symlinks=True)
        try:
            sign_code(copy, None)
        except YendoError as error:
            return str(error)
    return ""
