"""Steps that give people rights on a folder or a file."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Literal

from msgspec import Meta

from yendo.steps.base import Action, At, Kind, Result, Step, quoted
from yendo.steps.exe import run_or_assume

if TYPE_CHECKING:
    from yendo.steps.host import Host

# Source: the well-known security identifiers; the names of these groups are another on a Windows in another language.
WHO = {"users": "S-1-5-32-545", "signed-in": "S-1-5-11", "everyone": "S-1-1-0"}
# Source: the documentation of icacls, and the access masks of files: read and run; change; everything.
MAY = {"read": ("RX", "0x1200a9"), "change": ("M", "0x1301bf"), "full": ("F", "FA")}
_ROOTS = re.compile(
    r"(?i)([a-z]:|%systemdrive%|%programfiles(\(x86\))?%|%programdata%|%public%|[a-z]:\\program files( \(x86\))?)\\?"
)
_SYSTEM = re.compile(r"(?i)(%systemroot%|%windir%|[a-z]:\\windows)(\\|$)")


class RightsStep(Step, tag="rights", frozen=True, kw_only=True):
    """Lets a group read, change or own a folder with everything in it, or a file, beside whoever may already.

    ``on`` is the folder or file, ``who`` a group that every Windows has or a security identifier. Taken back by taking
    away what the group was given on it; what it inherits from above stays.
    """

    on: Annotated[str, Meta(pattern=r'^([A-Za-z]:\\|%[^%"]+%)[^"*?<>|]*$')]
    may: Literal["read", "change", "full"]
    who: Annotated[str, Meta(pattern=r"^(users|signed-in|everyone|S-1-[0-9]+(-[0-9]+)+)$")] = "users"
    file: bool = False


class RightsKind(Kind[RightsStep]):
    step = RightsStep
    reversal = "by record"
    executed = ("simulation", "stand-in")

    def resolve(self, step: RightsStep, at: At) -> Action:
        who, place = f"*{sid(step)}", quoted(step.on.rstrip("\\"))
        spread = "" if step.file else "(OI)(CI)"
        return Action(
            "rights",
            f"let {step.who} {step.may} {step.on}",
            f"icacls.exe {place} /grant {who}:{spread}({MAY[step.may][0]}) /q",
            reverse=f"icacls.exe {place} /remove:g {who} /q",
        )

    def perform(self, action: Action, host: Host) -> Result:
        return run_or_assume(action, host)

    def mistakes(self, step: RightsStep, at: At) -> Iterator[tuple[str, str, str]]:
        if step.may == "read":
            return
        if _SYSTEM.match(step.on) or _ROOTS.fullmatch(step.on):
            yield "on", f"{step.on} is not the package's own: programs of others run from there", "name a folder below"
        elif step.may == "full":
            yield "may", "with it they can take the rights of administrators away", 'write may = "change"'


def sid(step: RightsStep) -> str:
    """The security identifier of who gets the rights."""
    return WHO.get(step.who, step.who)


def descriptor(step: RightsStep) -> str:
    """The whole list of rights as text, where a table replaces what was inherited: the system and administrators keep
    everything, users may read and run. Source: the security descriptor definition language.
    """
    spread = "" if step.file else "OICI"
    given = [("SY", "FA"), ("BA", "FA"), ("BU", MAY["read"][1]), (sid(step), MAY[step.may][1])]
    return "D:PAI" + "".join(f"(A;{spread};{mask};;;{who})" for who, mask in given)
