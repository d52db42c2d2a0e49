"""What each property and each feature changes: effects with and without, compared.

A prediction of the whole installer for every value would do, and take too long where there are
thousands of components. Most rows are the same whatever a property says; they are predicted once,
and only the rows that could differ are carried out again for every value. Where a value moves
folders or switches a standard action, everything is.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property

import msgspec

from yendo.effects import Effect, File, State
from yendo.effects.things import Thing, key_of, parent
from yendo.evidence import row as row_of
from yendo.facts import conditions
from yendo.formats.msi import Database, Table
from yendo.formats.msi.database import TableCell
from yendo.formats.msi.overlay import Overlay
from yendo.installers.msi import describe, engine
from yendo.installers.msi.session import LOCAL
from yendo.platforms.windows.surroundings import Surroundings, windows

_REFERENCE = re.compile(r"\[([^\[\]]+)\]")
_WORD = re.compile(r"[A-Za-z_][\w.]*")
_CHOICES = ("RadioButton", "ComboBox", "ListBox")
A_VALUE, A_FOLDER = "a value", r"C:\Chosen folder"
MAX_VALUES = 12


class PropertyChoice(msgspec.Struct, frozen=True):
    """A value that the database knows for a property: what a person sees for it, and where it stands."""

    value: str
    text: str
    source: str


class PropertyTrial(msgspec.Struct, frozen=True):
    """What setting a value changes against leaving it alone.

    ``added``, ``left_out`` and ``changed`` are things; ``moved`` pairs of things of one row. ``refused``
    is what the installer says where it does not go on. ``made_up``: no value is known, this one was invented.
    """

    value: str
    made_up: bool
    added: tuple[Thing, ...] = ()
    left_out: tuple[Thing, ...] = ()
    changed: tuple[Thing, ...] = ()
    moved: tuple[tuple[Thing, Thing], ...] = ()
    actions: tuple[str, ...] = ()  # custom actions that run, or no longer run, with it
    refused: str | None = None


class PropertyInfluence(msgspec.Struct, frozen=True):
    """A public property: its default (None where unset), where it is used, known values, and what they change."""

    name: str
    default: str | None
    used_in: tuple[str, ...]
    choices: tuple[PropertyChoice, ...]
    trials: tuple[PropertyTrial, ...]


class FeatureInfluence(msgspec.Struct, frozen=True):
    """A feature: whether it is installed by default, the command line words that turn it round, and
    what that changes.
    """

    name: str
    title: str
    parent: str | None
    by_default: bool
    words: str
    trial: PropertyTrial


def choices(database: Database) -> dict[str, tuple[PropertyChoice, ...]]:
    """The values that the database itself knows for its properties: from dialogs and from conditions."""
    found: dict[str, dict[str, PropertyChoice]] = defaultdict(dict)
    for table in _CHOICES:
        for row in database[table]:
            value = row.text("Value")
            if "[" not in value:
                found[row.text("Property")].setdefault(
                    value, PropertyChoice(value, clean_text(row.text("Text")), table)
                )
    for row in database["CheckBox"]:
        value = row.text("Value") or "1"
        found[row.text("Property")].setdefault(value, PropertyChoice(value, "ticked", "CheckBox"))
    for table in database.tables:
        if not any(column.name == "Condition" for column in database.schema[table]):
            continue
        for row in database[table]:
            for name, value in _compared(row.text("Condition")):
                if value not in found[name]:
                    found[name][value] = PropertyChoice(value, "", f"{table}.Condition")
    return {name: tuple(values.values())[:MAX_VALUES] for name, values in found.items()}


_OPPOSITES = {"1": "0", "0": "1", "yes": "no", "no": "yes", "true": "false", "false": "true", "on": "off", "off": "on"}


def _other(default: str | None) -> str:
    """A value to try where the database knows none but its default."""
    other = _OPPOSITES.get((default or "").lower(), A_VALUE)
    return other.upper() if default and default.isupper() and other != A_VALUE else other


def clean_text(text: str) -> str:
    """A dialog's text without its font marks and accelerators."""
    return re.sub(r"\{\\?[^{}]*\}|\{&[^{}]*\}", "", text).replace("&", "").strip()


