"""A form of a package as a workspace of its own: what was made lies in its media, and a plan brings it, so that it is
checked, proved and handed over like every other package.
"""

from __future__ import annotations

import hashlib
import io
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec
import tomlkit

from yendo import atomic, digest
from yendo.effects import Effect, File
from yendo.effects.capture import HELD, Caught, Promise
from yendo.errors import Usage, YendoError
from yendo.formats.cab_writer import CabSource
from yendo.formats.cab_writer import write as write_cabinet
from yendo.formats.msi import Database, DatabaseWriter, Summary, transform
from yendo.formats.msi.schema import columns
from yendo.forms.database import Composed, compose, property_of
from yendo.forms.places import Row, code
from yendo.installers.msi import intent
from yendo.installers.msi.validate import validate
from yendo.plan import Plan
from yendo.steps.captured import CapturedStep, Decided, capture_of, decided, promise
from yendo.steps.copy import CopyStep, extras
from yendo.terms.changes import PropertyChange

MSI = "msi"
EMBEDDED = 512 << 20  # bytes of all files: more than that lies in cabinets beside the database
BESIDE = 1 << 30  # bytes of files in one such cabinet


class FormBuilt(msgspec.Struct, frozen=True):
    """``folder`` is the form's workspace, ``main`` what is handed over; ``notes`` what a person has to know."""

    form: str
    folder: Path
    main: Path
    size: int
    digest: str
    notes: tuple[str, ...]
    sites: tuple[str, ...] = ()
    """Transforms for delivery by policy, one a site, by their names below ``folder``."""


def build(base: Path, plan: Plan) -> FormBuilt:
    """Makes the database of a plan, and the workspace ``forms/msi`` that proves it. Raises Impossible, Usage."""
    wanted, whole = _brought(plan, base)
    composed = compose(plan, wanted, base)
    notes: tuple[str, ...] = ()
    if any(plan.standing("install")):
        notes = (
            "the house's standing steps are not in the database: the package round it brings them, a policy does not",
        )
    return put(MSI, base, plan, composed, whole, notes=notes)


def put(
    form: str,
    base: Path,
    plan: Plan,
    composed: Composed,
    whole: Promise,
    *,
    streams: Mapping[str, Path] = {},
    notes: tuple[str, ...] = (),
    more: Mapping[str, object] = {},
) -> FormBuilt:
    """Writes a database and the workspace ``forms/FORM`` that proves it. ``streams`` are by their names in it; ``more``
    is what the form's plan says besides. Raises a defect where what was made breaks a rule.
    """
    package = plan.package
    target = base / "forms" / form
    with atomic.folder(target) as work:
        (work / "media").mkdir()
        (work / HELD).parent.mkdir(parents=True)
        main = work / "media" / f"{package.id}-{package.version}.msi"
        beside = _written(main, plan, composed, streams)
        _validated(main)
        sites = _sites(main, plan)
        for name, data in sites.items():
            (work / name).parent.mkdir(exist_ok=True)
            (work / name).write_bytes(data)
        (work / HELD).write_bytes(msgspec.json.encode(whole) + b"\n")
        (work / "plan.toml").write_text(_plan(form, plan, composed, [main, *beside], more), "utf-8")
    main = target / "media" / main.name
    size, sha256 = main.stat().st_size, digest.of_file(main)
    return FormBuilt(form, target, main, size, sha256, composed.notes + notes, tuple(sites))


def _brought(plan: Plan, base: Path) -> tuple[list[Decided], Promise]:
    """What the plan brings, and what it is held against. Raises Usage where a step has no place in a database."""
    found: list[Decided] = []
    kept: list[Effect] = []
    left: list[Effect] = []
    for number, step in enumerate(plan.install, 1):
        if isinstance(step, CapturedStep):
            found += [one for one in decided(step, capture_of(step, base)) if one.fate == "kept"]
            own = promise(step, base)
            kept += own.kept
            left += own.left
        elif isinstance(step, CopyStep) and not step.fill and not step.mirror:
            found += (brought := [authored(path, to, base.resolve()) for path, to in extras(base, step)])
            kept += [one.caught.effect for one in brought]
        else:
            kind = str(step.__struct_config__.tag)
            raise Usage(
                f"install step {number} ({kind}) has no place in a database, which holds what was captured and copied"
            )
    promised = [effect for effect in kept if effect.kind != "uninstall-entry"]  # the installer makes its own
    return found, Promise(kept=tuple(promised), left=tuple(left))


def authored(path: Path, to: str, base: Path) -> Decided:
    """A file of ours that comes to a placed path, by what it holds; it lies below ``base``."""
    effect = Effect("add", File(to, path.stat().st_size, digest.of_file(path)), "authored")
    return Decided(Caught(effect, "install", content=path.relative_to(base).as_posix()), "kept")


