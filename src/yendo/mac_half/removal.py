"""How a package for macOS is taken away: a script that goes by the receipts, so that nothing is taken from others."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from pathlib import Path

from yendo import digest
from yendo.mac_half.model import MacPlan
from yendo.mac_half.shell import call, script
from yendo.mac_half.work import LaidItem, MacWork, data_folders


def receipts(plan: MacPlan, done: MacWork) -> list[str]:
    """The receipts that are the package's own, those of the vendor's packages inside among them."""
    own = plan.package.identifier
    return [
        own,
        *(f"{own}.{part.processor.replace('_', '-')}" for part in done.parts if part.processor),
        *done.receipts,
    ]


def script_of(plan: MacPlan, done: MacWork, title: str) -> str:
    """The script; it takes the volume as its third argument, as the installer gives it."""
    own = receipts(plan, done)
    known = [f"{hash_of(item)}  {item.path}" for item in _watched(done)] if plan.keep_changed else []
    lines = [
        "volume=${3:-/}",
        f"ours={call('', ' '.join(own)).strip()}",
        "work=$(/usr/bin/mktemp -d /private/tmp/yendo.XXXXXX) || stop 'no folder for a while'",
        "trap '/bin/rm -rf \"$work\"' EXIT",
        *_here(known, "known"),
        *_here(sorted(data_folders()), "of-the-system"),
        ': >"$work/changed"',
        "top=$(on /)",
        '/usr/bin/sed "s|^|${top%/}|" "$work/of-the-system" | LC_ALL=C /usr/bin/sort >"$work/system"',
        *done.ending,
        "others_have",
        *(["find_changed"] if known else []),
        *done.undo,
        *(call("take_made", one) for one in sorted(plan.made_later, key=_jobs_first)),
        *(call("take_receipt", one) for one in own),
        *(call("forget_for_persons", one) for one in plan.users_too),
    ]
    return script(title, lines)


def _jobs_first(path: str) -> tuple[bool, str]:
    return not path.startswith("/Library/Launch"), path


def _here(rows: Sequence[str], name: str) -> list[str]:
    """Rows as a file of the script's own folder; nothing in them is read by the shell."""
    return [f"/bin/cat >\"$work/{name}\" <<'YENDO-END'", *rows, "YENDO-END"]


def _watched(done: MacWork) -> Iterator[LaidItem]:
    yield from (item for item in done.items if item.watched)


def hash_of(item: LaidItem) -> str:
    """SHA-256 of what a file holds."""
    if isinstance(item.content, Path):
        return digest.of_file(item.content)
    return hashlib.sha256(item.content).hexdigest()
