"""A machine that the observer has looked at: what it said of itself, and what on it is the system's own doing."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from functools import cache
from importlib.resources import files

import msgspec

from yendo.effects import Effect, State
from yendo.effects.things import Thing, key_of
from yendo.evidence import Evidence
from yendo.facts.machine import Facts
from yendo.formats.fields import unescape
from yendo.machines.noise import Patterns
from yendo.machines.protocol import NOT_WINDOWS, Place
from yendo.machines.wine import noise as layer_noise
from yendo.machines.wine import quirks
from yendo.platforms.windows.surroundings import Account, Surroundings, windows

WORK = r"C:\Program Files\Yendo proof"  # where a script works on a real Windows; ordinary users cannot write there
LOOKING = frozenset({"look", "fetch", "digest", "has-folder", "files", "running"})  # operations that change nothing


class WindowsNoise(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a Windows changes by itself, or only the layer: a pattern of identities, and why."""

    kind: str
    identity: str
    why: str
    layer: bool = False


@cache
def _noise(layer: bool) -> Patterns[WindowsNoise]:
    raw = tomllib.loads(files("yendo.machines.recorded").joinpath("noise.toml").read_text("utf-8"))
    return Patterns(entry for entry in msgspec.convert(raw["entry"], list[WindowsNoise]) if layer or not entry.layer)


def is_noise(thing: Thing, *, layer: bool) -> bool:
    """Whether a thing is the system's own doing."""
    return _noise(layer).naming(thing) is not None or (layer and layer_noise.reason(thing) is not None)


class Observed:
    """``about`` and ``environment`` are what the machine said of itself; ``by_itself`` names the things that change
    while nothing is done.
    """

    has_powershell, evidence, without_powershell = True, True, ""
    screens = False
    unanswered: frozenset[str] = frozenset()

    @property
    def not_windows(self) -> str:
        return NOT_WINDOWS if self.is_layer else ""

    def imitates(self, account: Account) -> str:
        return ""

    def __init__(self, about: dict[str, str], environment: dict[str, str], account: Account) -> None:
        self.about, self.environment, self.account = about, environment, account
        self.is_layer = about.get("layer") == "True"
        self.place: Place = "API layer" if self.is_layer else "real Windows"
        self.by_itself: set[tuple[str, str]] = set()

    @property
    def words(self) -> str:
        """Which Windows it is, in words."""
        about = self.about
        words = " ".join(filter(None, (about.get("product"), about.get("display"))))
        layer = "the Windows API layer, as " if self.is_layer else ""
        return f"{layer}{words or 'Windows'} ({about.get('windows', '')}), {about.get('architecture', '')}"

    @property
    def facts(self) -> Facts:
        return Facts(
            windows=self.about.get("windows", ""),
            architecture=self.about.get("architecture", ""),
            edition=self.about.get("edition"),
            language=self.about.get("language"),
            computer=self.about.get("computer", ""),
        )

    def quiet(self, state: State) -> State:
        """A state without what is the system's own doing."""
        return State(
            thing for thing in state if key_of(thing) not in self.by_itself and not is_noise(thing, layer=self.is_layer)
        )

    def surroundings(self, account: Account = "user") -> Surroundings:
        usual = windows(account)
        own = {name.lower(): value for name, value in self.environment.items()}
        environment = {name: own.get(name.lower(), value) for name, value in usual.environment.items()}
        roaming = r"\AppData\Roaming"
        if self.is_layer and environment["APPDATA"].lower().endswith(roaming.lower()):
            # the layer names a profile that was redirected by its folders only
            environment["USERPROFILE"] = environment["APPDATA"][: -len(roaming)]
        moved = [(usual.environment[name], environment[name]) for name in ("TEMP", "USERPROFILE", "PUBLIC")]

        def there(path: str) -> str:
            for old, new in moved:
                if path.lower() == old.lower() or path.lower().startswith(old.lower() + "\\"):
                    return new + path[len(old) :]
            return path

        return msgspec.structs.replace(
            usual,
            windows=".".join(self.about.get("windows", usual.windows).split(".")[:3]),
            user=self.about.get("account", usual.user).rpartition("\\")[2],
            computer=self.about.get("computer", usual.computer),
            environment=environment,
            folders={name: there(path) for name, path in usual.folders.items()},
            per_user_menu=self.is_layer,
        )

    def shown(self, effects: Iterable[Effect]) -> tuple[list[Effect], dict[str, int]]:
        return quirks.adapt(effects) if self.is_layer else (list(effects), {})

    def leaves(self, effect: Effect, because: Evidence | None, *, empty: bool) -> str:
        return quirks.leaves(effect, because, empty=empty) if self.is_layer else ""

    def unmended(self, *, patched: bool) -> str:
        return quirks.UNMENDED if patched and self.is_layer else ""


def said(lines: Iterable[str]) -> tuple[dict[str, str], dict[str, str]]:
    """What a machine says of itself, and its environment, from the observer's lines."""
    rows = [line.split("\t") for line in lines]
    about, environment = (
        {unescape(row[1]): unescape(row[2]) for row in rows if row[0] == kind and len(row) == 3} for kind in "EA"
    )
    return about, environment
