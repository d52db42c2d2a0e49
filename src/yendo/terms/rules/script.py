"""A question that only a script can ask."""

from __future__ import annotations

import base64

from yendo.errors import NotCovered
from yendo.terms.amounts import Text
from yendo.terms.rules.base import BaseRule, Sight

MAX_TEXT = 64 * 1024


class ScriptRule(BaseRule, tag="script", frozen=True, kw_only=True):
    """A PowerShell text whose last output is ``$true``.

    It must not call ``exit``; it is part of the detection script.
    """

    text: Text

    def __post_init__(self) -> None:
        super().__post_init__()
        if len(self.text) > MAX_TEXT:
            raise ValueError(f"a script of {len(self.text)} characters; the most is {MAX_TEXT}")

    @property
    def title(self) -> str:
        first = self.text.strip().splitlines()[0] if self.text.strip() else ""
        return f"script {first[:60]}" + ("…" if first != self.text.strip() or len(first) > 60 else "")

    def judge(self, sight: Sight) -> tuple[bool, str]:
        if sight.script is None:
            raise NotCovered("a script is judged only on a real machine, by its PowerShell")
        holds = sight.script(self.text)
        return holds, f"the script says {'yes' if holds else 'no'}"

    def data(self) -> dict[str, object]:
        return {"text": base64.b64encode(self.text.encode()).decode()}