def _compared(text: str) -> Iterator[tuple[str, str]]:
    """``(property, value)`` for each comparison with a fixed value, ``"1"`` where it only has to be set."""
    if not text:
        return
    try:
        node = conditions.parse(text)
    except conditions.ConditionError:
        return
    waiting: list[conditions.ConditionNode] = [node] if node else []
    while waiting:
        at = waiting.pop()
        if isinstance(at, conditions.Join):
            waiting += at.parts
        elif isinstance(at, conditions.Not):
            waiting.append(at.inner)
        elif isinstance(at, conditions.Compare):
            for one, other in ((at.left, at.right), (at.right, at.left)):
                if one.kind == "property" and other.kind in ("literal", "number") and other.text.strip('"'):
                    yield one.text, other.text.strip('"')
        elif isinstance(at, conditions.ConditionValue) and at.kind == "property":
            yield at.text, "1"


class Influences:
    """Works out influences on one database; the parts that all trials share are made once."""

    def __init__(
        self, database: Database, given: Mapping[str, str] | None = None, surroundings: Surroundings | None = None
    ) -> None:
        self.database, self.given = database, dict(given or {})
        self.surroundings = surroundings or windows()
        self.baseline = describe.baseline(self.surroundings)
        self.account = describe.property_facts(database)
        self.choices = choices(database)
        self.after = self.baseline.copy()
        self.whole = engine.run(database, self.surroundings, self.after, self.given, remember=False)
        self.after.is_empty("C:")  # counted once, and copied from then on
        self._rows = _by_component(database)

    def _run(self, database: Database, given: Mapping[str, str], state: State) -> engine.EngineOutcome:
        return engine.run(database, self.surroundings, state, given, remember=False, trial=True)

    # --- properties --------------------------------------------------------------------------------

    def properties(self, names: Iterable[str] | None = None) -> list[PropertyInfluence]:
        """Every public property that a silent installation looks at, or those that are named."""
        wanted = None if names is None else set(names)
        chosen = [entry for entry in self.account if (entry.in_silence if wanted is None else entry.name in wanted)]
        trimmed = self._trimmed(self.database, self._rows, {entry.name for entry in chosen})
        rows = _by_component(trimmed.database)
        out = []
        for entry in chosen:
            known = tuple(choice for choice in self.choices.get(entry.name, ()) if choice.value != entry.default)
            folder = entry.name in self._folders
            values = [(choice.value, False) for choice in known]
            if any(choice.source == "CheckBox" for choice in self.choices.get(entry.name, ())) and entry.default:
                values.append(("", False))  # not ticked
            values = values or [(A_FOLDER if folder else _other(entry.default), True)]
            own = trimmed if folder else self._trimmed(trimmed.database, rows, {entry.name})
            trials = tuple(self._try(own, entry.name, value, made_up, whole=folder) for value, made_up in values)
            out.append(
                PropertyInfluence(entry.name, entry.default, entry.used_in, self.choices.get(entry.name, ()), trials)
            )
        return out

    @property
    def _folders(self) -> set[str]:
        return {row.text("Directory") for row in self.database["Directory"]}

    def _try(self, trimmed: _Slice, name: str, value: str, made_up: bool, *, whole: bool) -> PropertyTrial:
        given = {**self.given, name: value}
        if not whole:
            outcome = self._run(trimmed.database, given, trimmed.state)
            if self._comparable(outcome, trimmed.outcome):
                return compare_outcomes(value, made_up, trimmed.outcome, outcome)
        outcome = self._run(self.database, given, self.baseline)
        return compare_outcomes(value, made_up, self.whole, outcome)

    def _comparable(self, outcome: engine.EngineOutcome, base: engine.EngineOutcome) -> bool:
        """Whether a run over the rows that could differ tells all: no folder moved, no standard action switched."""
        folders = self._folders
        if any(outcome.properties.get(name) != base.properties.get(name) for name in folders):
            return False
        ran = [{step.action for step in run.steps if step.ran and step.kind == "standard"} for run in (outcome, base)]
        return ran[0] == ran[1] or not outcome.done

    def _trimmed(self, database: Database, rows: _Rows, names: set[str]) -> _Slice:
        """The rows that can differ with one of these properties."""
        changing = names | self._set_on_the_way
        switched = {row.text("Feature_") for row in database["Condition"] if _depends(row.text("Condition"), changing)}
        parents = dict(database["Feature"].pick("Feature", "Feature_Parent"))
        switched = {name for name in parents if switched & set(_with_ancestors(name, parents))} if switched else set()
        components = {
            component
            for component, feature in database["FeatureComponents"].pick("Component_", "Feature_")
            if feature in switched
        }
        components |= {
            name
            for name, condition in database["Component"].pick("Component", "Condition")
            if condition and _depends(condition, changing)
        }
        return self._slice(database, rows, components, changing)

    @cached_property
    def _set_on_the_way(self) -> set[str]:
        """Properties that the sequence itself sets, and so from others."""
        found = {row.text("Source") for row in self.database["CustomAction"] if row.number("Type") & 0x3F == 51}
        return found | {row.text("Property") for row in self.database["AppSearch"]}

    def _slice(self, database: Database, rows: _Rows, components: set[str], changing: set[str]) -> _Slice:
        kept: dict[str, list[tuple[TableCell, ...]]] = {table: [] for table in rows.tables}
        for table, groups in rows.tables.items():
            for component in components:
                kept[table] += groups.get(component, ())
        whole = set(components)
        for name in changing:
            for table, component, cells in rows.mentions.get(name, ()):
                if component not in components and cells not in kept[table]:
                    kept[table].append(cells)
                    whole.add(component)
        if "File" in kept:
            known = set(kept["File"])
            for component in whole - components:  # what stands for a component is looked up by its rows
                kept["File"] += [cells for cells in rows.tables["File"].get(component, ()) if cells not in known]
        overlay = Overlay(database, [])
        for table, some in kept.items():
            overlay.replace(table, some)
        overlay.replace("Component", [cells for cells in database["Component"].cells if cells[0] in whole])
        overlay.replace(
            "FeatureComponents", [cells for cells in database["FeatureComponents"].cells if cells[1] in whole]
        )
        state = self._without(kept)
        outcome = self._run(overlay, self.given, state)
        return _Slice(overlay, state, outcome)

    @cached_property
    def _done_by(self) -> dict[str, list[Effect]]:
        """What the whole run added, by the row that said so."""
        found: dict[str, list[Effect]] = defaultdict(list)
        for effect in self.whole.effects:
            if effect.change == "add" and effect.evidence:
                found[effect.evidence.where].append(effect)
        return found

    @cached_property
    def _done_by_others(self) -> list[Effect]:
        """What rows did that belong to no component; each run does it again."""
        return [
            effect
            for where, some in self._done_by.items()
            if where.partition("[")[0] not in self._rows.tables
            for effect in some
        ]

    def _without(self, kept: Mapping[str, list[tuple[TableCell, ...]]]) -> State:
        """The machine after the whole run, without what these rows did, and what no component's row did."""
        gone = list(self._done_by_others)
        for table, some in kept.items():
            columns = self.database.schema[table]
            keys = [at for at, column in enumerate(columns) if column.is_key]
            for cells in some:
                where = row_of(table, *("" if cells[at] is None else cells[at] for at in keys)).where
                gone += self._done_by.get(where, [])
        state = self.after.copy()
        for effect in gone:
            kind, identity = key_of(effect.thing)
            if kind != "folder":
                state.remove(kind, identity)
        for effect in sorted(
            (effect for effect in gone if effect.kind == "folder"), key=lambda effect: -len(effect.thing.identity)
        ):
            if state.is_empty(effect.thing.identity):
                state.remove("folder", effect.thing.identity)
        return state

    # --- features ------------------------------------------------------------------------------------

    def features(self) -> list[FeatureInfluence]:
        """Every feature, turned round against what is installed by default."""
        database = self.database
        rows = {row.text("Feature"): row for row in database["Feature"]}
        parents = {name: row.text("Feature_Parent") for name, row in rows.items()}
        of: dict[str, set[str]] = defaultdict(set)
        for feature, component in database["FeatureComponents"].pick("Feature_", "Component_"):
            of[feature].add(component)
        local = [name for name, state in self.whole.features.items() if state == LOCAL]
        conditional = {
            name
            for name, text in database["Component"].pick("Component", "Condition")
            if text and re.search(r"[&!$?]\w", text)
        }
        out = []
        for name, row in rows.items():
            below = {
                other for other in rows if name in _with_ancestors(other, parents)
            }  # some follow the one above them
            touched = below if name in local else below | set(_with_ancestors(name, parents))
            piece = self._slice(
                database,
                self._rows,
                {component for feature in touched for component in of[feature]} | conditional,
                set(),
            )
            words = f"REMOVE={name}" if name in local else f"ADDLOCAL={','.join([*local, name])}"
            key, _, value = words.partition("=")
            outcome = self._run(piece.database, {**self.given, key: value}, piece.state)
            if not self._comparable(outcome, piece.outcome):
                outcome = self._run(database, {**self.given, key: value}, self.baseline)
                trial = compare_outcomes(value, False, self.whole, outcome)
            else:
                trial = compare_outcomes(value, False, piece.outcome, outcome)
            out.append(FeatureInfluence(name, row.text("Title"), parents[name] or None, name in local, words, trial))
        return out


