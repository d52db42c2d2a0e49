"""The account of a patch: what it is for, whether it fits, and what it changes on a machine that has the product."""

from __future__ import annotations

from pathlib import Path

import msgspec

from yendo.effects import Effect
from yendo.formats.msi import Database
from yendo.formats.msi.overlay import difference
from yendo.formats.msi.patch import Patch, PatchFamily
from yendo.formats.msi.transform import Transform
from yendo.installers.msi import changes, describe, engine, fitting
from yendo.installers.msi.media import MissingMedia, payload
from yendo.platforms.windows.surroundings import windows


class Target(msgspec.Struct, frozen=True):
    """One product version that the patch is for, and what it makes of it."""

    product: str
    version: str
    new_version: str


class PatchAccount(msgspec.Struct, frozen=True):
    """Everything that reading a patch tells; the last fields only where a base is at hand.

    ``removable`` is None where the patch does not say.
    """

    code: str
    name: str
    description: str
    classification: str
    publisher: str
    removable: bool | None
    targets: tuple[str, ...]
    versions: tuple[Target, ...]
    replaces: tuple[str, ...]
    families: tuple[PatchFamily, ...]
    cabinets: dict[str, int]
    fits: bool | None = None
    reasons: tuple[str, ...] = ()
    kind: str = ""
    changes: tuple[changes.DatabaseChange, ...] = ()
    effects: tuple[Effect, ...] = ()
    risks: tuple[str, ...] = ()


class _Nothing(Database):
    """A base without tables, for what can be told without one."""

    def __init__(self) -> None:
        self.schema = {}


def account(path: Path, base: Path | None = None) -> PatchAccount:
    """Reads a patch. Raises Unreadable."""
    with Patch(path) as patch:
        said = patch.metadata
        removable = {"1": True, "0": False}.get(said.get("AllowRemoval", ""))
        found = PatchAccount(
            patch.code,
            said.get("DisplayName", "") or patch.summary.subject or path.name,
            said.get("Description", ""),
            said.get("Classification", ""),
            said.get("ManufacturerName", "") or patch.summary.author or "",
            removable,
            patch.targets,
            tuple(_versions(patch)),
            patch.replaces,
            patch.families,
            {name: stream.size for name, stream in patch.cabinets.items()},
        )
        if base is None:
            return found
        with Database(base) as database:
            return _on(found, patch, database, base)


def _versions(patch: Patch) -> list[Target]:
    found = []
    for name in (name for name in patch.names if not name.startswith("#")):
        transform: Transform = patch.transform(name, _Nothing())
        target = fitting.made_for(transform.summary)
        if target:
            found.append(Target(target.product, target.version, target.new_version))
    return found


def _on(found: PatchAccount, patch: Patch, base: Database, source: Path) -> PatchAccount:
    fit = fitting.fit_patch(base, patch)
    if not fit.fits:
        return msgspec.structs.replace(found, fits=False, reasons=fit.reasons)
    after = fitting.patched(base, patch)
    assert after is not None
    around = windows()
    state = describe.baseline(around)
    risks = []
    try:
        before, has = payload(base, source), payload(after, source)
    except MissingMedia as missing:
        before, has = {}, {}
        risks.append(f"a file that it needs is missing: {missing}")
    first = engine.run(base, around, state, {}, contents=before)
    effects: tuple[Effect, ...] = ()
    if first.memory:
        outcome = engine.run(
            after,
            around,
            state,
            {"REINSTALL": "ALL", "REINSTALLMODE": "omus"},
            memories={first.memory.code: first.memory},
            contents=has,
        )
        effects = outcome.effects
        if not outcome.done:
            risks.append(f"applying it fails with {outcome.exit_code}")
    told = [  # that a patch raises the version, and its upgrade rules with it, is what it is for
        msgspec.structs.replace(change, risk=None) if change.evidence.table in ("Property", "Upgrade") else change
        for change in changes.in_words(base, difference(base, after))
    ]
    if found.removable is not True:
        risks.append(
            "it cannot be taken back alone"
            if found.removable is False
            else "it does not say that it can be taken back alone"
        )
    return msgspec.structs.replace(
        found,
        fits=True,
        kind=fitting.kind_of_update(base, patch),
        changes=tuple(told),
        effects=effects,
        risks=tuple(risks),
    )
