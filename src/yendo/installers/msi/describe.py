"""The account of an installer database."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from pathlib import Path

import msgspec

from yendo import digest
from yendo.effects import File, RegistryValue, Service, State
from yendo.effects.things import Part, View
from yendo.evidence import BlindSpot, Evidence, row, rule
from yendo.facts import conditions, secrets
from yendo.formats.msi import Database, TableRow
from yendo.formats.msi.strings import known_codec
from yendo.installers import account as form
from yendo.installers.msi import commandline, engine, media, signature
from yendo.installers.msi.fitting import facts
from yendo.installers.msi.session import ROOTS, InstallSession, long_name, platform_of
from yendo.platforms.windows import systems
from yendo.platforms.windows.surroundings import Surroundings, for_everyone, windows
from yendo.terms.rules import Rule, Sight

_REFERENCE = re.compile(r"\[([A-Z_][A-Z0-9_.]*)\]")
_ANY_REFERENCE = re.compile(r"\[([A-Za-z_][A-Za-z0-9_.]*)\]")
# Set by the installer or by its command line's own options, so nothing for a packager to choose.
OF_THE_INSTALLER = frozenset(
    """
    REMOVE REINSTALL REINSTALLMODE ADDLOCAL ADDSOURCE ADDDEFAULT ADVERTISE ACTION ROOTDRIVE TARGETDIR
    UPGRADINGPRODUCTCODE PATCH TRANSFORMS RESUME DATABASE SOURCEDIR SECONDSEQUENCE CLIENTPROCESSID CLIENTUILEVEL
    PRIMARYFOLDER RTLD MSIPATCHREMOVE AFTERREBOOT OUTOFDISKSPACE MSIENFORCEUPGRADECOMPONENTRULES
    MSIUSEREALADMINDETECTION ALLUSERS MSIINSTALLPERUSER REBOOT LIMITUI MSIRESTARTMANAGERCONTROL MSIFASTINSTALL
    ARPSYSTEMCOMPONENT INSTALLLEVEL ARPNOMODIFY ARPNOREPAIR ARPNOREMOVE ARPPRODUCTICON ARPCONTACT ARPHELPLINK
    ARPHELPTELEPHONE ARPURLINFOABOUT ARPURLUPDATEINFO ARPCOMMENTS ARPREADME ARPSIZE ARPINSTALLLOCATION
    """.split()
)
_FORMATTED = {
    "Registry": ("Key", "Name", "Value"),
    "Shortcut": ("Target", "Arguments"),
    "IniFile": ("Section", "Key", "Value"),
    "Environment": ("Value",),
    "CustomAction": ("Source", "Target"),
    "ServiceInstall": ("Name", "Arguments", "StartName", "Password"),
    "ServiceControl": ("Name", "Arguments"),
    "LaunchCondition": ("Description",),
    "Property": ("Value",),
}


_WINDOWS_KEY = r"software\microsoft\windows nt\currentversion"


def baseline(surroundings: Surroundings) -> State:
    """A machine on which nothing but the system's folders is known, and of the system what installers search for."""
    return _baseline(msgspec.json.encode(surroundings)).copy()


@lru_cache(16)  # every scenario begins with one, and there are few kinds of machines
def _baseline(machine: bytes) -> State:
    surroundings = msgspec.json.decode(machine, type=Surroundings)
    state = State()
    for path in (*surroundings.folders.values(), *for_everyone(surroundings).values(), r"C:\Windows\Installer"):
        state.add_folders(path)
    release = systems.of_build(surroundings.windows)
    views: tuple[View, ...] = ("64", "32") if surroundings.architecture != "x86" else ("64",)
    for (key, name), data in release.registry.items():
        for view in views:
            state.add(RegistryValue("HKLM", key, name, "dword" if isinstance(data, int) else "sz", data, view))
    for folder in {
        surroundings.folders[name] for name in ("SystemFolder", "System64Folder") if name in surroundings.folders
    }:
        for name, version in release.files.items():
            state.add(File(f"{folder}\\{name}", None, None, version))
    for name, known in release.own.items():
        state.add(File(f"{surroundings.folders['WindowsFolder']}\\{name}", None, None, known))
    shared = systems.shared()
    for name, how in shared.services.items():
        start, _, now = how.partition(" ")
        state.add(Service(name, start=start, running=now == "running"))
    for name in shared.fonts.values():
        state.add(File(f"{surroundings.folders['FontsFolder']}\\{name}"))
    for name, kind in shared.features.items():
        if kind in (0, release.type):
            state.add(Part("feature", name))
    return state


