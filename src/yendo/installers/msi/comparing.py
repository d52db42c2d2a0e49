"""Two databases held against each other: their rows, and what the difference does to a machine."""

from __future__ import annotations

from collections import defaultdict
from pathlib import Path

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats.msi import Database
from yendo.formats.msi.overlay import difference
from yendo.formats.msi.transform import Transform
from yendo.installers.msi import describe, engine
from yendo.installers.msi.influence import PropertyTrial, compare_outcomes
from yendo.installers.msi.media import MissingMedia, payload
from yendo.installers.msi.session import LOCAL, long_name
from yendo.platforms.windows.surroundings import windows


class Compared(msgspec.Struct, frozen=True):
    """``transform`` makes the second out of the first; ``effects`` compares what the two do to a fresh machine."""

    transform: Transform
    effects: PropertyTrial
    blind_before: tuple[str, ...]
    blind_after: tuple[str, ...]

    @property
    def rows(self) -> dict[str, tuple[int, int, int]]:
        """Rows added, dropped and changed, by table."""
        return {
            name: (len(change.inserted), len(change.deleted), len(change.updated))
            for name, change in self.transform.tables.items()
        }


def compare(one: Database, other: Database) -> Compared:
    """Rows under the columns of the second database, and effects on a fresh machine."""
    found = difference(one, other, to_apply=False)
    around = windows()
    outcomes = [
        engine.run(database, around, describe.baseline(around), remember=False, contents=_contents(database))
        for database in (one, other)
    ]
    blind = [tuple(dict.fromkeys(spot.what for spot in outcome.blind_spots)) for outcome in outcomes]
    return Compared(found, compare_outcomes("", False, outcomes[0], outcomes[1]), blind[0], blind[1])


def _contents(database: Database) -> dict[str, bytes]:
    """The files of a database where they are at hand, so that a change within the same size is seen."""
    try:
        return payload(database, database.source) if isinstance(database.source, Path) else {}
    except (MissingMedia, NotCovered, Unreadable):
        return {}


class ComparedFeature(msgspec.Struct, frozen=True):
    """A feature in its place: ``depth`` below the top, sizes in bytes, its own files and those with all below it.

    A file that several features share is counted once in each, so sums may exceed the whole.
    """

    name: str
    title: str
    description: str
    depth: int
    level: int
    installed: bool
    files: int
    size: int
    files_below: int
    size_below: int
    condition: str


def features(database: Database, outcome: engine.EngineOutcome) -> list[ComparedFeature]:
    """The feature tree, in the order in which dialogs show it, parents before children."""
    sizes: dict[str, list[int]] = defaultdict(list)
    for component, size in database["File"].pick("Component_", "FileSize"):
        sizes[component].append(size or 0)
    components: dict[str, set[str]] = defaultdict(set)
    for feature, component in database["FeatureComponents"].pick("Feature_", "Component_"):
        components[feature].add(component)
    conditions = {
        row.text("Feature_"): f"level {row.number('Level')} if {row.text('Condition')}" for row in database["Condition"]
    }
    children: dict[str, list[str]] = defaultdict(list)
    rows = {row.text("Feature"): row for row in database["Feature"]}
    for name, row in sorted(rows.items(), key=lambda pair: (pair[1].number("Display") or 1 << 15, pair[0])):
        above = row.text("Feature_Parent")
        children[above if above in rows and above != name else ""].append(name)
    out: list[ComparedFeature] = []

    def below(name: str, seen: frozenset[str]) -> set[str]:
        found = set(components[name])
        for child in children[name]:
            if child not in seen:
                found |= below(child, seen | {child})
        return found

    def visit(name: str, depth: int) -> None:
        row, all_of_it = rows[name], below(name, frozenset({name}))
        own = [size for component in components[name] for size in sizes[component]]
        whole = [size for component in all_of_it for size in sizes[component]]
        out.append(
            ComparedFeature(
                name,
                row.text("Title"),
                row.text("Description"),
                depth,
                row.number("Level"),
                outcome.features.get(name) == LOCAL,
                len(own),
                sum(own),
                len(whole),
                sum(whole),
                conditions.get(name, ""),
            )
        )
        if depth < 60:
            for child in children[name]:
                visit(child, depth + 1)

    for name in children[""]:
        visit(name, 0)
    return out


class StreamFacts(msgspec.Struct, frozen=True):
    """A stream of the database: what it is, in words, and its size in bytes."""

    name: str
    size: int
    what: str


def streams(database: Database) -> list[StreamFacts]:
    """The embedded streams: cabinets, and what belongs to rows."""
    cabinets = {row.text("Cabinet")[1:] for row in database["Media"] if row.text("Cabinet").startswith("#")}
    found = []
    for name, entry in sorted(database.streams.items()):
        table, _, key = name.partition(".")
        if name in cabinets:
            files = sum(1 for _ in database["File"])
            what = f"cabinet, for {files} files" if len(cabinets) == 1 else "cabinet"
        elif name.startswith("\x05"):
            what = {"\x05SummaryInformation": "summary information"}.get(
                name, "signature" if "Signature" in name else "property set"
            )
        elif table in database:
            actions = (
                [row.text("Action") for row in database["CustomAction"].where(Source=key)] if table == "Binary" else []
            )
            what = f"row {key} of {table}" + (f", used by {', '.join(actions[:3])}" if actions else "")
        else:
            what = "named by no row"
        found.append(StreamFacts(name, entry.size, what))
    return found


def safe_name(name: str) -> str:
    """A stream's name as a file's: no separator, drive or control character, never hidden, never a device."""
    plain = (
        "".join(
            character if character.isalnum() or character in "._- " else "_" for character in long_name(name)
        ).strip(" .")
        or "stream"
    )
    device = plain.split(".")[0].upper() in {
        "CON",
        "PRN",
        "AUX",
        "NUL",
        *(f"{kind}{number}" for kind in ("COM", "LPT") for number in range(10)),
    }
    return ("_" + plain if device else plain)[:120]
