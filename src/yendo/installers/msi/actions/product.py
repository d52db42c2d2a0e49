"""The product itself: its registration, its restart, the removal of older ones."""

from __future__ import annotations

from yendo.effects import File, UninstallEntry
from yendo.effects.things import Product as ProductThing
from yendo.effects.things import View
from yendo.evidence import row
from yendo.installers.msi.actions.search import upgrade_matches
from yendo.installers.msi.actions.table import standard
from yendo.installers.msi.session import InstallSession


@standard("RegisterProduct")
def register_product(session: InstallSession) -> None:
    if session.removing or not session.product_code:
        return
    get = session.prop
    where = row("Property", "ProductCode")
    hive = "HKLM" if session.per_machine else "HKCU"
    view: View = "64" if session.platform != "x86" or hive == "HKCU" else "32"
    changeable = not get("ARPNOMODIFY")
    session.put(
        UninstallEntry(
            session.product_code,
            hive,
            view,
            get("ProductName"),
            get("ProductVersion"),
            get("Manufacturer") or None,
            f"MsiExec.exe /{'I' if changeable else 'X'}{session.product_code}",
            None,
            get("ARPSYSTEMCOMPONENT") == "1",
        ),
        where,
    )


@standard("PublishProduct")
def publish_product(session: InstallSession) -> None:
    where = row("Property", "ProductCode")
    _icons(session)
    if session.removing:
        session.drop("product", session.product_code, where)
        view: View = "64" if session.platform != "x86" or not session.per_machine else "32"
        hive = "HKLM" if session.per_machine else "HKCU"
        session.drop("uninstall-entry", UninstallEntry(session.product_code, hive, view).identity, where)
    elif session.product_code:
        session.published = True
        language = session.prop("ProductLanguage")
        session.put(
            ProductThing(
                session.product_code,
                session.prop("ProductName"),
                session.prop("ProductVersion"),
                int(language) if language.isdigit() else None,
                "machine" if session.per_machine else "user",
                session.prop("UpgradeCode").upper() or None,
            ),
            where,
        )


def _icons(session: InstallSession) -> None:
    """The icons of the list of programs and of shortcuts, which the installer keeps in a folder of its own."""
    keeper = f"{session.surroundings.folders['WindowsFolder']}\\Installer"
    folder = f"{keeper}\\{session.product_code}"
    for entry in session.database["Icon"]:
        name, where = entry.text("Name"), row("Icon", entry.text("Name"))
        if not name or any(character in name for character in "\\/:"):
            continue
        if session.removing:
            session.drop("file", f"{folder}\\{name}", where)
            if session.state.is_empty(folder):
                session.drop("folder", folder, where)
            continue
        session.state.add_folders(keeper)  # the installer's own on every machine
        session.put_folder(folder, where)
        stream = session.database.stream(f"Icon.{name}")
        session.put(File(f"{folder}\\{name}", stream.size if stream else None), where)


@standard("ScheduleReboot")
def schedule_reboot(session: InstallSession) -> None:
    session.restart = session.restart or "at the end"


@standard("ForceReboot")
def force_reboot(session: InstallSession) -> None:
    session.restart = "in the middle"


@standard("RemoveExistingProducts")
def remove_existing_products(session: InstallSession) -> None:
    if session.installed:
        return
    only_detect = {code for code, _, detect in upgrade_matches(session) if detect}
    for code, name, detect in upgrade_matches(session):
        if detect or code in only_detect or code not in session.prop(name) or code not in session.others:
            continue
        session.remove_other(session.others[code])
