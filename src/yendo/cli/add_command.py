"""Put something into a plan: a step, a rule of detection, a need, a setting, a vendor's file. It prints what it wrote.

yendo add step copy --into lantern --from site.ini --to '%ProgramData%\\Tidewell\\Lantern\\site.ini'
yendo add step registry --into lantern --key 'HKLM\\Software\\Marrowby' --values Quay=3
yendo add change drop --into lantern --what shortcut --name DesktopLantern
yendo add rule service --into lantern --name LanternTide
yendo add leave --into sounder --kind shortcut --thing '%PUBLIC%\\Desktop\\*' --note 'no icon on the desktop'
yendo add change captured --into sounder --thing 'HKLM\\*\\Updates' --to 0
yendo add setting quay --into lantern --meaning 'where the boat lies' --type number --default 3
yendo add media lantern-help.cab --into lantern
"""

from __future__ import annotations

import argparse
import inspect
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yendo.cli import nested

if TYPE_CHECKING:
    from yendo.draft.adding import Added

CAPTURED = "captured"
_GIVEN = "given_"  # before the names of options that are keys of a plan


def configure(parser: argparse.ArgumentParser) -> None:
    nested.actions(parser, ACTIONS)


def run(options: argparse.Namespace) -> int:
    return int(options.run_action(options))


