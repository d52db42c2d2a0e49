"""Steps that tell the person something."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

from msgspec import Meta

from yendo.steps.base import DONE, NOT_NEEDED, Action, ActionData, At, Kind, Result, Step
from yendo.terms import events
from yendo.terms.amounts import Text

if TYPE_CHECKING:
    from yendo.steps.host import Host


class TellStep(Step, tag="tell", frozen=True, kw_only=True):
    """Shows a message to the person who is logged on, and goes on; where nobody is, it is passed over.

    ``text`` maps languages to texts: ``{ en = "...", de = "..." }``; the machine's own language is taken, else the
    first.
    """

    text: Annotated[dict[str, Text], Meta(min_length=1)]
    title: str = ""


class TellData(ActionData, frozen=True):
    """``text`` by language tags."""

    text: dict[str, str]
    caption: str = ""


class TellKind(Kind[TellStep]):
    step = TellStep
    reversal = "nothing to undo"
    executed = ("API layer", "simulation")
    needs = ("person",)

    def resolve(self, step: TellStep, at: At) -> Action:
        return Action("tell", "tell the person", data=TellData(step.text, step.title).plain())

    def perform(self, action: Action, host: Host) -> Result:
        text = in_language(TellData.of(action).text, host.session.facts.language)
        if not host.session.facts.people:
            host.tell(events.NobodyThere(text))
            return NOT_NEEDED
        host.session.show(text)
        host.tell(events.PersonTold(text))
        return DONE


def in_language(texts: dict[str, str], language: str | None) -> str:
    """The text for a machine's language: the whole tag, its beginning, else the first there is."""
    wanted = (language or "").lower()
    known = {name.lower(): text for name, text in texts.items()}
    return known.get(wanted) or known.get(wanted.partition("-")[0]) or next(iter(texts.values()))