def furnished(surroundings: Surroundings, there: Iterable[Rule]) -> State:
    """The same machine with what these rules ask for."""
    state = baseline(surroundings)
    for one in there:
        one.fulfil(Sight(state, surroundings.environment))
    return state


def language_name(number: str | None) -> str | None:
    """``"2057"`` as ``en-GB``; the number itself where it has no name."""
    if not number or not number.isdigit():
        return number or None
    return systems.language_tag(int(number)) or ("neutral" if number == "0" else number)


def account(path: Path, *, verify: bool = False) -> form.InstallerAccount:
    """Reads a database. ``verify`` reads the whole file, for its hash and its signature's digest. Raises Unreadable."""
    with Database(path) as database:
        return _account(path, database, verify)


def _blind(database: Database, outcome: engine.EngineOutcome, found: Sequence[form.Medium]) -> Iterator[BlindSpot]:
    """What reading cannot know, and what is missing for it."""
    yield from _custom_actions(database, outcome)
    yield from (spot for spot in outcome.blind_spots if spot.evidence.table != "CustomAction")
    for flaw in database.flaws:
        yield BlindSpot("what it holds", f"{flaw}; it is read all the same", Evidence("offset", "its structure"))
    for medium in found:
        if not medium.present:
            why = f"the {medium.kind} file the database names is not beside it"
            yield BlindSpot(f"{medium.name} is missing", why, row("Media", medium.name))


def _account(path: Path, database: Database, verify: bool) -> form.InstallerAccount:
    values = facts(database)
    summary = database.summary
    identity, why = _identity(database, values)
    surroundings = windows("user")
    outcome = engine.predict(database, surroundings, baseline(surroundings))
    refused = None if outcome.done else outcome.refusal or f"exit code {outcome.exit_code}"
    wanting: tuple[form.Wanted, ...] = ()
    met = outcome
    while met.wanting and not met.done and len(wanting) < MOST_WANTED:
        wanting += met.wanting
        met = engine.predict(database, surroundings, furnished(surroundings, (one.there for one in wanting)))
    if met.done:
        outcome = met
    else:
        wanting = ()
    takes = _takers(database, surroundings) if not met.done else {}
    outcome = next(iter(takes.values()), outcome)
    whole = digest.of_file(path) if verify else None
    least = _least_build(database, surroundings)
    media_found = tuple(media.media(database, path))
    says = (summary.title, summary.subject, summary.author, summary.application)
    return form.InstallerAccount(
        file=form.FileFacts(path.name, path.stat().st_size, whole),
        family="msi",
        says_of_itself=" / ".join(filter(None, says)) or None,
        identity=identity,
        signature=signature.of(database, verify=verify),
        silent=_silent(path.name, identity),
        conditions=_launch_conditions(database),
        needs=_needs(database),
        processes=_programs(database),
        properties=property_facts(database),
        payload=_payload(database, media_found, outcome),
        effects=outcome.effects,
        blind_spots=tuple(_blind(database, outcome, media_found)),
        why=why | ({"conditions.build": least[1]} if least else {}),
        refused=refused,
        wanting=wanting,
        takes=tuple(takes),
        least_build=least[0] if least else None,
    )


def _takers(database: Database, surroundings: Surroundings) -> dict[str, engine.EngineOutcome]:
    """The Windows that are known here on which a database goes on, by their names, and what it does there."""
    found = {}
    for name, system in systems.systems().items():
        other = msgspec.structs.replace(surroundings, windows=system.version)
        outcome = engine.predict(database, other, baseline(other))
        if outcome.done:
            found[name] = outcome
    return found


MOST_WANTED = 8  # that an installer asks for, one after another
_CURRENT = r"software\microsoft\windows nt\currentversion"


