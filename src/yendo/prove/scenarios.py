"""The scenarios of a proof, as data: what each is about, when a package calls for it, and how it is played."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import msgspec

from yendo.errors import YendoError
from yendo.package import manifest as form
from yendo.platforms.windows.capture_record import PROMISE
from yendo.platforms.windows.surroundings import Account
from yendo.prove import ground, plays, staged, upgraded, way_back
from yendo.prove.later_person import later_person
from yendo.prove.stage import Stage
from yendo.steps.registry import RegistryChanges
from yendo.terms.when import Node


class Scenario(msgspec.Struct, frozen=True):
    """``calls_for`` tells why a package does not need it, in words; nothing where it does. ``site``: with the values of
    that one.

    ``bare``: on a machine without what the plan says is there.
    ``verbs``: about how many installs, repairs and removals it takes, by which the longest are begun first.
    ``earlier``: the package that a way back leads to.
    """

    id: str
    title: str
    account: Account
    play: Callable[[Stage], None]
    calls_for: Callable[[form.Manifest], str] = lambda manifest: ""
    note: str = ""
    site: str | None = None
    verbs: int = 3
    bare: bool = False
    earlier: Path | None = None


def at_sites(scenarios: Iterable[Scenario], sites: Iterable[str]) -> list[Scenario]:
    """Every scenario once for each named set of values."""
    return [
        msgspec.structs.replace(one, id=f"{one.id}@{site}", title=f"{one.title}, {site}", site=site) if site else one
        for one in scenarios
        for site in sites
    ]


# --- what packages claim --------------------------------------------------------------------------


def _facts_asked(nodes: tuple[Node, ...]) -> Iterator[str]:
    for node in nodes:
        yield node.fact
        yield from _facts_asked(node.nodes)


def _asks(fact: str) -> Callable[[form.Manifest], str]:
    def reason(manifest: form.Manifest) -> str:
        return (
            ""
            if any(name.partition(" ")[0] == fact for name in _facts_asked(manifest.when))
            else f"the plan asks for no {fact} in [when]"
        )

    return reason


def _needs_outside(manifest: form.Manifest) -> str:
    return "" if any(not need.folder for need in manifest.needs) else "it needs nothing that it does not bring"


def _asks_a_person(manifest: form.Manifest) -> str:
    return "" if any(need.consent for need in manifest.needs) else "it asks nobody before it brings something"


def _closes(manifest: form.Manifest) -> str:
    return (
        ""
        if manifest.in_the_way.get("install", form.ResolvedInTheWay()).programs
        else "the plan names no program that must be closed"
    )


def _may_be_put_off(manifest: form.Manifest) -> str:
    way = manifest.in_the_way.get("install", form.ResolvedInTheWay())
    if not way.ask or not way.postpone:
        return "nobody is asked whether it may begin"
    return "" if way.always or way.programs else "the plan names no program that must be closed"


def _keeps(manifest: form.Manifest) -> str:
    return "" if manifest.keep != "nothing" and manifest.uninstall else "the package keeps nothing on the machine"


def _repairs(manifest: form.Manifest) -> str:
    return "" if manifest.repair else "the plan has no [[repair]]"


def _uses_mode(manifest: form.Manifest) -> str:
    return "" if manifest.install_mode else "the plan says install_mode = false"


def _sets_for_everybody(manifest: form.Manifest) -> str:
    each = any(action.kind == "registry" and RegistryChanges.of(action).each for action in manifest.install)
    held = any(file.path == PROMISE for file in manifest.files) and any(one.kind == "msi" for one in manifest.install)
    return "" if each or held else "the package sets nothing for everybody"


def _removes(manifest: form.Manifest) -> str:
    return "" if manifest.uninstall else "the plan has no uninstall steps"


SCENARIOS: dict[str, Scenario] = {
    scenario.id: scenario
    for scenario in (
        Scenario("desk", "a fresh machine, from first to last", "user", plays.life, note="an elevated user at a desk"),
        Scenario(
            "system",
            "as the system account",
            "system",
            plays.life,
            note="the system account: its own profile, no user's hive, no mapped drive, no session",
        ),
        Scenario("odd-path", "from a path with spaces and other letters", "user", plays.odd_path),
        Scenario(
            "nobody",
            "nobody is logged on",
            "system",
            staged.with_facts(lambda facts: msgspec.structs.replace(facts, people=0), refused=False),
        ),
        Scenario(
            "no-network",
            "no network",
            "system",
            staged.with_facts(lambda facts: msgspec.structs.replace(facts, network="none"), refused=False),
        ),
        Scenario(
            "no-disk",
            "the disk is full",
            "system",
            staged.with_facts(lambda facts: msgspec.structs.replace(facts, disks={"C": 1}), refused=True),
            _asks("disk"),
        ),
        Scenario(
            "need-missing",
            "a prerequisite is missing",
            "system",
            plays.need_missing,
            _needs_outside,
            verbs=1,
            bare=True,
        ),
        Scenario(
            "agrees", "a person is asked, and agrees", "user", staged.consent(agrees=True), _asks_a_person, verbs=1
        ),
        Scenario(
            "declines", "a person is asked, and declines", "user", staged.consent(agrees=False), _asks_a_person, verbs=1
        ),
        Scenario("program-open", "a program is open", "user", plays.program_open, _closes, verbs=2),
        Scenario("put-off", "a person puts it off, and agrees later", "user", staged.put_off, _may_be_put_off, verbs=2),
        Scenario("held", "something stands in the upgrade's way", "system", upgraded.held, upgraded.upgrades, verbs=1),
        Scenario("goes-back", "the upgrade goes back", "system", upgraded.goes_back, upgraded.upgrades, verbs=4),
        Scenario("shared-host", "many people share the machine", "system", staged.shared_host, _uses_mode, verbs=2),
        Scenario("interrupted", "cut off and gone on with", "system", plays.interrupted, verbs=4),
        Scenario("media-gone", "the package's folder is deleted", "system", plays.media_gone, _keeps),
        Scenario("repair", "repaired after damage", "system", plays.repair, _repairs, verbs=4),
        Scenario("twice", "removed twice, installed again", "system", plays.twice, _removes, verbs=5),
        Scenario("starts", "every program started", "user", plays.starts, verbs=1),
        Scenario("later-person", "somebody new logs on afterwards", "system", later_person, _sets_for_everybody),
    )
}
QUICK = ("system", "twice")


def with_others(others: tuple[Path, ...], package: Path, back_to: Iterable[Path] = ()) -> dict[str, Scenario]:
    """All scenarios, and one for each of the vendor's other installers (an older version, a newer one, or another
    product) and for each earlier package that a way back leads to. Raises Usage.
    """
    manifest, lines = form.read(package), ground.lines_of(package)
    found = dict(SCENARIOS)
    for installer in others:
        try:
            _, identity = ground.silent(installer)
        except YendoError as error:
            found[f"other:{installer.name}"] = Scenario(
                f"other:{installer.name}", f"{installer.name} is there", "system", _not_silent(str(error))
            )
            continue
        if lines and identity.upgrade_code and identity.upgrade_code.upper() not in lines:
            name = f"beside:{installer.stem}"
            found[name] = Scenario(
                name,
                f"{identity.name or installer.stem} is there, another product",
                "system",
                plays.upgrade(installer, newer=True),
            )
            continue
        newer = ground.is_newer(identity, manifest)
        name = f"{'newer' if newer else 'upgrade'}:{identity.version}"
        title = f"{identity.version} is there, which is newer" if newer else f"{identity.version} is there"
        found[name] = Scenario(name, title, "system", plays.upgrade(installer, newer=newer))
    for earlier in back_to:
        name = way_back.name_of(earlier, package)
        title = f"back to {name.removeprefix('back:')}"
        found[name] = Scenario(name, title, "system", way_back.way_back(earlier), verbs=5, earlier=earlier)
    return found


def _not_silent(reason: str) -> Callable[[Stage], None]:
    def play(stage: Stage) -> None:
        stage.phase("other", "another version installed first", None, "a silent command line", reason)

    return play
