"""The dossier of a half for macOS: what the person who signs off needs, as one page that needs nothing else.

What is laid is read from the built package, and not from the plan.
"""

from __future__ import annotations

import plistlib
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from yendo import digest
from yendo.check import Finding
from yendo.detect.strength import Strength
from yendo.errors import Usage, YendoError
from yendo.mac import reading as packages
from yendo.mac.package import MacItem, MacPackage
from yendo.mac_half import build, scenes, strength
from yendo.mac_half import prove as proving
from yendo.mac_half import reading as plans
from yendo.mac_half.model import MacPlan
from yendo.mac_half.prove import MacProof
from yendo.prove.dossier import MOST_SHOWN, EffectBranch, chart, rendered
from yendo.terms.amounts import size_in_words

NO_MAC = "no Mac was asked: machines are simulated, and stand-ins take the place of the system's programs"


def current(base: Path, plan: MacPlan) -> tuple[Path, MacProof]:
    """The built folder, which is what the plan gives, and the proof of these very bytes. Raises Usage."""
    folder, told = build.as_planned(base, plan)
    proof = proving.kept(base)
    if proof is None:
        raise Usage(f"there is no proof of {folder.name} yet: yendo prove {base.name}")
    if proof.digest != told:
        raise Usage(f"{folder.name} has changed since its proof, which belongs to other bytes: prove it again")
    return folder, proof


def page(base: Path, findings: Sequence[Finding] = ()) -> str:
    """The page as HTML. Raises Usage as ``current`` does, PlanError, Unreadable, and where a library is missing."""
    plan, _ = plans.read(base)
    folder, proof = current(base, plan)
    own = f"{plan.package.id}-{plan.package.version}-r{plan.package.revision}"
    package = packages.read(folder / f"{own}.pkg")
    found, missing = _strength(base, plan)
    return rendered(
        "mac-dossier.html.jinja",
        divider="/",
        plan=plan,
        package=package,
        digest=proof.digest,
        files=list(_files(folder)),
        steps=[(step.title, step.note) for step in plan.install],
        conditions=list(plan.conditions),
        rules=[rule.title for rule in plan.detect],
        tree=_tree(_items(package)),
        count=len(_items(package)),
        scripts=[(one.identifier, script) for one in package.components for script in one.scripts],
        removal=(folder / "remove" / "remove.sh").read_text("utf-8"),
        profiles=list(_profiles(folder)),
        proof=proof,
        titles={one.scenario: proving.title_of(one.scenario) for one in proof.played},
        passed=sum(one.proved for one in proof.played),
        strength=found,
        chart=chart(found, []) if found else "",
        missing=missing,
        questions=_questions(base, package, proof, findings, found),
        where=NO_MAC,
    )


def _items(package: MacPackage) -> list[MacItem]:
    return [item for component in package.components for item in component.items if item.kind != "folder"]


def _tree(items: Sequence[MacItem]) -> EffectBranch:
    top = EffectBranch("", [], {})
    for item in items[:MOST_SHOWN]:
        *above, last = item.path.strip("/").split("/")
        chain = [top]
        for part in above:
            chain.append(chain[-1].branches.setdefault(part, EffectBranch(part, [], {})))
        chain[-1].leaves.append(
            {
                "name": last,
                "kind": item.kind,
                "change": "add",
                "size": size_in_words(item.size) if item.kind == "file" else f"to {item.target}",
                "version": f"{item.mode} {item.user}:{item.group}",
                "why": "",
            }
        )
        for branch in chain:
            branch.size += item.size
            branch.count += 1
    return top


def _files(folder: Path) -> Iterator[tuple[str, int, str, str]]:
    """Each file of the built folder: its name, size, digest, and who signed it where it is a package."""
    for path in sorted(folder.rglob("*")):
        if path.is_file():
            signed = packages.signature_of(path).words if path.suffix == ".pkg" else ""
            yield path.relative_to(folder).as_posix(), path.stat().st_size, digest.of_file(path), signed


def _profiles(folder: Path) -> Iterator[tuple[str, list[str]]]:
    for path in sorted(folder.glob("*.mobileconfig")):
        listed = plistlib.loads(path.read_bytes())
        yield path.name, [str(one["PayloadType"]) for one in listed["PayloadContent"]]


def _strength(base: Path, plan: MacPlan) -> tuple[Strength | None, list[str]]:
    if not plan.detect:
        return None, []
    try:
        found = strength.measure(base, plan)
    except YendoError as error:
        return None, [f"strength was not measured: {error}"]
    return found.strength(), [f"not tried: {one}" for one in found.missing]


def _questions(
    base: Path, package: MacPackage, proof: MacProof, findings: Sequence[Finding], found: Strength | None
) -> list[tuple[str, str]]:
    """What is still open, the gravest first: ``(how grave, what)``."""
    asked: list[tuple[str, str]] = []
    for one in proof.played:
        for phase in one.phases:
            asked += [("failed", f"{one.scenario}: {phase.name}: {problem}") for problem in phase.problems]
    asked += [(one.severity, f"{one.message} (line {one.line} of {plans.NAME})") for one in findings]
    if not proof.real:
        asked.append(("open", NO_MAC))
    if not proof.executed:
        asked.append(("open", f"scripts ran nowhere: {proof.why_not}"))
    if package.signature.state != "holds":
        asked.append(("open", f"the package is {package.signature.words}: a management service takes signed ones only"))
    asked += [("open", f"what {one} does is in no proof: it has no stand-in") for one in proof.blind]
    played = {one.scenario for one in proof.played}
    left = [one.title for name, one in scenes.SCENARIOS.items() if name not in played]
    if left:
        asked.append(("open", f"not played, as nothing called for it or it was not asked: {', '.join(left)}"))
    if found is not None and found.score < 0.9:
        missed = found.broken - found.caught
        asked.append(
            (
                "open",
                f"detection lets {missed} of {found.broken} broken states pass; yendo detect derive proposes rules",
            )
        )
    text = (base / plans.NAME).read_text("utf-8")
    asked += [("open", match[1].strip()) for match in re.finditer(r"#\s*(?:DECIDE|CONFLICT):\s*(.+)", text)]
    return list(dict.fromkeys(asked))
