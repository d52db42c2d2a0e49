"""What a plan brings as a modern app package, and the workspace ``forms/msix`` that checks and proves it."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from yendo.effects import Effect
from yendo.errors import Usage, YendoError
from yendo.formats import app_manifest, app_package, app_writer, hive
from yendo.formats.app_writer import AppMember
from yendo.forms import app_logos, app_text
from yendo.forms.app_bundle import bundled
from yendo.forms.app_text import LEAST, LOGOS, STORE_LOGO, TILES, AppWords
from yendo.forms.app_things import AppStart, AppThings, hives
from yendo.forms.form import MSIX, FormBuilt, brought, form_plan, workspace
from yendo.forms.places import Impossible, least_build
from yendo.installers import app_rules, modern_app
from yendo.plan import Plan
from yendo.platforms.windows.capture_record import Promise
from yendo.terms.settings import settle

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9.-]{1,48}[A-Za-z0-9-]")
_LANGUAGES = re.compile(r"[a-z]{2,3}(-[A-Za-z0-9]{2,8})*")


def build_app(base: Path, plan: Plan, publisher: str, site: str = "", others: Sequence[Path] = ()) -> FormBuilt:
    """Makes the app package of a plan, unsigned, and the workspace that proves it. ``publisher`` is the name in the
    certificate that will sign it, as a manifest writes it; ``site`` whose values are built in. With ``others``, app
    packages of the same product for other processors, it becomes a bundle of all of them.

    Raises Impossible where something has no place in one, Usage.
    """
    wanted, whole = brought(plan, base, "an app package")
    package = plan.package
    things = AppThings(base, plan.settings, _built_in(plan, site), narrow=package.architecture == "x86")
    things.all(wanted)
    if things.wrong:
        raise Impossible("an app package", things.wrong)
    starts = _starts(things)
    words = _words(plan, publisher)
    text, least = app_text.manifest(words, starts, things.declared)
    notes = list(dict.fromkeys(things.notes))
    pictures, plain = _pictures(things, starts)
    if plain:
        notes.append(f"no icon of its own, so its pictures are plain: {', '.join(plain)}")
    members: dict[str, bytes | Path] = {**things.members, **pictures}
    members |= {name: _hive(root) for name, root in hives(things).items()}
    if least > words.least:
        notes.append(f"it asks for Windows 10.0.{least} or later, by what its manifest declares")
    if any(plan.standing("install")):
        notes.append("the house's standing steps are not in the app package: the package round it brings them")
    notes.append(
        "its programs see its files and values in their places, and cannot write into their own folder; other programs "
        "and the system do not see them"
    )

    processors: list[str] = []

    def written(media: Path) -> list[Path]:
        target = media / f"{package.id}-{package.version}.msix"
        listed = [AppMember(name, content) for name, content in sorted(members.items())]
        with target.open("w+b") as file:
            app_writer.write(file, [*listed, AppMember(app_writer.MANIFEST, text.encode())])
        _validated(target)
        if not others:
            return [target]
        bundle = target.with_suffix(".msixbundle")
        processors.extend(bundled(bundle, [target, *others]))
        target.unlink()
        return [bundle]

    def planned(files: Sequence[Path]) -> str:
        app = app_package.identity(files[0])
        more = {
            "install": [{"kind": "msix", "media": files[0].name, "timeout": "30 min"}],
            "detect": [{"kind": "app", "name": app.name, "version": f"=={app.version}"}],
        }
        when: dict[str, object] = {"os": _asked(plan, least)}
        if processors:
            when["architecture"] = sorted(processors)
        return form_plan(MSIX, plan, files, more, when)

    # what it brings is seen by its own programs only, and no machine is looked at from there
    within = tuple(Effect("add", thing, "authored") for thing in things.promised)
    return workspace(MSIX, base, Promise(left=whole.left, within=within), written, planned, notes)


def _built_in(plan: Plan, site: str) -> dict[str, str]:
    """The values of the settings: a site's, else the defaults. Raises Usage, SettingError."""
    if site and site not in plan.site:
        raise Usage(f"the plan has no [site.{site}]; it has {', '.join(plan.site) or 'none'}")
    if secrets := [name for name, setting in plan.settings.items() if setting.secret]:
        raise Usage(f"the secret {secrets[0]} would lie in the package for everybody to read")
    return settle(plan.settings, plan.site.get(site, {}), needed=())