class _Slice(msgspec.Struct):
    """Some rows of a database, a machine that has everything else, and the run over these rows as things stand."""

    database: Overlay
    state: State
    outcome: engine.EngineOutcome


class _Rows(msgspec.Struct):
    """The rows of every table that has a component: by it, and by the properties that they mention."""

    tables: dict[str, dict[str, list[tuple[TableCell, ...]]]]
    mentions: dict[str, list[tuple[str, str, tuple[TableCell, ...]]]]


def _by_component(database: Database) -> _Rows:
    tables: dict[str, dict[str, list[tuple[TableCell, ...]]]] = {}
    mentions: dict[str, list[tuple[str, str, tuple[TableCell, ...]]]] = defaultdict(list)
    for name in database.tables:
        if name in ("Component", "FeatureComponents"):
            continue
        table: Table = database[name]
        at = next((at for at, column in enumerate(table.columns) if column.name == "Component_"), None)
        if at is None:
            continue
        groups: dict[str, list[tuple[TableCell, ...]]] = defaultdict(list)
        for cells in table.cells:
            component = str(cells[at])
            groups[component].append(cells)
            for cell in cells:
                if isinstance(cell, str) and "[" in cell:
                    for property_ in _REFERENCE.findall(cell):
                        mentions[property_].append((name, component, cells))
        tables[name] = groups
    return _Rows(tables, mentions)


