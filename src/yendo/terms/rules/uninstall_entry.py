"""An entry of the list of installed programs."""

from __future__ import annotations

from yendo.effects import UninstallEntry
from yendo.terms.amounts import Text
from yendo.terms.rules.base import (
    BaseRule,
    Criteria,
    Field,
    OvalTest,
    RuleView,
    Sight,
    bounds,
    exact_pattern,
    fits,
    pattern,
    selective,
    version_states,
    within,
)


class UninstallEntryRule(BaseRule, tag="uninstall-entry", frozen=True, kw_only=True):
    """The list of installed programs has an entry of this exact name, or like a pattern with ``*`` and ``?``, in a
    version within the range.
    """

    name: Text | None = None
    pattern: Text | None = None
    publisher: Text | None = None
    version: str | None = None
    view: RuleView | None = None

    def __post_init__(self) -> None:
        super().__post_init__()
        if (self.name is None) == (self.pattern is None):
            raise ValueError("an entry is named by its name or by a pattern, one of the two")
        if self.pattern:
            selective(self.pattern)

    @property
    def title(self) -> str:
        named = f"installed program “{self.name}”" if self.name else f"installed program like “{self.pattern}”"
        return (
            named + (f" of {self.publisher}" if self.publisher else "") + (f" {self.version}" if self.version else "")
        )

    def judge(self, sight: Sight) -> tuple[bool, str]:
        fact = "no such entry"
        like = pattern(self.pattern) if self.pattern else None
        for thing in sight.state.of("uninstall-entry"):
            if not isinstance(thing, UninstallEntry) or self.view not in (None, thing.view) or thing.name is None:
                continue
            if not (like.fullmatch(thing.name) if like else thing.name == self.name):
                continue
            if self.publisher and (thing.publisher or "") != self.publisher:
                fact = f"{thing.name} is of {thing.publisher or 'nobody'}"
                continue
            fact = f"version {thing.version} is listed"
            if fits(thing.version, self.version):
                return True, fact
        return False, fact

    def data(self) -> dict[str, object]:
        return {
            "name": self.name or "",
            "like": exact_pattern(self.pattern) if self.pattern else "",
            "publisher": self.publisher or "",
            "views": [self.view] if self.view else ["64", "32"],
            "version": bounds(self.version),
        }

    def fulfil(self, sight: Sight) -> None:
        name = self.name or (self.pattern or "").replace("*", "").replace("?", "x")
        sight.state.add(
            UninstallEntry(
                name, name=name, version=within(self.version), publisher=self.publisher, view=self.view or "64"
            )
        )

    def oval(self) -> Criteria | OvalTest:
        named = (
            Field("value", self.name)
            if self.name
            else Field("value", "(?i)" + exact_pattern(self.pattern or ""), "pattern match")
        )
        found = []
        for hive in ("HKEY_LOCAL_MACHINE", "HKEY_CURRENT_USER"):
            for view in [self.view] if self.view else ["64", "32"]:
                where = (
                    Field("hive", hive),
                    Field(
                        "key", r"(?i)^SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\[^\\]+$", "pattern match"
                    ),
                )
                entry = OvalTest("registry", (*where, Field("name", "DisplayName")), view=f"{view}_bit", keep=(named,))
                if self.publisher:
                    of_them = Field("key", None, variable=entry, of_variable="key")
                    entry = OvalTest(
                        "registry",
                        (where[0], of_them, Field("name", "Publisher")),
                        view=f"{view}_bit",
                        keep=(Field("value", self.publisher),),
                    )
                if not self.version:
                    found.append(entry)
                    continue
                of_them = Field("key", None, variable=entry, of_variable="key")
                found.append(
                    OvalTest(
                        "registry",
                        (where[0], of_them, Field("name", "DisplayVersion")),
                        version_states("value", self.version),
                        view=f"{view}_bit",
                    )
                )
        return Criteria("OR", tuple(found))