def _least_build(database: Database, surroundings: Surroundings) -> tuple[int, Evidence] | None:
    """The build that a launch condition asks for by a search, and the row that says so.

    By the version of a system file, whose third number is the base build, or by the value that holds the build.
    """
    session = InstallSession(database, surroundings, State(), {})
    # those that hold all the same, where the search finds nothing, ask for nothing
    must = [
        text
        for entry in database["LaunchCondition"]
        for text in [entry.text("Condition")]
        if not session.holds(text, row("LaunchCondition", text))
    ]
    found: list[tuple[int, Evidence]] = []
    for entry in database["AppSearch"]:
        name, signature = entry.text("Property"), entry.text("Signature_")
        asked = [text for text in must if re.search(rf"(?<![\w.!]){re.escape(name)}(?![\w.])", text)]
        wanted, where = database["Signature"].find(signature), row("AppSearch", name, signature)
        version = re.match(r"10\.0\.(\d{5})(?:\.|$)", wanted.text("MinVersion")) if wanted else None
        if asked and version and wanted and long_name(wanted.text("FileName")).lower() in systems.of_build("").files:
            found.append((int(version[1]), where))
        locator = database["RegLocator"].find(signature)
        of_build = locator is not None and locator.text("Name").lower() in ("currentbuild", "currentbuildnumber")
        if of_build and locator is not None and locator.text("Key").lower() == _CURRENT:
            compared = rf'(?<![\w.]){re.escape(name)}\s*>=?\s*"?#?(\d{{5}})'
            found += [(int(match[1]), where) for text in asked for match in re.finditer(compared, text)]
    return max(found, key=lambda one: one[0], default=None)


def _identity(database: Database, values: dict[str, str]) -> tuple[form.Identity, dict[str, Evidence]]:
    summary = database.summary
    everyone = values.get("ALLUSERS", "")
    scope = {"1": "machine", "2": "machine or user", "": "user"}.get(everyone, "user")
    languages = [
        language_name(part.strip()) for part in (summary.template or "").partition(";")[2].split(",") if part.strip()
    ]
    own = language_name(values.get("ProductLanguage"))
    identity = form.Identity(
        values.get("ProductName"),
        values.get("ProductVersion"),
        values.get("Manufacturer"),
        platform_of(summary.template),
        own or ", ".join(filter(None, languages)) or None,
        scope,
        (values.get("ProductCode") or "").upper() or None,
        (values.get("UpgradeCode") or "").upper() or None,
        summary.revision,
    )
    names = {
        "name": "ProductName",
        "version": "ProductVersion",
        "publisher": "Manufacturer",
        "language": "ProductLanguage",
        "product_code": "ProductCode",
        "upgrade_code": "UpgradeCode",
    }
    why = {f"identity.{field}": row("Property", name) for field, name in names.items() if name in values}
    why["identity.architecture"] = Evidence(
        "row", "summary information, template", summary.template or "empty, which means 32-bit"
    )
    why["identity.scope"] = (
        row("Property", "ALLUSERS", note="no such row: for the user who runs it")
        if not everyone
        else row("Property", "ALLUSERS", note=f"= {everyone}")
    )
    why["identity.package_code"] = Evidence("row", "summary information, revision number")
    return identity, why


def _silent(name: str, identity: form.Identity) -> form.Silent:
    documented = rule(
        "Windows Installer, command line options", "/qn shows nothing, /norestart never restarts by itself"
    )
    if not identity.product_code:
        return form.Silent(form.CommandLine(commandline.install(name), "certain", documented))
    by_code = Evidence("row", "Property[ProductCode]", documented.note)
    return form.Silent(
        form.CommandLine(commandline.install(name), "certain", documented),
        form.CommandLine(commandline.uninstall(identity.product_code), "certain", by_code),
        form.CommandLine(commandline.repair(identity.product_code), "certain", by_code),
    )