def _depends(condition: str, names: set[str]) -> bool:
    """Whether a condition could turn out otherwise when these properties change; states of features and components may
    follow them.
    """
    return bool(names & set(_WORD.findall(condition))) or any(mark in condition for mark in "&!$?")


def _with_ancestors(name: str, parents: Mapping[str, str]) -> list[str]:
    out = []
    while name and name not in out:
        out.append(name)
        name = parents.get(name, "")
    return out


def compare_outcomes(
    value: str, made_up: bool, without: engine.EngineOutcome, with_it: engine.EngineOutcome
) -> PropertyTrial:
    """What one run does and another does not."""
    if without.done and not with_it.done:
        return PropertyTrial(value, made_up, refused=with_it.refusal or f"exit code {with_it.exit_code}")
    before = {key_of(effect.thing): effect for effect in without.effects if effect.change != "remove"}
    after = {key_of(effect.thing): effect for effect in with_it.effects if effect.change != "remove"}
    come = [effect for key, effect in after.items() if key not in before]
    gone = [effect for key, effect in before.items() if key not in after]
    changed = tuple(
        effect.thing for key, effect in after.items() if key in before and before[key].thing != effect.thing
    )
    moved = tuple(_moved(gone, come))
    pairs = {key_of(thing) for pair in moved for thing in pair}
    ran = [{step.action for step in run.steps if step.ran and step.kind == "custom"} for run in (without, with_it)]
    return PropertyTrial(
        value,
        made_up,
        tuple(effect.thing for effect in come if key_of(effect.thing) not in pairs),
        tuple(effect.thing for effect in gone if key_of(effect.thing) not in pairs),
        changed,
        moved,
        tuple(sorted(ran[0] ^ ran[1])),
    )


def _moved(gone: list[Effect], come: list[Effect]) -> Iterator[tuple[Thing, Thing]]:
    """Files and shortcuts of one row that are somewhere else; folders follow what is in them."""
    where = {
        (effect.kind, effect.evidence.where): effect.thing
        for effect in come
        if effect.evidence and effect.kind in ("file", "shortcut")
    }
    folders = {effect.thing.identity: effect.thing for effect in come if effect.kind == "folder"}
    left = {effect.thing.identity: effect.thing for effect in gone if effect.kind == "folder"}
    for effect in gone:
        other = where.get((effect.kind, effect.evidence.where)) if effect.evidence else None
        if other is None:
            continue
        yield effect.thing, other
        one, two = (parent(thing.path) if isinstance(thing, File) else "" for thing in (effect.thing, other))
        while one.lower() in left and two.lower() in folders:
            yield left.pop(one.lower()), folders.pop(two.lower())
            one, two = parent(one), parent(two)
