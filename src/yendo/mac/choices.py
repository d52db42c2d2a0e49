"""Which choices of a distribution apply on a machine: its expressions, in an engine that is closed.

Source: Apple's "Installer JavaScript Reference": ``system``, ``my.target``, ``my.choice``, ``choices``. Only what
stands there of a machine is known; an expression that asks for more is not evaluated, and that is said.
"""

from __future__ import annotations

import json
from collections.abc import Mapping

from yendo.errors import NotCovered
from yendo.mac.package import MacPackage

_TIME, _MEMORY = 1.0, 32 << 20
_WORLD = """
var yendo_known = %s;
var system = {
  sysctl: function (name) { return yendo_known.sysctl[name]; },
  compareVersions: function (one, two) {
    var a = String(one).split('.'), b = String(two).split('.');
    for (var i = 0; i < Math.max(a.length, b.length); i++) {
      var x = parseInt(a[i] || 0, 10), y = parseInt(b[i] || 0, 10);
      if (x < y) return -1; if (x > y) return 1;
    }
    return 0;
  },
  version: { ProductVersion: yendo_known.system },
  localizedString: function (key) { return key; },
  log: function () {}
};
var my = { target: { systemVersion: { ProductVersion: yendo_known.system } }, choice: {}, result: {} };
var choices = {};
"""


def evaluated(found: MacPackage, system: str, processor: str, wanted: Mapping[str, bool] = {}) -> dict[str, bool]:
    """Each choice by its identifier, whether it is selected; ``wanted`` is what was said from outside.

    Raises NotCovered without the engine where an expression needs one, and where it asks for more than is known.
    """
    return {
        one.identifier: wanted[one.identifier] if one.identifier in wanted else _one(one.selected, system, processor)
        for one in found.choices
    }


def _one(text: str, system: str, processor: str) -> bool:
    plain = text.strip()
    if plain in ("", "true"):
        return True
    if plain == "false":
        return False
    try:
        import quickjs
    except ImportError as error:
        raise NotCovered("a choice hangs on an expression, and no engine is here: pip install 'yendo[mac]'") from error
    arm = {"hw.optional.arm64": 1} if processor == "arm64" else {}
    known = {"system": system, "sysctl": {"hw.machine": processor, **arm}}
    context = quickjs.Context()
    context.set_memory_limit(_MEMORY)
    context.set_time_limit(_TIME)
    try:
        context.eval(_WORLD % json.dumps(known))
        return bool(context.eval(f"!!({plain})"))
    except quickjs.JSException as error:
        raise NotCovered(f"the choice {plain[:80]!r} asks for what is not known here: {error}") from error
