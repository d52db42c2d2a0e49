"""How bad a finding is, wherever one is made."""

from __future__ import annotations

from typing import Literal

Severity = Literal["error", "warning", "note"]
