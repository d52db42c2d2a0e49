"""A form of a package as a workspace of its own: what was made lies in its media, and a plan brings it, so that it is
checked, proved and handed over like every other package.
"""

from __future__ import annotations

import hashlib
import io
import sys
import tempfile
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import msgspec
import tomlkit

from yendo import atomic, digest
from yendo.effects import Effect, File
from yendo.errors import Usage, YendoError
from yendo.formats.cab_writer import CabSource
from yendo.formats.cab_writer import write as write_cabinet
from yendo.formats.msi import Database, DatabaseWriter, Summary, transform
from yendo.formats.msi.schema import columns
from yendo.forms.database import LOG_ON, Composed, Reach, compose
from yendo.forms.places import Row, code, property_of
from yendo.installers.msi import intent
from yendo.installers.msi.validate import validate
from yendo.plan import Plan
from yendo.platforms.windows.capture_record import HELD, Caught, Promise
from yendo.steps.captured import CapturedStep, Decided, capture_of, decided, promise
from yendo.steps.copy import CopyStep, extras
from yendo.steps.rights import RightsStep
from yendo.terms.changes import PropertyChange

MSI, MSIX, ENVELOPE = "msi", "msix", "envelope"
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


def build(base: Path, plan: Plan, *, reach: Reach = LOG_ON) -> FormBuilt:
    """Makes the database of a plan, and the workspace ``forms/msi`` that proves it; ``reach`` is how settings of
    people's own come to everybody. Raises Impossible, Usage.
    """
    wanted, whole = brought(plan, base, "a database", rights=True)
    composed = compose(plan, wanted, base, reach=reach)
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
    sites: dict[str, bytes] = {}

    def written(media: Path) -> list[Path]:
        main = media / f"{package.id}-{package.version}.msi"
        with _Packing() as packing:
            beside = _written(main, plan, composed, streams, packing)
            _validated(main)
            sites.update(_sites(main, plan))
            for name, data in sites.items():
                (media.parent / name).parent.mkdir(exist_ok=True)
                (media.parent / name).write_bytes(data)
            return [main, *(one.result() for one in beside)]

    def planned(files: Sequence[Path]) -> str:
        step: dict[str, object] = {"kind": "msi", "media": files[0].name, "timeout": "30 min"}
        if plan.settings:
            step["properties"] = {property_of(name): f"{{setting.{name}}}" for name in plan.settings}
        rule = {"kind": "msi-product", "code": composed.product, "version": f"=={composed.version}"}
        said = {"settings": msgspec.to_builtins(plan.settings), "site": msgspec.to_builtins(plan.site)}
        own = {name: value for name, value in said.items() if value}
        return form_plan(form, plan, files, {**own, "install": [step], "detect": [rule], **more})

    return workspace(form, base, whole, written, planned, composed.notes + notes, sites)


def workspace(
    form: str,
    base: Path,
    whole: Promise,
    written: Callable[[Path], list[Path]],
    planned: Callable[[Sequence[Path]], str],
    notes: Sequence[str],
    sites: Iterable[str] = (),
) -> FormBuilt:
    """Makes the workspace ``forms/FORM`` anew: ``written`` puts the files into its media, the main one first, and
    ``planned`` gives its plan's text. It is there whole or not at all.
    """
    target = base / "forms" / form
    with atomic.folder(target) as work:
        (work / "media").mkdir()
        (work / HELD).parent.mkdir(parents=True)
        files = written(work / "media")
        (work / HELD).write_bytes(msgspec.json.encode(whole) + b"\n")
        (work / "plan.toml").write_text(planned(files), "utf-8")
    main = target / "media" / files[0].name
    size, sha256 = main.stat().st_size, digest.of_file(main)
    return FormBuilt(form, target, main, size, sha256, tuple(notes), tuple(sites))


def brought(plan: Plan, base: Path, what: str, *, rights: bool = False) -> tuple[list[Decided], Promise]:
    """What the plan brings, and what it is held against; ``rights``: whether ``what`` has a place for them, taken from
    the plan. Raises Usage where a step has no place in ``what``.
    """
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
            placed = [authored(path, to, base.resolve()) for path, to in extras(base, step)]
            found += placed
            kept += [one.caught.effect for one in placed]
        elif rights and isinstance(step, RightsStep):
            continue
        else:
            kind = str(step.__struct_config__.tag)
            raise Usage(
                f"install step {number} ({kind}) has no place in {what}, which holds what was captured and copied"
            )
    promised = [effect for effect in kept if effect.kind != "uninstall-entry"]  # the installer makes its own
    return found, Promise(kept=tuple(promised), left=tuple(left))


