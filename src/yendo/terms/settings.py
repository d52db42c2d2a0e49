"""Settings: values that are chosen when a package is delivered, and the places in a plan where they stand in.

``{setting.NAME}`` stands for a value in any text of a step, a condition or a rule. The runner (``settings.ps1``) fills
the same places by the same rules; tests hold the two together.
"""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Annotated, Literal, TypeVar, cast

import msgspec
from msgspec import Meta

from yendo.errors import YendoError
from yendo.terms.amounts import Text, Written

Name = Annotated[str, Meta(pattern="^[a-z][a-z0-9_]{0,39}$")]
SettingValue = str | int | bool
FilledT = TypeVar("FilledT")
PLACE = re.compile(r"\{setting(-json|-value|-said)?\.([a-z][a-z0-9_]*)\}")
_FORBIDDEN = re.compile(r'["\x00-\x1f]|%[^%\s]+%')


class SettingError(YendoError):
    """Values that cannot be used; ``problems`` in words, one a setting."""

    exit_code = 2

    def __init__(self, problems: list[str]) -> None:
        super().__init__("\n".join(problems))
        self.problems = problems


class Setting(Written, frozen=True, kw_only=True):
    """A value that is chosen when the package is delivered. Without ``default`` it has to be given.

    ``choices`` takes several of ``allowed``, with commas between them; ``folder`` may hold ``%NAME%``. ``least`` and
    ``most`` belong to a number. ``words`` are what stands for yes and no. A ``secret`` is taken from a file with tight
    rights only, and kept nowhere.
    """

    meaning: Text
    type: Literal["text", "number", "yes-no", "choice", "choices", "folder"] = "text"
    default: SettingValue | None = None
    allowed: tuple[Text, ...] = ()
    least: int | None = None
    most: int | None = None
    words: tuple[str, str] = ("yes", "no")
    secret: bool = False

    def __post_init__(self) -> None:
        if bool(self.allowed) != (self.type in ("choice", "choices")):
            raise ValueError("allowed belongs to a choice or choices, and those need it")
        if (self.least is not None or self.most is not None) and self.type != "number":
            raise ValueError("least and most belong to a number")
        if any("," in item for item in self.allowed):
            raise ValueError("a comma cannot stand in what is allowed")
        if self.secret and (self.default is not None or self.type != "text"):
            raise ValueError("a secret is a text without a default: it would stand in the plan")
        if self.default is not None:
            self.text_of(self.default)

    def text_of(self, value: SettingValue, *, said: bool = False) -> str:
        """A value as it fills a place, or as a person says it (yes or no).

        Raises ValueError, in words that follow the setting's name.
        """
        text = str(value).strip()
        match self.type:
            case "yes-no":
                if text.lower() not in ("yes", "no", "true", "false"):
                    raise ValueError(f"'{text}' is neither yes nor no")
                return (("yes", "no") if said else self.words)[text.lower() in ("no", "false")]
            case "number":
                if not re.fullmatch(r"-?[0-9]{1,15}", text) or not self.fits(int(text)):
                    raise ValueError(f"'{text}' is not a whole number{self._range}")
                return str(int(text))
            case "choice" | "choices":
                given = [text] if self.type == "choice" else [part.strip() for part in text.split(",") if part.strip()]
                known = {item.lower(): item for item in self.allowed}
                wrong = [part for part in given if part.lower() not in known]
                if wrong:
                    raise ValueError(f"'{wrong[0]}' is not one of {', '.join(self.allowed)}")
                return ",".join(dict.fromkeys(known[part.lower()] for part in given))
        checked = text.replace("%", "") if self.type == "folder" else text
        if _FORBIDDEN.search(checked):
            raise ValueError("a quotation mark, a control character or %NAME% cannot stand in it")
        return text

    def text_said(self, text: str) -> str:
        """What fills a place, as a person says it."""
        return text if self.type != "yes-no" else ("yes" if text == self.words[0] else "no")

    def fits(self, number: int) -> bool:
        """Whether a number is within the range."""
        return (self.least is None or number >= self.least) and (self.most is None or number <= self.most)

    @property
    def allowed_in_words(self) -> str:
        """What a value may be."""
        if self.allowed:
            return f"{'some of ' if self.type == 'choices' else ''}{', '.join(self.allowed)}"
        return {"yes-no": "yes, no", "number": f"a whole number{self._range}", "folder": "a folder"}.get(
            self.type, "a text"
        )

    @property
    def _range(self) -> str:
        return (f" from {self.least}" if self.least is not None else "") + (
            f" up to {self.most}" if self.most is not None else ""
        )