def _into(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--into", type=Path, default=Path(), metavar="WORKSPACE", help="(default: this folder)")


def _kinds(parser: argparse.ArgumentParser, models: Mapping[str, Any], *, steps: bool, number: bool = False) -> None:
    """An action of its own for each kind, with the keys of its model as options."""
    chosen = parser.add_subparsers(dest="kind", metavar="KIND", required=True, title="kinds")
    for name, model in models.items():
        words = inspect.cleandoc(model.__doc__ or "").replace("``", "")
        short = " ".join(words.split("\n\n")[0].split())
        kind = chosen.add_parser(name, help=short, description=words, formatter_class=parser.formatter_class)
        if steps:
            verbs = ("install", "uninstall", "repair")
            kind.add_argument("--for", choices=verbs, default="install", dest="of", help="(default: install)")
            kind.add_argument("--at", type=int, metavar="N", help="as the N-th step (default: the last)")
        if number:
            kind.add_argument("--step", type=int, metavar="N", help="which install step (default: the one database)")
        _keys(kind, model)
        _into(kind)
        for options in (("--json",), ("--quiet", "-q")):
            kind.add_argument(*options, action="store_true", default=argparse.SUPPRESS, help=argparse.SUPPRESS)


def _keys(parser: argparse.ArgumentParser, model: Any) -> None:
    import msgspec

    info = msgspec.inspect.type_info(model)
    assert isinstance(info, msgspec.inspect.StructType)
    own = set(vars(model).get("__annotations__", ()))  # what the kind has of its own comes before what all have
    for field in sorted(info.fields, key=lambda field: (not field.required, field.name not in own)):
        parser.add_argument(
            f"--{field.encode_name.replace('_', '-')}",
            dest=_GIVEN + field.encode_name,
            required=field.required,
            **_form(field.type, field.encode_name),
        )


def _form(kind: Any, name: str) -> dict[str, Any]:
    """How an option takes a value of a model's type."""
    import msgspec.inspect as known

    if isinstance(kind, known.UnionType):
        inner = [one for one in kind.types if not isinstance(one, known.NoneType)]
        if len(inner) == 1:
            return _form(inner[0], name)
        if any(isinstance(one, known.StrType) for one in inner):
            return {"type": _free, "metavar": "VALUE"}
        return {"type": _toml, "metavar": "TOML"}
    if isinstance(kind, known.BoolType):
        return {"action": argparse.BooleanOptionalAction, "default": None}
    if isinstance(kind, known.LiteralType):
        return {"choices": kind.values}
    if isinstance(kind, known.IntType):
        return {"type": int, "metavar": "N"}
    if isinstance(kind, known.StrType):
        return {"metavar": name.upper()}
    if isinstance(kind, known.VarTupleType | known.ListType):
        if isinstance(kind.item_type, known.StrType):
            return {"action": "append", "metavar": name.upper(), "help": "may be given several times"}
        return {"action": "append", "type": _rule, "metavar": "RULE", "help": "a path, a registry value, or TOML"}
    if isinstance(kind, known.DictType):
        return {"action": "append", "metavar": "NAME=VALUE", "help": "may be given several times", "type": _pair}
    return {"type": _toml, "metavar": "TOML"}


def _toml(text: str) -> Any:
    import tomllib

    try:
        return tomllib.loads(f"x = {text}")["x"]
    except tomllib.TOMLDecodeError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no value as a plan has it: {error}") from error


def _scalar(text: str) -> Any:
    return int(text) if text.removeprefix("-").isdigit() and len(text) < 16 else text


def _free(text: str) -> Any:
    """A text or a number as it is typed, anything else as a plan has it."""
    written = text[:1] in ("[", "{", '"', "'") and not text.startswith("{setting.")
    return _toml(text) if written else _scalar(text)


def _pair(text: str) -> tuple[str, Any]:
    name, equals, value = text.partition("=")
    if not equals or not name:
        raise argparse.ArgumentTypeError(f"{text!r}: write NAME=VALUE")
    return name, _scalar(value)


def _rule(text: str) -> Any:
    from yendo.draft.deciding import material_rule
    from yendo.errors import Usage

    if text.lstrip().startswith("{"):
        return _toml(text)
    try:
        return material_rule(text, "rule")
    except Usage as error:
        raise argparse.ArgumentTypeError(str(error)) from error


def _values(options: argparse.Namespace) -> dict[str, Any]:
    """What was given, by the keys of the plan."""
    found: dict[str, Any] = {}
    for name, value in vars(options).items():
        if name.startswith(_GIVEN) and value is not None:
            pairs = isinstance(value, list) and bool(value) and all(isinstance(one, tuple) for one in value)
            found[name.removeprefix(_GIVEN)] = dict(value) if pairs else value
    return found


def _told(options: argparse.Namespace, added: Added) -> int:
    from yendo.cli import show

    if options.json:
        show.emit({"schema": "yendo.added/1", "plan": str(options.into / "plan.toml"), **nested.builtins(added)})
    elif not options.quiet:
        out = show.console()
        out.print(f"[bold]{show.clean(options.into / 'plan.toml')}[/bold], line {added.line}\n")
        for line in added.text.splitlines():
            out.print(f"   {show.clean(line)}", highlight=False)
        out.print()
        for name in added.brought:
            out.print(f"[dim]brought along:[/dim] {show.clean(name)}")
        out.print(f"[dim]next:[/dim] yendo check {show.clean(options.into)}")
    return 0


def _step(parser: argparse.ArgumentParser) -> None:
    from yendo.steps import KINDS

    _kinds(parser, {name: kind.step for name, kind in KINDS.items()}, steps=True)


def step(options: argparse.Namespace) -> int:
    """Put a step into a plan, with the keys of its kind as options."""
    from yendo.draft import adding

    return _told(options, adding.step(options.into, options.of, options.kind, _values(options), options.at))


def _changes(parser: argparse.ArgumentParser) -> None:
    from typing import get_args

    from yendo.steps.captured import Otherwise
    from yendo.terms.changes import PlannedChange

    kinds = {str(one.__struct_config__.tag): one for one in get_args(PlannedChange)}
    _kinds(parser, {**kinds, CAPTURED: Otherwise}, steps=False, number=True)


def change(options: argparse.Namespace) -> int:
    """Put into a plan what the vendor's database should do otherwise, which becomes a transform; or what a captured
    value is set to instead.
    """
    from yendo.draft import adding

    if options.kind == CAPTURED:
        return _told(options, adding.captured(options.into, "change", _values(options)))
    return _told(options, adding.change(options.into, options.kind, _values(options), options.step))


def _which(parser: argparse.ArgumentParser) -> None:
    from yendo.steps.captured import Which

    _keys(parser, Which)
    _into(parser)


def leave(options: argparse.Namespace) -> int:
    """Leave things out that were captured: none of them comes with the package."""
    from yendo.draft import adding

    return _told(options, adding.captured(options.into, "leave", _values(options)))


def keep(options: argparse.Namespace) -> int:
    """Bring things all the same that a list leaves out, or that belong to the machine they were captured on."""
    from yendo.draft import adding

    return _told(options, adding.captured(options.into, "keep", _values(options)))


def _rules(parser: argparse.ArgumentParser) -> None:
    from yendo.terms.rules import KINDS

    _kinds(parser, KINDS, steps=False)


def rule(options: argparse.Namespace) -> int:
    """Put a rule of detection into a plan."""
    from yendo.draft import adding

    return _told(options, adding.rule(options.into, options.kind, _values(options)))


def _need(parser: argparse.ArgumentParser) -> None:
    from yendo.plan.model import Need

    _keys(parser, Need)
    _into(parser)


def need(options: argparse.Namespace) -> int:
    """Put into a plan what must be there before its first step: another package, or a fact."""
    from yendo.draft import adding

    return _told(options, adding.need(options.into, _values(options)))


def _setting(parser: argparse.ArgumentParser) -> None:
    from yendo.terms.settings import Setting

    parser.add_argument("name", metavar="NAME", help="as it stands in {setting.NAME}")
    _keys(parser, Setting)
    _into(parser)


def setting(options: argparse.Namespace) -> int:
    """Put a value into a plan that is chosen when the package is delivered."""
    from yendo.draft import adding

    return _told(options, adding.setting(options.into, options.name, _values(options)))


def _media(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("files", type=Path, nargs="+", metavar="FILE", help="a vendor's file")
    _into(parser)


def media(options: argparse.Namespace) -> int:
    """Take vendor's files along, with their hashes."""
    from yendo.draft import adding

    return _told(options, adding.media(options.into, options.files))


ACTIONS: nested.Actions = {
    "step": ("a step: yendo add step KIND", _step, step),
    "change": ("what a database, or what was captured, should do otherwise: yendo add change KIND", _changes, change),
    "leave": ("captured things that do not come", _which, leave),
    "keep": ("captured things that come all the same", _which, keep),
    "rule": ("a rule of detection: yendo add rule KIND", _rules, rule),
    "need": ("what must be there before: another package, or a fact", _need, need),
    "setting": ("a value that is chosen at delivery", _setting, setting),
    "media": ("vendor's files that come along", _media, media),
}
