"""The dossier: everything that the person who signs off needs, as one page that needs nothing else."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any

import jinja2
import msgspec

from yendo import digest
from yendo.check import Finding
from yendo.detect.derive import derive
from yendo.detect.states import broken
from yendo.detect.strength import Strength, Tried
from yendo.drawing import drawn
from yendo.effects import Effect, File, label
from yendo.effects.effect import counts
from yendo.errors import NotCovered, Usage, YendoError
from yendo.machines.protocol import Machine
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import manifest as form
from yendo.package import signing
from yendo.plan.house import HouseGiven
from yendo.plan.model import VERBS
from yendo.platforms.windows import paths
from yendo.platforms.windows.surroundings import windows
from yendo.prove import ground, predict
from yendo.prove.proof import Proof
from yendo.prove.prove import digest_of, kept
from yendo.prove.scenarios import SCENARIOS
from yendo.terms.amounts import size_in_words
from yendo.terms.settings import SettingError

REPORTED = (1, 3, 5, 10)
MOST_SHOWN = 4000  # things of one kind; a page that a browser can still print


class EffectBranch(msgspec.Struct):
    """A folder or key of the tree of effects: what lies in it, and the size of all below in bytes."""

    name: str
    leaves: list[dict[str, str]]
    branches: dict[str, EffectBranch]
    size: int = 0
    count: int = 0


def current(package: Path) -> list[Proof]:
    """The proofs of these very bytes. Raises Usage where the package has changed since, or was never proved."""
    manifest = form.read(package)
    for file in manifest.files:
        path = package / file.path
        if not path.is_file() or digest.of_file(path) != file.sha256:
            raise Usage(
                f"{file.path} is not what the manifest says: the proof belongs to other bytes; build again, and "
                "prove that"
            )
    there = kept(package)
    fitting = [proof for proof in there if proof.digest == digest_of(package)]
    if there and not fitting:
        raise Usage(
            f"the package has changed since its proof of {there[-1].started}: the proof belongs to those bytes; "
            "prove it again"
        )
    if not fitting:
        raise Usage("there is no proof of this package yet: yendo prove --scenario all")
    return fitting


def page(
    package: Path,
    *,
    workspace: Path | None = None,
    findings: Sequence[Finding] = (),
    others: Sequence[Path] = (),
    updates: bool = False,
    furnished: HouseGiven | None = None,
    machine: Machine | None = None,
) -> str:
    """The page as HTML, with the office's name and logo where it has a house. ``machine`` is a simulated one with what
    the plan says is there.

    Raises Usage as ``current`` does, HouseError, and where a library is missing.
    """
    proofs = current(package)
    office = {
        "office": furnished.house.name if furnished else "",
        "logo": furnished.logo_address() if furnished else "",
    }
    contents = _contents(package, proofs, workspace, findings, others, updates, machine)
    return rendered("dossier.html.jinja", divider=paths.SEPARATOR, **contents, **office)


def rendered(name: str, **values: Any) -> str:
    """A page from a template beside this module."""
    environment = jinja2.Environment(
        autoescape=True, undefined=jinja2.StrictUndefined, trim_blocks=True, lstrip_blocks=True,
        loader=jinja2.FileSystemLoader(str(files("yendo.prove"))),
    )  # fmt: skip
    environment.filters["size"] = _size
    return environment.get_template(name).render(**values)


def _contents(
    package: Path,
    proofs: Sequence[Proof],
    workspace: Path | None,
    findings: Sequence[Finding],
    others: Sequence[Path],
    updates: bool,
    machine: Machine | None,
) -> dict[str, Any]:
    manifest = form.read(package)
    sites = form.sites_of(manifest)
    found = {site: _effects(_settled(manifest, site), package, machine) for site in sites}
    effects, blind = found[sites[0]]
    strength, curve, missing, told, idle = _strength(package, others, updates, machine)
    seen = (spot for proof in proofs for spot in (proof.comparison.blind_spots if proof.comparison else ()))
    blind = list(dict.fromkeys([*blind, *seen]))
    lost = (
        f"another value of the setting {name} changes nothing that a simulated machine can see; is it lost on the way?"
        for name in idle
    )
    return {
        **_of_the_package(manifest, package),
        **_of_its_effects(effects),
        **_of_the_proofs(proofs),
        "strength": strength,
        "strength_missing": [*missing, *([told] if told else [])],
        "chart": chart(strength, curve) if strength else "",
        "blind": blind,
        "questions": [
            *_questions(workspace, manifest, findings, proofs, blind, strength),
            *(("open", text) for text in lost),
        ],
        "sites": [site for site in sites if site],
        "site_differences": _between({site: effects for site, (effects, _) in found.items()}),
    }


def _of_the_package(manifest: form.Manifest, package: Path) -> dict[str, Any]:
    return {
        "manifest": manifest,
        "digest": digest_of(package),
        "files": manifest.files,
        "total": sum(file.size for file in manifest.files),
        "verbs": {
            verb: [_masked(action, manifest.secrets) for action in manifest.actions(verb)]
            for verb in VERBS
            if manifest.actions(verb)
        },
        "conditions": [node.in_words for node in manifest.when],
        "needs": [need.in_words for need in manifest.needs],
        "in_the_way": {verb: ", ".join(way.programs) for verb, way in manifest.in_the_way.items() if way.programs},
        "rules": [rule.title for rule in manifest.detect],
        "signature": _signature(package),
        "exit_codes": form.EXIT_CODES,
        "settings": _settings(manifest),
    }


def _of_its_effects(effects: Sequence[Effect]) -> dict[str, Any]:
    return {
        "counts": _counted(counts(effects)),
        "tree": _tree([effect for effect in effects if effect.kind in ("file", "folder", "shortcut", "ini")]),
        "others": [
            (effect.change, effect.kind, label(effect.thing), str(effect.evidence or ""))
            for effect in effects
            if effect.kind not in ("file", "folder", "shortcut", "ini")
        ][:MOST_SHOWN],
    }


def _of_the_proofs(proofs: Sequence[Proof]) -> dict[str, Any]:
    names, rows = _matrix(proofs)
    return {
        "machines": names,
        "rows": rows,
        "proofs": proofs,
        "leftovers": sorted({(left.what, left.reason, left.whose) for proof in proofs for left in proof.leftovers}),
        "played": sum(proof.outcome != "needless" for proof in proofs),
        "passed": sum(proof.passed for proof in proofs),
        "failed": sum(proof.outcome == "failed" for proof in proofs),
        "runner": any(proof.runner_executed for proof in proofs),
        "real": sorted({proof.label for proof in proofs if proof.place != "simulation"}),
    }


def _settled(manifest: form.Manifest, site: str) -> form.Manifest:
    """As at a site; what is secret, or has no value at all, stays as its place."""
    known = manifest.settings
    stand_in = {
        name: f"({name})"
        for name, one in known.items()
        if one.secret or (one.default is None and name not in manifest.sites.get(site, {}))
    }
    texts = {name: value for name, value in stand_in.items() if known[name].type in ("text", "folder")}
    try:
        return form.with_values(manifest, windows("system").environment, manifest.sites.get(site, {}), texts)
    except SettingError:
        return manifest


def _settings(manifest: form.Manifest) -> list[tuple[str, str, list[str]]]:
    """Each setting: its name, what it means, and its value at every site."""
    rows = []
    for name, one in manifest.settings.items():
        usual = (
            "secret" if one.secret else "to be given" if one.default is None else one.text_of(one.default, said=True)
        )
        rows.append(
            (name, one.meaning, [manifest.sites.get(site, {}).get(name, usual) for site in form.sites_of(manifest)])
        )
    return rows


def _between(found: Mapping[str, Sequence[Effect]]) -> list[tuple[str, list[str]]]:
    """What differs between the sites: each thing, and how it is at each of them."""
    things = {
        site: {(effect.kind, effect.thing.identity): effect for effect in effects} for site, effects in found.items()
    }
    rows = []
    for key in dict.fromkeys(key for inner in things.values() for key in inner):
        here = [inner.get(key) for inner in things.values()]
        if len({msgspec.json.encode((effect.change, effect.thing)) if effect else b"" for effect in here}) > 1:
            some = next(effect for effect in here if effect)
            name = label(some.thing)
            rows.append((f"{some.kind} {name}", [_worth(effect, name) for effect in here]))
    return rows[:MOST_SHOWN]


def _worth(effect: Effect | None, name: str) -> str:
    if effect is None:
        return "not there"
    data = getattr(effect.thing, "data", None)
    if data is None:
        data = getattr(effect.thing, "value", None)
    return (
        str(data)
        if data is not None
        else "there"
        if not isinstance(effect.thing, File)
        else f"{effect.thing.size} bytes, {(effect.thing.sha256 or '')[:12]}"
    )


def _effects(manifest: form.Manifest, package: Path, machine: Machine | None) -> tuple[list[Effect], list[str]]:
    machine = machine or SimulatedMachine()
    try:
        return predict.install_effects(manifest, package, machine.surroundings("system"), machine.baseline("system"))
    except NotCovered as error:
        return [], [f"the simulated machine cannot carry it out: {error}"]


def _masked(action: Any, secrets: Sequence[str]) -> dict[str, str]:
    command = action.command
    for secret in secrets:
        command = command.replace(secret, "****")
    return {"title": action.title, "kind": action.kind, "command": command, "timeout": _time(action.timeout)}


def _matrix(proofs: Sequence[Proof]) -> tuple[list[str], list[dict[str, Any]]]:
    """The machines, and a row a scenario: its cells by machine, each with its outcome and its place on the page."""
    names = list(dict.fromkeys(proof.machine for proof in proofs))
    rows: dict[str, dict[str, Any]] = {}
    for number, proof in enumerate(proofs):
        outcome = "not called for" if proof.outcome == "needless" else proof.outcome
        plain, _, site = proof.scenario.partition("@")
        title = (
            SCENARIOS[plain].title + (f", {site}" if site else "")
            if plain in SCENARIOS
            else proof.scenario_note.partition(":")[0]
        )
        rows.setdefault(proof.scenario, {"id": proof.scenario, "title": title, "cells": {}})["cells"][proof.machine] = (
            outcome,
            number,
        )
    order = {name: number for number, name in enumerate(SCENARIOS)}
    return names, sorted(rows.values(), key=lambda row: (order.get(row["id"].partition("@")[0], len(order)), row["id"]))


def _strength(
    package: Path, others: Sequence[Path], updates: bool, machine: Machine | None
) -> tuple[Strength | None, list[tuple[int, float]], tuple[str, ...], str, list[str]]:
    try:
        made = ground.make(package, others, updates=updates, machine=machine)
    except YendoError as error:
        return None, [], (), f"strength was not measured: {error}", []
    around = ground.everywhere(made, package)
    tried = Tried(broken(made.ground), made.environment)
    same = tried if around.ground.also == made.ground.also else None
    best = [one.rule for one in derive(around.ground, around.environment, enough=1.0, tried=same).rules]
    points = [
        (count, tried.strength(best[:count]).score)
        for count in dict.fromkeys(min(count, len(best)) for count in REPORTED)
        if count
    ]
    return (tried.strength(made.manifest.detect), points, made.missing, "", ground.idle_settings(made, package))


def chart(strength: Strength, curve: Sequence[tuple[int, float]]) -> str:
    """Two charts as one drawing, as SVG: what the plan's rules catch by class, and what derived rules would.

    Raises Usage where the library is missing.
    """
    rows = [row for row in strength.rows if not row.wanted]

    def draw(figure: Any) -> None:
        left, right = figure.subplots(1, 2, width_ratios=(3, 2))
        places = range(len(rows))
        left.barh(places, [100 * row.right / row.total for row in rows], color="#2a6f97", height=0.62)
        left.set_yticks(places, [f"{row.sort} ({row.total})" for row in rows])
        left.invert_yaxis()
        left.set_xlim(0, 100)
        left.set_xlabel("% caught by the plan's rules")
        if curve:
            right.plot(
                [count for count, _ in curve],
                [100 * score for _, score in curve],
                color="#2a6f97",
                marker="o",
                label="derived rules",
            )
        right.axhline(100 * strength.score, color="#bc4749", linestyle="--", label=f"the plan's {strength.rules}")
        right.set_ylim(0, 104)
        right.set_xlabel("rules")
        right.set_ylabel("strength in %")
        right.xaxis.get_major_locator().set_params(integer=True)
        right.legend(frameon=False, loc="lower right")
        for axes in (left, right):
            axes.spines[["top", "right"]].set_visible(False)

    missing = "the dossier needs more libraries: pip install 'yendo[dossier]'"
    text = drawn(draw, (9.2, 0.8 + 0.26 * len(rows)), missing=missing, font=9).decode()
    return text[text.index("<svg") :]


def _tree(effects: Sequence[Effect]) -> EffectBranch:
    top = EffectBranch("", [], {})
    for effect in effects[:MOST_SHOWN]:
        path = effect.thing.identity if not hasattr(effect.thing, "path") else effect.thing.path
        *above, last = paths.split(path)
        at = top
        chain = [top]
        for part in above:
            at = at.branches.setdefault(part.lower(), EffectBranch(part, [], {}))
            chain.append(at)
        size = effect.thing.size if isinstance(effect.thing, File) else None
        if effect.kind == "folder":
            at.branches.setdefault(last.lower(), EffectBranch(last, [], {}))
        else:
            version = (
                f"version {effect.thing.version}" if isinstance(effect.thing, File) and effect.thing.version else ""
            )
            at.leaves.append(
                {
                    "name": last,
                    "kind": effect.kind,
                    "change": effect.change,
                    "size": _size(size) if size is not None else "",
                    "version": version,
                    "why": str(effect.evidence or ""),
                }
            )
        for branch in chain:
            branch.size += size or 0
            branch.count += effect.kind != "folder"
    return top


def _signature(package: Path) -> list[str]:
    try:
        found = signing.verify(package)
    except (YendoError, ImportError):
        return ["the package is not signed"]
    return [
        f"{name}: {', '.join(value) if isinstance(value, tuple) else value}"
        for name, value in msgspec.to_builtins(found).items()
        if value not in (None, "", (), [])
    ]


def _unproved(proofs: Sequence[Proof], manifest: form.Manifest) -> Iterator[str]:
    """What nobody has seen yet: a real machine, the runner, scenarios that the package calls for."""
    if not any(proof.place != "simulation" for proof in proofs):
        yield "it was proved on a simulated machine only; nothing was observed on a real one"
    elif not any(proof.runner_executed for proof in proofs):
        yield "the package's own runner was not executed"
    upgrades = any(phase.id == "system-setup" for proof in proofs for phase in proof.phases)
    if upgrades and not any(proof.place == "real Windows" for proof in proofs):
        yield "the setup of the media itself ran nowhere: upgrade one machine of each kind before all others"
    played = {proof.scenario.partition("@")[0] for proof in proofs}
    left = [one.title for name, one in SCENARIOS.items() if name not in played and not one.calls_for(manifest)]
    if left:
        yield f"not played: {', '.join(left)}"


def _questions(
    workspace: Path | None,
    manifest: form.Manifest,
    findings: Sequence[Finding],
    proofs: Sequence[Proof],
    blind: Sequence[str],
    strength: Strength | None,
) -> list[tuple[str, str]]:
    """What is still open, the gravest first: ``(how grave, what)``."""
    found = [
        ("failed", f"{proof.scenario} on {proof.machine}: {phase.title}: {phase.cause or phase.found}")
        for proof in proofs
        for phase in proof.phases
        if phase.outcome == "failed"
    ]
    found += [(finding.severity, f"{finding.message} (line {finding.line} of the plan)") for finding in findings]
    found += [("open", words) for words in _unproved(proofs, manifest)]
    if strength is not None and strength.score < 0.9:
        found.append(
            (
                "open",
                f"detection lets {strength.broken - strength.caught} of {strength.broken} broken states pass; yendo "
                "detect derive proposes rules",
            )
        )
    found += [("open", f"nobody can know from the file alone: {spot}") for spot in blind]
    plan = workspace / "plan.toml" if workspace else None
    if plan and plan.is_file():
        found += [
            ("open", match[1].strip())
            for match in re.finditer(r"#\s*(?:DECIDE|CONFLICT):\s*(.+)", plan.read_text("utf-8"))
        ]
    return list(dict.fromkeys(found))


_WORDS = {
    "registry": "registry value",
    "environment": "variable",
    "part": "part of the system",
    "uninstall-entry": "entry of the list of programs",
    "registry-key": "registry key",
    "ini": "setting in a file",
    "access-rights": "right",
}


def _counted(found: Mapping[str, int]) -> str:
    """``7 files, 1 service``."""
    words = []
    for kind, count in found.items():
        first, _, rest = _WORDS.get(kind, kind).partition(" ")
        plural = {"entry": "entries"}.get(first, first + "s") if rest.startswith(("of", "in")) or not rest else first
        text = (
            f"{first} {rest}".strip()
            if count == 1
            else f"{plural} {rest}".strip()
            if rest.startswith(("of", "in")) or not rest
            else f"{first} {rest}s"
        )
        words.append(f"{count} {text}")
    return ", ".join(words) or "nothing"


def _time(seconds: float | None) -> str:
    if not seconds:
        return ""
    return f"{seconds / 60:g} min" if seconds >= 60 and seconds % 60 == 0 else f"{seconds:g} s"


def _size(count: Any) -> str:
    return size_in_words(count or 0)
