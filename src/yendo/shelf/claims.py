"""What a package takes for itself on a machine, written down when it is built, so that a shelf need not predict
anything.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

import msgspec

from yendo import atomic, digest
from yendo.effects import Effect, Environment, File, Folder, Product, RegistryKey, UninstallEntry, label
from yendo.effects.things import kind_of
from yendo.errors import YendoError
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.package import manifest as form
from yendo.plan import Plan, mark
from yendo.platforms.windows.surroundings import expand, windows
from yendo.prove import predict
from yendo.shelf.record import FILE, Claim, Claims, Input
from yendo.steps.copy import CopyData

SHARED_VARIABLES = ("path", "pathext", "classpath", "psmodulepath")  # everybody adds to them


def of_effects(effects: list[Effect]) -> list[Claim]:
    """The claims of an install: what belongs to one package alone, so neither folders nor what carries a code of its
    own.
    """
    found = []
    for effect in effects:
        thing = effect.thing
        if effect.change == "remove" or isinstance(thing, Folder | RegistryKey | Product | UninstallEntry):
            continue
        if isinstance(thing, Environment) and thing.name.lower() in SHARED_VARIABLES:
            continue
        if isinstance(thing, File):
            content = thing.sha256 or thing.version or str(thing.size)
        else:
            content = hashlib.sha256(msgspec.json.encode(thing, order="deterministic")).hexdigest()
        found.append(Claim(kind_of(thing), thing.identity, label(thing), content[:16]))
    return found


def of_package(package: Path, before: int = 0, after: int = 0) -> tuple[list[Claim], str]:
    """What a built package claims, and why that is not all, in words. Files that a step copies are taken from its list,
    not read.

    So many steps ``before`` and ``after`` are the house's, and in every package of its.
    """
    manifest = form.read(package)
    manifest = msgspec.structs.replace(manifest, install=manifest.install[before : len(manifest.install) - after])
    surroundings = windows("system")
    copies = [action for action in manifest.install if action.kind == "copy"]
    claims = [
        Claim("file", path.lower(), path, item.sha256[:16])
        for action in copies
        for item in CopyData.of(action).items
        for path in [expand(item.to, surroundings.environment)]
        if "{setting" not in path
    ]
    try:
        settled = _usual(manifest)
        rest = msgspec.structs.replace(
            settled, install=tuple(action for action in settled.install if action.kind != "copy"), needs=()
        )
        effects, _ = predict.install_effects(rest, package, surroundings, SimulatedMachine().baseline("system"))
    except YendoError as error:
        return claims, str(error)
    return [*claims, *of_effects(effects)], ""


def _usual(manifest: form.Manifest) -> form.Manifest:
    """With the first site's values; what has none gets a stand-in."""
    site = manifest.sites.get(form.sites_of(manifest)[0], {})
    stand_in = {
        name: f"({name})"
        for name, one in manifest.settings.items()
        if one.default is None and name not in site and one.type in ("text", "folder")
    }
    return form.with_values(manifest, windows("system").environment, site, stand_in)


def record(workspace: Path, plan: Plan, built: build.Built) -> None:
    """Writes down what a package that was just built claims, and from which files it was built."""
    before, after = plan.standing("install")
    claims, blind = of_package(built.folder, len(before), len(after) + len(mark.steps(plan, "install")[1]))
    inputs = [
        Input(file.path, path.stat().st_size, path.stat().st_mtime_ns, file.sha256)
        for file in built.manifest.files
        if file.path.startswith(("media/", "extras/"))
        for path in [workspace / file.path]
        if path.is_file()
    ]
    body = Claims(
        id=built.manifest.id,
        digest=built.digest,
        plan=digest.of_file(workspace / "plan.toml"),
        house=digest.of_file(plan.furnished.file) if plan.furnished else "",
        needs=tuple((need.package, need.version or "") for need in plan.need if need.package),
        claims=tuple(sorted(set(claims), key=lambda claim: (claim.kind, claim.identity))),
        inputs=tuple(inputs),
        blind=blind,
    )
    (workspace / ".yendo").mkdir(exist_ok=True)
    atomic.write(workspace / FILE, msgspec.json.encode(body) + b"\n")