Settings = Mapping[str, Setting]


def texts_of(settings: Settings, given: Mapping[str, SettingValue]) -> Iterator[tuple[str, str]]:
    """What is wrong with given values: ``(name, problem)``."""
    for name, value in given.items():
        if name not in settings:
            near = difflib.get_close_matches(name, settings, 1)
            yield (
                name,
                f"no setting is called '{name}'; "
                + (f"did you mean '{near[0]}'?" if near else f"there are: {', '.join(settings) or 'none'}"),
            )
            continue
        try:
            settings[name].text_of(value)
        except ValueError as error:
            yield name, f"{name}: {error}"


def settle(
    settings: Settings, *layers: Mapping[str, SettingValue], needed: Iterable[str] | None = None
) -> dict[str, str]:
    """Every setting's value as text; a later layer is stronger, and the defaults are the weakest.

    ``needed`` are those that must have one (all); the others are empty. Raises SettingError.
    """
    given = {name: value for layer in layers for name, value in layer.items()}
    problems = [problem for layer in layers for _, problem in texts_of(settings, layer)]
    values: dict[str, str] = {}
    for name, setting in settings.items():
        value = given.get(name, setting.default)
        if value is None:
            if needed is None or name in needed:
                problems.append(f"{name}: not given, and it has no default; it is {setting.meaning}")
            values[name] = ""
        elif not problems:
            values[name] = setting.text_of(value)
    if problems:
        raise SettingError(list(dict.fromkeys(problems)))
    return values


def names_in(data: object) -> set[str]:
    """The settings that stand in texts, however deep."""
    if isinstance(data, str):
        return {match[2] for match in PLACE.finditer(data)} if "{setting" in data else set()
    if isinstance(data, msgspec.Struct):
        return names_in([getattr(data, name) for name in data.__struct_fields__])
    if isinstance(data, Mapping):
        return names_in(list(data)) | names_in(list(data.values()))
    if isinstance(data, list | tuple):
        return {name for item in data for name in names_in(item)}
    return set()


def fill_text(text: str, settings: Settings, values: Mapping[str, str]) -> str:
    """A text with its places filled. A list that is empty takes the comma before it away."""

    def one(match: re.Match[str]) -> str:
        value, setting = values[match[2]], settings[match[2]]
        if match[1] == "-said":
            return value.replace(",", "\n") if setting.type == "choices" else setting.text_said(value)
        if match[1] == "-value" and setting.type == "number":
            return value
        if match[1] == "-value" and setting.type == "yes-no":
            return "true" if value == setting.words[0] else "false"
        quoted = json.dumps(value, ensure_ascii=False)
        return quoted if match[1] == "-value" else quoted[1:-1] if match[1] == "-json" else value

    def list_of(match: re.Match[str]) -> str:
        return "" if settings[match[1]].type == "choices" and not values[match[1]] else match[0]

    return PLACE.sub(one, re.sub(r",\{setting\.([a-z][a-z0-9_]*)\}", list_of, text))


def fill(data: FilledT, text: Callable[[str], str]) -> FilledT:
    """Plain data with every text replaced, keys included."""
    return cast(FilledT, _filled(data, text))


def _filled(data: object, text: Callable[[str], str]) -> object:
    if isinstance(data, str):
        return text(data)
    if isinstance(data, Mapping):
        return {_filled(key, text): _filled(item, text) for key, item in data.items()}
    if isinstance(data, list | tuple):
        return type(data)(_filled(item, text) for item in data)
    return data


def in_json(text: str) -> str:
    """The places of a JSON text, so that what fills them is JSON: a whole text becomes a number or true where the
    setting is one.
    """
    whole = re.sub(r'"\{setting\.([a-z][a-z0-9_]*)\}"', r"{setting-value.\1}", text)
    return re.sub(r"\{setting\.([a-z][a-z0-9_]*)\}", r"{setting-json.\1}", whole)
