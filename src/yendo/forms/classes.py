"""File types and COM servers in tables of their own, where those make exactly the values that were captured; what they
make differently, or not at all, stays a value.

Source: the documentation of tables Extension, Verb, ProgId, MIME and Class, and of the actions that register them: a
verb's command is the component's key file in quotation marks with its argument; a class's default value is the key
file's path, in the view of its component. A server that is a program of its own (``LocalServer32``) stays a value: by
the table its path is written in the short form.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

import msgspec

from yendo.effects.things import RegistryValue
from yendo.formats.msi.database import TableCell
from yendo.forms.places import escaped
from yendo.platforms.windows.capture_record import usual
from yendo.steps.captured import Decided

_CLASSES = "software\\classes\\"
_LONGEST = 255  # characters that the tables' columns take
_SERVER = re.compile(r"clsid\\(\{[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}\})\\inprocserver32")


class TypeVerb(msgspec.Struct, frozen=True):
    """What can be done with files of a type: its name, the words for people, and what follows the program."""

    name: str
    label: str | None
    argument: str


class FeatureRow(msgspec.Struct, frozen=True):
    """A row of table Extension or Class that still needs its feature, which follows from its component."""

    table: str
    before: tuple[TableCell, ...]
    component: str
    behind: tuple[TableCell, ...] = ()


class ClassRows:
    """The rows of what tables make, and ``taken``, what of ``wanted`` they stand for, by ``id``.

    ``files`` are the component and key of each file, by its placed path in small letters; ``views`` the registry that
    a component with a file writes to.
    """

    def __init__(
        self, wanted: Iterable[Decided], files: Mapping[str, tuple[str, str]], views: Mapping[str, str]
    ) -> None:
        self.rows: list[tuple[str, tuple[TableCell, ...]]] = []
        self.taken: set[int] = set()
        self._files, self._views = files, views
        self._found: dict[tuple[str, str], Decided] = {}
        self._below: dict[str, dict[str, str]] = {}  # the keys below a key, as they are written
        self._later: list[FeatureRow] = []
        self._identifiers: set[str] = set()
        for one in wanted:
            self._read(one)
        for key, name in sorted(self._found):
            if key.startswith(".") and not name and "\\" not in key:
                self._extension(key)
            elif not name and (match := _SERVER.fullmatch(key)):
                self._server(match[1].upper(), key)

    def of_features(self, feature_of: Mapping[str, str]) -> list[tuple[str, tuple[TableCell, ...]]]:
        """The rows that name a feature, by the feature of each component."""
        return [(one.table, (*one.before, feature_of[one.component], *one.behind)) for one in self._later]

    def _read(self, one: Decided) -> None:
        """A captured value below the classes: a table makes texts of the machine's, as they were."""
        thing = one.caught.effect.thing
        if not isinstance(thing, RegistryValue) or thing.hive != "HKLM" or one.caught.effect.change != "add":
            return
        if not thing.key.lower().startswith(_CLASSES) or one.to is not None or one.caught.bound is not None:
            return
        path = thing.key[len(_CLASSES) :]
        if thing.type == "sz" and isinstance(thing.data, str) and len(thing.data) <= _LONGEST:
            self._found[path.lower(), thing.name.lower()] = one
        while "\\" in path:
            path, _, name = path.rpartition("\\")
            self._below.setdefault(path.lower(), {})[name.lower()] = name

    def _text(self, key: str, name: str = "") -> str:
        """What a value says; empty where there is none."""
        found = self._found.get((key.lower(), name.lower()))
        thing = found.caught.effect.thing if found else None
        return str(thing.data) if isinstance(thing, RegistryValue) else ""

    def _take(self, key: str, name: str = "") -> None:
        if found := self._found.get((key.lower(), name.lower())):
            self.taken.add(id(found))

    def _extension(self, key: str) -> None:
        """A file type: its identifier, and the verbs of it that start the same program of ours."""
        identifier = self._text(key)
        program, verbs = self._verbs(identifier)
        if not identifier or not verbs:
            return
        content: str | None = self._text(key, "Content Type")
        listed = f"MIME\\Database\\Content Type\\{content}"
        if not content or self._text(listed, "Extension").lower() != key:
            content = None  # the table would list it with the content types as well
        own = self._found[key, ""].caught.effect.thing
        assert isinstance(own, RegistryValue)
        name, component = own.key.rpartition(".")[2], self._files[program][0]
        self._later.append(FeatureRow("Extension", (name, component, identifier, content), component))
        self._take(key)
        first = self._text(f"{identifier}\\shell").lower()
        for verb in verbs:
            at = 1 if first == verb.name.lower() else None
            label, argument = escaped(verb.label or "") or None, escaped(verb.argument) or None
            self.rows.append(("Verb", (name, verb.name, at, label, argument)))
            self._take(f"{identifier}\\shell\\{verb.name}")
            self._take(f"{identifier}\\shell\\{verb.name}\\command")
            if at:
                self._take(f"{identifier}\\shell")
        if content:
            self.rows.append(("MIME", (content, name, None)))
            self._take(key, "Content Type")
            self._take(listed, "Extension")
        self._identifier(identifier, None, None)

    def _verbs(self, identifier: str) -> tuple[str, list[TypeVerb]]:
        """The program of ours that most verbs of a type start, and those verbs."""
        found: dict[str, list[TypeVerb]] = {}
        for name in self._below.get(f"{identifier}\\shell".lower(), {}).values():
            place = f"{identifier}\\shell\\{name}"
            line = re.fullmatch(r'"([^"]+)"(?: (.+))?', self._text(f"{place}\\command"))
            # what has other keys beside its command says more than a row of table Verb
            if line and usual(line[1].lower()) in self._files and set(self._below[place.lower()]) == {"command"}:
                verb = TypeVerb(name, self._text(place) or None, line[2] or "")
                found.setdefault(usual(line[1].lower()), []).append(verb)
        return max(found.items(), key=lambda item: (len(item[1]), item[0]), default=("", []))

    def _server(self, code: str, key: str) -> None:
        """A class that a library of ours serves, with its identifiers where they are the usual ones."""
        thing = self._found[key, ""].caught.effect.thing
        assert isinstance(thing, RegistryValue)
        found = self._files.get(usual(str(thing.data).lower()))
        if found is None or self._views[found[0]] != thing.view:
            return
        place = f"CLSID\\{code}"
        identifier: str | None = self._text(f"{place}\\ProgID")
        if not identifier or self._text(f"{identifier}\\CLSID").upper() != code:
            identifier = None
        description = self._text(place) or None
        row = (code, "InprocServer32", found[0], identifier, description, *(None,) * 6)
        self._later.append(FeatureRow("Class", row, found[0], (None,)))
        self._take(key)
        self._take(place)
        if identifier:
            self._identifier(identifier, None, code)
            self._take(f"{place}\\ProgID")
            other = self._text(f"{place}\\VersionIndependentProgID")
            if other and self._text(f"{other}\\CurVer").lower() == identifier.lower():
                self._identifier(other, identifier, code)
                self._take(f"{place}\\VersionIndependentProgID")
                self._take(f"{other}\\CurVer")

    def _identifier(self, identifier: str, above: str | None, code: str | None) -> None:
        """A row of table ProgId, once. Its description is a text as it is, where a verb's is a formatted one."""
        if identifier.lower() not in self._identifiers:
            self._identifiers.add(identifier.lower())
            own = None if above else code
            self.rows.append(("ProgId", (identifier, above, own, self._text(identifier) or None, None, None)))
        self._take(identifier)
        if code and self._text(f"{identifier}\\CLSID").upper() == code:
            self._take(f"{identifier}\\CLSID")