def _written(target: Path, plan: Plan, composed: Composed, streams: Mapping[str, Path]) -> list[Path]:
    """Writes the database; the cabinets that lie beside it."""
    groups: list[list[CabSource]] = [[]]
    whole = sum(one.size for one in composed.contents)
    held = 0
    for one in composed.contents:
        if whole > EMBEDDED and held + one.size > BESIDE and groups[-1]:
            groups.append([])
            held = 0
        groups[-1].append(CabSource(one.key, one.path, one.size))
        held += one.size
    tables = dict(composed.tables)
    tables["Media"] = []
    beside: list[Path] = []
    last = 0
    with tempfile.TemporaryDirectory(prefix="yendo-form-", dir=target.parent) as place:
        writer = DatabaseWriter(code_page=_code_page(tables), summary=_summary(plan, composed))
        for name, source in streams.items():
            writer.stream(name, source)
        for number, group in enumerate(groups, 1):
            name = f"files{number}.cab"
            path = Path(place) / name if whole <= EMBEDDED else target.parent / name
            if group:
                with path.open("w+b") as file:
                    write_cabinet(file, group)
            last += len(group)
            if group and whole <= EMBEDDED:
                writer.stream(name, path)
            elif group:
                beside.append(path)
            cabinet = None if not group else f"#{name}" if whole <= EMBEDDED else name
            tables["Media"].append((number, last, None, cabinet, None, None))
        for name, rows in tables.items():
            if rows:
                writer.table(name, columns(name), rows)
        with target.open("wb") as out:
            writer.write(out, sector_size=4096 if whole <= EMBEDDED and whole > 64 << 20 else 512)
    return beside


def _code_page(tables: Mapping[str, Sequence[Row]]) -> int:
    """Western European where all texts are, else UTF-8."""
    text = "".join(cell for rows in tables.values() for row in rows for cell in row if isinstance(cell, str))
    try:
        text.encode("cp1252")
    except UnicodeEncodeError:
        return 65001
    return 1252


def _summary(plan: Plan, composed: Composed) -> Summary:
    package = plan.package
    state = hashlib.sha256(repr(sorted(composed.tables.items())).encode())
    for one in composed.contents:
        state.update(one.sha256.encode())
    return Summary(
        code_page=_code_page(composed.tables),
        title="Installation Database",
        subject=package.name,
        author=package.publisher or package.name,
        keywords="Installer",
        template=f"{'Intel' if package.architecture == 'x86' else 'x64'};1033",
        revision=code(package.id, "package", state.hexdigest()),
        pages=500,
        words=2,
        application="Yendo",
        security=2,
    )


def _sites(main: Path, plan: Plan) -> dict[str, bytes]:
    """A transform for each set of values: a domain's policy hands over no properties, but lays transforms over."""
    found: dict[str, bytes] = {}
    for site, values in plan.site.items():
        changes = [
            PropertyChange(name=property_of(name), value=plan.settings[name].text_of(value, said=True))
            for name, value in values.items()
        ]
        with Database(main) as base:
            made = intent.transform_for(base, changes, lambda name: Path(name))
            out = io.BytesIO()
            transform.write(made, out)
        found[f"transforms/{plan.package.id}-{plan.package.version}-{site}.mst"] = out.getvalue()
    return found


def _validated(path: Path) -> None:
    """Raises a defect where what was made breaks a rule: that is ours to mend."""
    with Database(path) as database:
        wrong = [finding for finding in validate(database) if finding.severity == "error"]
    if wrong:
        raise YendoError(f"what was made is no sound database: {wrong[0].evidence}: {wrong[0].message}")


def _plan(form: str, plan: Plan, composed: Composed, files: list[Path], more: Mapping[str, object]) -> str:
    """The plan of the form's own workspace."""
    package = plan.package
    document = tomlkit.document()
    origin = f"yendo build --as {form}"
    document.add(tomlkit.comment(f"Made by {origin}, and made anew by it: change the plan that it is from."))
    document["package"] = {
        # what is inside an envelope has its own name on the machine
        "id": package.id if form == MSI else f"{package.id}-{form}",
        "name": package.name, "version": package.version, "revision": package.revision,
        "publisher": package.publisher, "architecture": package.architecture, "scope": "machine",
        "contact": package.contact, "folder": f"{{id}}-{{version}}-r{{revision}}{'-msi' if form == MSI else ''}",
    }  # fmt: skip
    asked = {name: value for name, value in msgspec.to_builtins(plan.when).items() if value not in (None, "", [], {})}
    if asked:
        document["when"] = asked
    media = tomlkit.aot()
    for path in files:
        values = {"file": path.name, "sha256": digest.of_file(path), "size": path.stat().st_size}
        media.append(tomlkit.item({**values, "origin": origin}))
    document["media"] = media
    if plan.settings:
        document["settings"] = msgspec.to_builtins(plan.settings)
    if plan.site:
        document["site"] = msgspec.to_builtins(plan.site)
    step: dict[str, object] = {"kind": "msi", "media": files[0].name, "timeout": "30 min"}
    if plan.settings:
        step["properties"] = {property_of(name): f"{{setting.{name}}}" for name in plan.settings}
    document["install"] = [step]
    document["detect"] = [{"kind": "msi-product", "code": composed.product, "version": f"=={composed.version}"}]
    for name, value in more.items():
        document[name] = value
    return tomlkit.dumps(document)
