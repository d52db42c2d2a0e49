"""The fetcher: what is put on a computer so that it takes what a delivery folder has for it."""

from __future__ import annotations

from pathlib import Path

from yendo import atomic
from yendo.package import manifest as form
from yendo.package import scripts, signing
from yendo.package.signing import SignerIdentity

NAME, DOORWAY = "fetch.ps1", "fetch.cmd"
EVERY = 30  # minutes between two looks


def outcomes_for_the_runner() -> dict[str, str]:
    """The runner's exit codes as the fetcher takes them: done, later, refused, failed."""
    words = {"retry later": "later", "in progress": "later", "not applicable": "refused", "failure": "failed"}
    return {str(code): words.get(one.outcome, "done") for code, one in sorted(form.EXIT_CODES.items())}


def script(every: int = EVERY, who: SignerIdentity | None = None) -> bytes:
    """The script, signed where somebody signs. Raises as ``signing.message``."""
    data = scripts.assembled("yendo.fleet", NAME, {"every": every, "outcomes": outcomes_for_the_runner()})
    return signing.signed_script(data, who, None, NAME) if who else data


def doorway(source: str, root: str, reports: str, pace: int) -> bytes:
    """``fetch.cmd``, which hands what belongs to this office to the script."""
    given = f' -From "{source}" -Root {root}'
    given += f' -Reports "{reports}"' if reports else ""
    given += f" -Pace {pace}" if pace else ""
    text = scripts.DOORWAY.replace("apply.ps1", NAME).replace(" %*", f"{given} %*")
    return text.encode()


def write(folder: Path, source: str, root: str, *, reports: str = "", pace: int = 0, every: int = EVERY,
          who: SignerIdentity | None = None) -> None:  # fmt: skip
    """Writes both into a folder that somebody hands to the computers. ``pace`` in KB a second, 0 for as it comes.

    Raises as ``script``.
    """
    folder.mkdir(parents=True, exist_ok=True)
    atomic.write(folder / NAME, script(every, who))
    atomic.write(folder / DOORWAY, doorway(source, root, reports, pace))