def _launch_conditions(database: Database) -> tuple[form.LaunchCondition, ...]:
    found, versions = [], _searched(database)
    for entry in database["Upgrade"]:
        low, high = entry.text("VersionMin"), entry.text("VersionMax")
        bounds = " ".join(([f"from {low}"] if low else []) + ([f"up to {high}"] if high else [])) or "of any number"
        versions[entry.text("ActionProperty")] = f"a version {bounds} of the same line"
    for entry in database["LaunchCondition"]:
        text = entry.text("Condition")
        try:
            words = conditions.in_words(conditions.parse(text), versions)
        except conditions.ConditionError as error:
            words = f"cannot be read: {error}"
        found.append(form.LaunchCondition(text, words, entry.text("Description"), row("LaunchCondition", text)))
    return tuple(found)


def _searched(database: Database) -> dict[str, str]:
    """What a property holds that a search in the registry sets, in words."""
    found = {}
    for entry in database["AppSearch"]:
        at = database["RegLocator"].find(entry.text("Signature_"))
        if at is not None:
            hive = ROOTS.get(at.number("Root"), "")
            key, name = at.text("Key"), at.text("Name")
            build = key.lower() == _WINDOWS_KEY and name.lower() in ("currentbuild", "currentbuildnumber")
            found[entry.text("Property")] = (
                "the build of Windows" if build else f"the registry value {hive}\\{key}\\{name}"
            )
    return found


def _needs(database: Database) -> tuple[str, ...]:
    needs = []
    platform = platform_of(database.summary.template)
    if platform in ("x64", "arm64", "ia64"):
        needs.append(f"Windows for {platform}")
    pages = database.summary.pages or 0
    if pages >= 300:
        needs.append(f"Windows Installer {pages / 100:.1f} or later")
    return tuple(needs)


def _programs(database: Database) -> tuple[str, ...]:
    """Programs that a person may have open; a service is stopped by the installer itself."""
    served = {entry.text("Component_") for entry in database["ServiceInstall"]}
    names = {
        long_name(name)
        for name, component in database["File"].pick("FileName", "Component_")
        if component not in served
    }
    return tuple(sorted(name for name in names if name.lower().endswith(".exe")))


def uses(database: Database, *, private: bool = False) -> dict[str, list[str]]:
    """Public properties (``private``: all) that conditions and formatted columns refer to, and where."""
    found: dict[str, list[str]] = {}

    def note(name: str, where: str) -> None:
        if (private or commandline.PUBLIC_NAME.fullmatch(name)) and where not in found.setdefault(name, []):
            found[name].append(where)

    for table in database.tables:
        columns = database.schema[table]
        if any(column.name == "Condition" for column in columns):
            for entry in database[table]:
                if text := entry.text("Condition"):
                    try:
                        for leaf in conditions.leaves(conditions.parse(text)):
                            if leaf.kind == "property":
                                note(leaf.text, f"{table}.Condition")
                    except conditions.ConditionError:
                        continue
    for table, names in _FORMATTED.items():
        for entry in database[table]:
            for column in names:
                text = entry.text(column)
                if "[" in text:
                    for name in (_ANY_REFERENCE if private else _REFERENCE).findall(text):
                        note(name, f"{table}.{column}")
    for entry in database["Upgrade"]:
        found.pop(entry.text("ActionProperty"), None)
    return found


_DIALOGS = ("Control", "Dialog", "Event", "Radio", "List", "Combo", "Check", "InstallUISequence", "Admin", "Advt")


def in_silence(places: tuple[str, ...]) -> bool:
    """Whether one of the places is looked at without dialogs."""
    return any(not place.startswith(_DIALOGS) for place in places)


def property_facts(database: Database) -> tuple[form.Property, ...]:
    """Every public property that the database defines or refers to: its default, and where it is used."""
    used = uses(database)
    values = facts(database)
    set_by_searches = {entry.text("ActionProperty") for entry in database["Upgrade"]}
    system = windows().folders.keys() | set_by_searches | OF_THE_INSTALLER
    known = {name for name in values if commandline.PUBLIC_NAME.fullmatch(name)}
    folders = {
        entry.text("Directory")
        for entry in database["Directory"]
        if commandline.PUBLIC_NAME.fullmatch(entry.text("Directory"))
    }
    chosen = {entry.text("Directory_") for entry in database["Feature"] if entry.text("Directory_")}
    names = (known | used.keys() | (folders & chosen)) - system
    found = []
    for name in sorted(names):
        places = tuple(used.get(name, ())) or (("Directory",) if name in folders else ())
        found.append(form.Property(name, values.get(name), places, in_silence(places)))
    return tuple(found)