def publisher_of(certificate: Path) -> str:
    """The name in a certificate, as a manifest's publisher has to be. Raises Usage."""
    from yendo.package import signing

    subject = signing.certificates(certificate)[0].subject
    fields = []
    for attribute in reversed(list(subject)):
        short = modern_app.SHORT.get(attribute.oid.dotted_string, f"OID.{attribute.oid.dotted_string}")
        value = str(attribute.value)
        quoted = '"' + value.replace('"', '""') + '"' if re.search(r'[,+="\r\n<>#;]|^ | $', value) else value
        fields.append(f"{short}={quoted}")
    return ", ".join(fields)


def version_of(plan: Plan) -> str:
    """The version in four parts: one of up to three gets its revision behind it, so that a corrected package replaces
    the one before. Raises Usage.
    """
    text, revision = plan.package.version, plan.package.revision
    fields = text.split(".")
    if not re.fullmatch(r"\d+(\.\d+){0,3}", text) or any(int(field) > 65535 for field in fields):
        raise Usage(f"the version {text!r} is not up to four numbers of at most 65535, which an app package needs")
    if len(fields) == 4 and revision > 1:
        raise Usage(
            f"an app package has only the version {text}: Windows does not replace it by revision {revision} of the "
            "same one; raise the package's version"
        )
    if len(fields) < 4:
        fields = [*fields, "0", "0"][:3] + [str(revision - 1)]
    return ".".join(str(int(field)) for field in fields)


def _words(plan: Plan, publisher: str) -> AppWords:
    package = plan.package
    if not _NAME.fullmatch(package.id):
        raise Usage(
            f"an app package is named by 3 to 50 letters, digits, dots and hyphens, and the plan's id is {package.id}"
        )
    asked = least_build(plan.when.os)
    language = package.language if package.language and _LANGUAGES.fullmatch(package.language) else "en-us"
    return AppWords(
        name=package.id,
        version=version_of(plan),
        publisher=publisher,
        architecture=package.architecture or "x64",
        title=package.name,
        maker=package.publisher or package.name,
        description=package.name,
        language=language,
        least=max(LEAST, int(asked[1]) if asked else 0),
    )


def _starts(things: AppThings) -> list[AppStart]:
    """What stands in the start menu; an icon on the desktop only where nothing there starts the same. Raises Usage."""
    menu = [one for one in things.starts if one.menu]
    menu.sort(key=lambda one: (bool(one.arguments), one.name.lower()))  # the first speaks for the package
    known = {(one.program, one.arguments) for one in menu}
    for one in things.starts:
        if one.menu:
            continue
        if (one.program, one.arguments) in known:
            things.notes.append(f"no icon on the desktop: {one.name} is started from the start menu")
        else:
            menu.append(msgspec.structs.replace(one, menu=True))
            things.notes.append(f"{one.name} stands in the start menu instead of on the desktop")
    if not menu:
        raise Usage("the plan keeps no shortcut to a program of its own, and an app package is what a person starts")
    taken: set[str] = set()
    for number, one in enumerate(menu):
        own = wanted = "App" + re.sub(r"[^A-Za-z0-9]", "", one.name)[:50]
        while own.lower() in taken:
            own = f"{wanted}x{len(taken)}"
        taken.add(own.lower())
        menu[number] = msgspec.structs.replace(one, id=own)
    return menu


def _pictures(things: AppThings, starts: list[AppStart]) -> tuple[dict[str, bytes], list[str]]:
    """All pictures by their names in the package, and the starts whose program has no icon."""
    found: dict[str, bytes] = {}
    plain = []
    sizes = [*LOGOS.values(), *TILES.values(), (50, 50)]
    for number, start in enumerate(starts, 1):
        made, own = app_logos.logos(things.members[start.program], sizes)
        found |= {app_text.logo(number, size): made[size] for size in sizes if size != (50, 50)}
        if number == 1:
            found[STORE_LOGO] = made[50, 50]
        if not own:
            plain.append(start.name)
    return found, plain


def _hive(root: hive.HiveKey) -> bytes:
    out = io.BytesIO()
    hive.write(out, root)
    return out.getvalue()


def _asked(plan: Plan, least: int) -> str:
    """Which Windows the plan asks for, with what the manifest asks for besides."""
    given = plan.when.os or ""
    found = least_build(given)
    if found is None:
        return ", ".join(filter(None, (given, f">=10.0.{least}")))
    return given.replace(found[0], f">=10.0.{max(least, int(found[1]))}")


def _validated(path: Path) -> None:
    """Raises a defect where what was made is not what was meant: that is ours to mend."""
    if wrong := app_manifest.differing(path):
        raise YendoError(f"what was made is no sound app package: {wrong[0]} is not what its block map says")
    if broken := app_rules.broken(path):
        raise YendoError(f"what was made is no sound app package: {broken[0].message}")
