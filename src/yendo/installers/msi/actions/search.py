"""Searching, refusing, selecting."""

from __future__ import annotations

from yendo.effects import RegistryValue
from yendo.evidence import row
from yendo.facts.versions import Version
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import Failure, Session


@standard("LaunchConditions")
def launch_conditions(session: Session) -> None:
    for entry in session.database["LaunchCondition"]:
        if not session.holds(entry.text("Condition"), row("LaunchCondition", entry.text("Condition"))):
            raise Failure(1603, session.format(entry.text("Description")) or entry.text("Condition"))


def upgrade_matches(session: Session) -> list[tuple[str, str, bool]]:
    """``(product code, action property, only detect)`` for each installed product that an Upgrade row names."""
    found = []
    for entry in session.database["Upgrade"]:
        flags, languages = entry.number("Attributes"), entry.text("Language")
        wanted = {int(part) for part in languages.split(",") if part.strip().isdigit()}
        for memory in session.others.values():
            if memory.upgrade_code.upper() != entry.text("UpgradeCode").upper():
                continue
            if wanted and (memory.language in wanted) == bool(flags & 1024):
                continue
            if _between(memory.version, entry.text("VersionMin"), entry.text("VersionMax"), flags):
                found.append((memory.code, entry.text("ActionProperty"), bool(flags & 2)))
    return found


def _between(version: str, low: str, high: str, flags: int) -> bool:
    def product(text: str) -> tuple[int, int, int]:
        try:
            return Version.parse(text).product
        except ValueError:
            return (0, 0, 0)

    at = product(version)
    if low and (at < product(low) or (at == product(low) and not flags & 256)):
        return False
    return not (high and (at > product(high) or (at == product(high) and not flags & 512)))


@standard("FindRelatedProducts")
def find_related_products(session: Session) -> None:
    if session.installed:
        return
    for code, name, _ in upgrade_matches(session):
        known = session.prop(name)
        session.put_property(name, f"{known};{code}" if known and code not in known else code)


@standard("AppSearch")
def app_search(session: Session) -> None:
    for entry in session.database["AppSearch"]:
        name, signature = entry.text("Property"), entry.text("Signature_")
        where = row("AppSearch", name, signature)
        found = session.database["RegLocator"].find(signature)
        if found is None or session.database["Signature"].find(signature) is not None:
            session.blind_spot(f"property {name}", "searched for on the machine in a way that is not carried out here", where)
            continue
        kind = found.number("Type", 1)
        if kind & 3 != 2:
            session.blind_spot(f"property {name}", "searches for a file or folder named in the registry", where)
            continue
        hive = {0: "HKCR", 1: "HKCU", 2: "HKLM", 3: "HKU"}.get(found.number("Root"), "HKLM")
        key = f"{hive}/{'64' if kind & 16 else '32'}\\{found.text('Key')}!{found.text('Name')}"
        value = session.state.get("registry", key)
        if isinstance(value, RegistryValue) and value.data is not None:
            session.put_property(name, ("#" if value.type == "dword" else "") + str(value.data))


@standard("CostFinalize")
def cost_finalize(session: Session) -> None:
    session.resolve_directories()
    session.select()
