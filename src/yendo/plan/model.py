"""The plan as types. Reading, checking, the JSON Schema and the reference all come from here."""

from __future__ import annotations

import inspect
import re
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta

from yendo.facts.versions import VersionRange
from yendo.steps import AnyStep, Step
from yendo.steps.host import HOME
from yendo.terms.amounts import Architecture, Digest, Identifier, Text, Written, check_line, check_relative, seconds
from yendo.terms.rules import Rule
from yendo.terms.settings import Name, Setting, SettingValue
from yendo.terms.when import Condition


class Package(Written, frozen=True, kw_only=True):
    """What the package is.

    ``revision`` counts the packager's own changes to one vendor version; ``folder`` is the name of the built package.
    ``owner`` answers for the product in the office, ``contact`` for the package; ``date`` is the day of the package,
    ``support`` the page where people get help, ``icon`` a picture below ``extras/``: else the installer's own is taken.
    ``permanent`` says why it cannot be removed; then no uninstall is asked for.
    """

    id: Identifier
    name: Text
    version: Text
    revision: Annotated[int, Meta(ge=1)] = 1
    publisher: str = ""
    architecture: Architecture = "any"
    language: str = ""
    scope: Literal["machine", "user"] = "machine"
    description: str = ""
    contact: str = ""
    notes: str = ""
    owner: str = ""
    date: Annotated[str, Meta(pattern=r"^(\d{4}-\d{2}-\d{2})?$")] = ""
    category: str = ""
    keywords: tuple[Text, ...] = ()
    support: Annotated[str, Meta(pattern=r"^(https?://[^\s\"<>]+)?$")] = ""
    icon: str = ""
    permanent: str = ""
    folder: str = "{id}-{version}-r{revision}"

    def __post_init__(self) -> None:
        lines = ("name", "version", "publisher", "language", "contact", "owner", "category", "support", "icon")
        for name in (*lines, "permanent"):
            check_line(name, getattr(self, name))
        unknown = set(re.findall(r"\{([^{}]*)\}", self.folder)) - {
            "id",
            "version",
            "revision",
            "publisher",
            "architecture",
        }
        if unknown or not {"{id}", "{version}", "{revision}"} <= set(re.findall(r"\{[^{}]*\}", self.folder)):
            raise ValueError("folder holds {id}, {version} and {revision}, and may hold {publisher} and {architecture}")


class Media(Written, frozen=True, kw_only=True):
    """A vendor's file below ``media/``, never changed."""

    file: Text
    sha256: Digest
    size: Annotated[int, Meta(ge=0)] | None = None
    origin: str = ""

    def __post_init__(self) -> None:
        try:
            check_relative(self.file)
        except ValueError as error:
            raise ValueError(f"file: {error}") from error


class Way(Written, frozen=True, kw_only=True):
    """Programs that must not run meanwhile, for one verb.

    They are asked to close, and ended after ``wait``. With ``ask`` the person decides first: now, or later, at most
    ``postpone`` times and until ``postpone_for`` after the first question; ``always`` asks also where nothing is open.
    ``in_use`` also looks who has the package's own files open. ``text`` maps languages to what the person reads.
    """

    programs: tuple[Text, ...] = ()
    wait: str = "2 min"
    ask: bool = False
    always: bool = False
    postpone: Annotated[int, Meta(ge=0, le=99)] = 3
    postpone_for: str = "3 days"
    in_use: tuple[Text, ...] = ()
    text: dict[str, Text] = {}

    def __post_init__(self) -> None:
        seconds(self.wait)
        seconds(self.postpone_for)
        if self.always and not self.ask:
            raise ValueError("always belongs to ask: there is nobody else whom it concerns")

    @property
    def names(self) -> tuple[str, ...]:
        """The programs' names as processes have them, without ``.exe``."""
        return tuple(re.sub(r"(?i)\.exe$", "", name.strip()) for name in self.programs)


class InTheWay(Way, frozen=True, kw_only=True):
    """The same for an install, and where they differ for the other verbs.

    ``progress`` shows the person how far it is.
    """

    progress: bool = False
    uninstall: Way | None = None
    repair: Way | None = None

    def of(self, verb: str) -> Way:
        """What is in the way of a verb."""
        return {"uninstall": self.uninstall, "repair": self.repair}.get(verb) or self


class Need(Written, frozen=True, rename={"source": "from"}, kw_only=True):
    """What must be there before the first step: another package, or a fact.

    ``package`` is its id, ``version`` a range; ``from`` is the built package in a folder below ``extras/``, which is
    installed where it is missing, with ``consent`` (texts by language) only if the person agrees. Without ``from`` it
    is expected from outside. ``holds`` are rules that tell whether it is there; a package that lies in ``from`` brings
    its own. With ``remove`` the last one that needs it takes it away with itself.
    """

    package: Identifier | None = None
    version: str | None = None
    source: str | None = None
    holds: tuple[Rule, ...] = ()
    consent: dict[str, Text] = {}
    remove: bool = False
    note: str = ""

    def __post_init__(self) -> None:
        if not self.package and not self.holds:
            raise ValueError("a need names a package, or rules that hold where it is met")
        if self.version:
            VersionRange.parse(self.version)
        if (self.source or self.version) and not self.package:
            raise ValueError("from and version belong to a package, by its id")