def _payload(database: Database, found: tuple[form.Medium, ...], outcome: engine.EngineOutcome) -> form.Payload:
    components = Counter(entry.text("Feature_") for entry in database["FeatureComponents"])
    features = tuple(
        form.Feature(
            entry.text("Feature"),
            entry.text("Title"),
            entry.text("Feature_Parent") or None,
            outcome.features.get(entry.text("Feature")) == 3,
            components[entry.text("Feature")],
        )
        for entry in database["Feature"]
    )
    return form.Payload(
        len(database["File"]), sum(entry.number("FileSize") for entry in database["File"]), found, features
    )


class CustomAction(msgspec.Struct, frozen=True):
    """A custom action: what it is, when it runs, under which condition; ``script`` is its source where it is one.

    ``evaluated``: a prediction carries it out.
    """

    name: str
    type: int
    what: str
    when: str
    condition: str
    origin: str
    target: str
    script: str
    evaluated: bool


_SCRIPTS = frozenset({5, 6, 21, 22, 37, 38, 53, 54})
MAX_SCRIPT = 1 << 18


def custom_actions(database: Database) -> list[CustomAction]:
    """Every custom action, those of the silent sequence first, in its order."""
    steps = {entry.text("Action"): entry for entry in database["InstallExecuteSequence"]}
    found = []
    for entry in database["CustomAction"]:
        kind, name = entry.number("Type") & 0xFFFF, entry.text("Action")
        base, step = kind & 0x3F, steps.get(name)
        what = engine.CUSTOM_KINDS.get(base, f"unknown type {base}")
        when = (
            engine.when_of(kind) if step is not None and step.number("Sequence") > 0 else "not in the silent sequence"
        )
        script = _source_of(database, base, entry) if base in _SCRIPTS else ""
        target = "" if base in (37, 38) else secrets.mask_words(entry.text("Target"))
        if base in (51, 35):
            target = f"{entry.text('Source')} = {secrets.MASK if secrets.is_secret(entry.text('Source')) else entry.text('Target')}"  # noqa: E501
        origin = "" if base in (51, 35, 19, 37, 38) else entry.text("Source")
        condition = step.text("Condition") if step is not None else ""
        found.append(CustomAction(name, kind, what, when, condition, origin, target, script, base in engine.EVALUATED))
    place = {name: entry.number("Sequence") for name, entry in steps.items()}
    return sorted(found, key=lambda action: (place.get(action.name, 0) <= 0, place.get(action.name, 0)))


def _source_of(database: Database, base: int, entry: TableRow) -> str:
    """The text of a script: in the row, in a stream, or in a property.

    Empty where a file that is installed holds it.
    """
    if base in (37, 38):
        return entry.text("Target")
    if base in (53, 54):
        value = database["Property"].find(entry["Source"])
        return value.text("Value") if value is not None else ""
    stream = database.stream(f"Binary.{entry.text('Source')}") if base in (5, 6) else None
    if stream is None or stream.size > MAX_SCRIPT:
        return ""
    data = stream.read()
    codec = (
        "utf-16"
        if data[:2] in (b"\xff\xfe", b"\xfe\xff")
        else "utf-8-sig"
        if data[:3] == b"\xef\xbb\xbf"
        else known_codec(database.code_page)
    )
    return data.decode(codec, "replace")


def _custom_actions(database: Database, outcome: engine.EngineOutcome) -> list[BlindSpot]:
    """Every custom action that only a run can know, with its kind and its time; those of the prediction with the
    command line that they were given there.
    """
    ran = {spot.evidence.key: spot for spot in outcome.blind_spots if spot.evidence.table == "CustomAction"}
    return [
        ran.get(action.name)
        or BlindSpot(
            f"custom action {action.name}: {action.what}",
            f"{action.when}; only running it shows what it does",
            row("CustomAction", action.name),
        )
        for action in custom_actions(database)
        if not action.evaluated
    ]
