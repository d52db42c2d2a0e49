"""Where the Windows API layer is known to differ from Windows: counted apart, each with its reason.

Predictions follow Windows' documentation; before they are compared with this layer, they pass here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import msgspec

from yendo.effects import Effect, Service, UninstallEntry


class Quirk(msgspec.Struct, frozen=True):
    """``adapt`` returns the effect as the layer shows it, the same one where it makes no difference, or None for none at all."""

    id: str
    reason: str
    adapt: Callable[[Effect], Effect | None]


def _service_quotes(effect: Effect) -> Effect:
    thing = effect.thing
    if isinstance(thing, Service) and thing.command and thing.command.startswith('"'):
        program, _, rest = thing.command[1:].partition('"')
        return msgspec.structs.replace(effect, thing=msgspec.structs.replace(thing, command=f"{program}{rest}"))
    return effect


def _list_of_the_machine(effect: Effect) -> Effect:
    thing = effect.thing
    if isinstance(thing, UninstallEntry) and thing.hive == "HKCU":
        return msgspec.structs.replace(effect, thing=msgspec.structs.replace(thing, hive="HKLM"))
    return effect


QUIRKS = (
    Quirk("one-list", "the layer lists a product of one user in the machine's list of programs, not in that user's", _list_of_the_machine),
    Quirk("service-quotes", "the layer registers a service's program without the quotes that Windows puts round a path with spaces", _service_quotes),
)


def adapt(effects: Iterable[Effect]) -> tuple[list[Effect], dict[str, int]]:
    """Effects as the layer shows them, and how often each difference came up."""
    out: list[Effect] = []
    counted: dict[str, int] = {}
    for effect in effects:
        found: Effect | None = effect
        for quirk in QUIRKS:
            if found is None:
                break
            changed = quirk.adapt(found)
            if changed is not found:
                counted[quirk.reason] = counted.get(quirk.reason, 0) + 1
            found = changed
        if found is not None:
            out.append(found)
    return out, counted