class Proving(Written, frozen=True, kw_only=True):
    """How the package is proved, and how far its program may change by itself.

    ``updates_itself``: the program may update itself, and a newer version then counts as installed. ``others`` are the
    vendor's other installers below the workspace (older, newer, other products), which detection has to tell apart and
    upgrades start from. ``accept`` are things that may be left behind, as the proof names them, with ``*`` for what
    changes. ``back_to``: folders of earlier builds of this package, to which a way back is proved. ``machines`` and
    ``scenarios`` are proved where the command does not say otherwise. ``there``: rules that
    hold on the machine already, ``packages``: folders of built packages that are installed already, both what this one
    needs from outside; ``files``: files that lie on the machine already, by their paths there, each from a file of the
    workspace; ``person``: somebody is there, and agrees.
    """

    updates_itself: bool = False
    others: tuple[Text, ...] = ()
    back_to: tuple[Text, ...] = ()
    accept: tuple[Text, ...] = ()
    machines: tuple[Literal["simulated", "wine"], ...] = ()
    scenarios: tuple[Text, ...] = ()
    there: tuple[Rule, ...] = ()
    packages: tuple[Text, ...] = ()
    files: dict[Text, Text] = {}
    person: bool = False


class Log(Written, frozen=True, kw_only=True):
    """Where the runner and the installers it starts write their logs; ``state``: where what is needed later is kept on
    a machine.

    All packages of an office have the same ``state``: there they find one another.
    """

    folder: Text = r"%ProgramData%\Yendo\logs"
    state: Annotated[str, Meta(pattern=r"^(%[A-Za-z]+%|[A-Za-z]:)\\.+[^\\]$")] = HOME


class Wishes(Written, frozen=True, kw_only=True):
    """What the office wants done with the package, for whoever distributes it. Nothing here changes the package.

    ``offer``: people take it when they want it, every machine gets it, or it is taken away. ``first`` names who gets it
    before all others, ``by`` the day on which it has to be there; ``told`` is what people are told, by language.
    """

    offer: Literal["on request", "always", "taken away"] = "always"
    first: str = ""
    by: Annotated[str, Meta(pattern=r"^(\d{4}-\d{2}-\d{2})?$")] = ""
    told: dict[str, str] = {}


class Plan(Written, frozen=True, kw_only=True):
    """A whole plan. ``detect``: all rules must hold. Without ``uninstall`` it follows from the install's steps, in
    reverse.

    ``keep``: what stays on the machine for repair and uninstall when the package's folder has gone. ``exclusive``: how
    long a second start waits for the first before it leaves. ``install_mode``: a host that many people share at once is
    put into its install mode while the package is at work, and out of it again. ``only_signed``: for machines on which
    only signed scripts run; the package has to be signed, by one of their trusted publishers. ``mark``: the package
    writes its own version and revision on the machine, last of all, and is detected by it too. ``settings`` are chosen
    when the package is delivered, and stand as ``{setting.NAME}`` in texts; ``site`` are named sets of their values.
    ``house`` names the office's file; unless it does, the nearest ``house.toml`` above is taken, and with an empty name
    none.
    """

    package: Package
    media: tuple[Media, ...] = ()
    settings: dict[Name, Setting] = {}
    site: dict[Identifier, dict[str, SettingValue]] = {}
    when: Condition = Condition()
    need: tuple[Need, ...] = ()
    in_the_way: InTheWay = InTheWay()
    log: Log = Log()
    proof: Proving = Proving()
    wishes: Wishes | None = None
    keep: Literal["all", "scripts", "nothing"] | None = None
    exclusive: str = "0 s"
    install_mode: bool = True
    only_signed: bool = False
    mark: bool = False
    install: Annotated[tuple[AnyStep, ...], Meta(min_length=1)]
    uninstall: tuple[AnyStep, ...] = ()
    repair: tuple[AnyStep, ...] = ()
    detect: tuple[Rule, ...] = ()
    house: str | None = None
    furnished: Any = None  # house.Furnished, where there is a house: put in by the reader

    def __post_init__(self) -> None:
        seconds(self.exclusive)

    def steps(self, verb: str) -> tuple[Step, ...]:
        """The steps of ``install``, ``uninstall`` or ``repair``."""
        return {"install": self.install, "uninstall": self.uninstall, "repair": self.repair}[verb]

    def standing(self, verb: str) -> tuple[tuple[Step, ...], tuple[Step, ...]]:
        """The house's steps before and after those of a verb."""
        if self.furnished is None:
            return (), ()
        office = self.furnished.house
        return office.before.steps(verb), office.after.steps(verb)


VERBS = ("install", "uninstall", "repair")
NOT_WRITTEN = ("furnished",)  # fields of a plan that no file has


def schema(kind: type = Plan, title: str = "Yendo plan") -> dict[str, object]:
    """The JSON Schema of a plan, or of another file that people write, for editors."""
    found: dict[str, Any] = _described(msgspec.json.schema(kind))
    for name in NOT_WRITTEN if kind is Plan else ():
        del found["$defs"]["Plan"]["properties"][name]
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, **found}


def _described(node: Any) -> Any:
    """The same whatever Python says it: 3.13 takes the indentation out of docstrings, those before it do not."""
    if isinstance(node, dict):
        return {
            key: inspect.cleandoc(value) if key == "description" and isinstance(value, str) else _described(value)
            for key, value in node.items()
        }
    return [_described(one) for one in node] if isinstance(node, list) else node