def authored(path: Path, to: str, base: Path) -> Decided:
    """A file of ours that comes to a placed path, by what it holds; it lies below ``base``."""
    effect = Effect("add", File(to, path.stat().st_size, digest.of_file(path)), "authored")
    return Decided(Caught(effect, "install", content=path.relative_to(base).as_posix()), "kept")


class _Packing:
    """Cabinets that are packed while the rest is written and looked over; none goes on once that has failed."""

    def __init__(self) -> None:
        self._pool, self._stopped = ThreadPoolExecutor(1), threading.Event()
        self._interval = sys.getswitchinterval()

    def packed(self, path: Path, group: Sequence[CabSource]) -> Path:
        with path.open("w+b") as file:
            write_cabinet(file, group, stopped=self._stopped.is_set)
        return path

    def later(self, path: Path, group: Sequence[CabSource]) -> Future[Path]:
        return self._pool.submit(self.packed, path, group)

    def __enter__(self) -> _Packing:
        # a thread that has packed a block waits so long until the one that writes tables lets go of the interpreter:
        # with the usual 5 ms the packers stood still most of the time
        sys.setswitchinterval(0.0002)
        return self

    def __exit__(self, kind: object, *rest: object) -> None:
        if kind is not None:
            self._stopped.set()
        self._pool.shutdown(cancel_futures=kind is not None)
        sys.setswitchinterval(self._interval)


def _written(
    target: Path, plan: Plan, composed: Composed, streams: Mapping[str, Path], packing: _Packing
) -> list[Future[Path]]:
    """Writes the database; the cabinets that lie beside it, once they are packed."""
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
    beside: list[Future[Path]] = []
    last = 0
    with tempfile.TemporaryDirectory(prefix="yendo-form-", dir=target.parent) as place:
        writer = DatabaseWriter(code_page=_code_page(tables), summary=_summary(plan, composed))
        for name, source in streams.items():
            writer.stream(name, source)
        for name, data in composed.icons.items():
            writer.stream(f"Icon.{name}", data)
        for number, group in enumerate(groups, 1):
            name = f"files{number}.cab"
            path = Path(place) / name if whole <= EMBEDDED else target.parent / name
            last += len(group)
            if group and whole <= EMBEDDED:
                writer.stream(name, packing.packed(path, group))
            elif group:
                beside.append(packing.later(path, group))
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


def form_plan(
    form: str, plan: Plan, files: Sequence[Path], more: Mapping[str, object], when: Mapping[str, object] = {}
) -> str:
    """The plan of a form's own workspace: ``files`` are its media, ``more`` its steps and rules by their keys, ``when``
    what it asks for besides.
    """
    package = plan.package
    document = tomlkit.document()
    origin = f"yendo build --as {form}"
    document.add(tomlkit.comment(f"Made by {origin}, and made anew by it: change the plan that it is from."))
    document["package"] = {
        # what is inside an envelope has its own name on the machine
        "id": f"{package.id}-{form}" if form == ENVELOPE else package.id,
        "name": package.name, "version": package.version, "revision": package.revision,
        "publisher": package.publisher, "architecture": package.architecture, "scope": "machine",
        "contact": package.contact,
        "folder": f"{{id}}-{{version}}-r{{revision}}{'' if form == ENVELOPE else f'-{form}'}",
    }  # fmt: skip
    given = {name: value for name, value in msgspec.to_builtins(plan.when).items() if value not in (None, "", [], {})}
    if asked := {**given, **when}:
        document["when"] = asked
    media = tomlkit.aot()
    with ThreadPoolExecutor() as pool:
        hashes = list(pool.map(digest.of_file, files))
    for path, sha256 in zip(files, hashes, strict=True):
        values = {"file": path.name, "sha256": sha256, "size": path.stat().st_size}
        media.append(tomlkit.item({**values, "origin": origin}))
    document["media"] = media
    for name, value in more.items():
        document[name] = value
    return tomlkit.dumps(document)
