"""The text of an app package's manifest, from what the package holds.

Source of each element: its page in the documentation of the package manifest; the builds are in
``platforms/windows/app_elements.toml``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from xml.sax.saxutils import escape, quoteattr

import msgspec

from yendo.forms.app_things import AppDeclared, AppStart
from yendo.platforms.windows.app_elements import elements

LEAST = 17763  # the oldest build that is asked for: the first one that all that is written without more runs on
_TESTED = 26100  # what MaxVersionTested says: the newest one in the tables of this version
_FULL = "Windows.FullTrustApplication"
LOGOS = {"Square150x150Logo": (150, 150), "Square44x44Logo": (44, 44)}
TILES = {"Square71x71Logo": (71, 71), "Wide310x150Logo": (310, 150), "Square310x310Logo": (310, 310)}
STORE_LOGO = "Assets/logo-50x50.png"


class AppNode(msgspec.Struct):
    """An element: its name with its prefix, attributes in their order, what is in it."""

    name: str
    given: dict[str, str] = {}
    inner: list[AppNode] = []
    text: str = ""

    def written(self, depth: int = 0) -> str:
        """The element as text, indented."""
        pad = "  " * depth
        head = "".join(f" {name}={quoteattr(value)}" for name, value in self.given.items())
        if self.text:
            return f"{pad}<{self.name}{head}>{escape(self.text)}</{self.name}>\n"
        if not self.inner:
            return f"{pad}<{self.name}{head}/>\n"
        inner = "".join(one.written(depth + 1) for one in self.inner)
        return f"{pad}<{self.name}{head}>\n{inner}{pad}</{self.name}>\n"

    def names(self) -> set[str]:
        """All names of elements and attributes in it."""
        return {self.name, *self.given, *(name for one in self.inner for name in one.names())}


class AppWords(msgspec.Struct, frozen=True, kw_only=True):
    """Who the package is and what people read of it. ``version`` in four parts; ``language`` as a tag; ``least`` the
    build that the plan asks for.
    """

    name: str
    version: str
    publisher: str
    architecture: str
    title: str
    maker: str
    description: str
    language: str
    least: int = LEAST


def logo(start: int, size: tuple[int, int]) -> str:
    """A picture's name in the package."""
    return f"Assets/app{start}-{size[0]}x{size[1]}.png"


def manifest(words: AppWords, starts: Sequence[AppStart], declared: Sequence[AppDeclared]) -> tuple[str, int]:
    """The manifest, and the oldest build of Windows that takes the package."""
    full = [AppNode("rescap:Capability", {"Name": "runFullTrust"})]
    services = [one for one in declared if one.sort == "service"]
    if services:
        full.append(AppNode("rescap:Capability", {"Name": "packagedServices"}))
    if any(one.more["account"] == "localSystem" for one in services):
        full.append(AppNode("rescap:Capability", {"Name": "localSystemServices"}))
    applications = AppNode("Applications")
    # what two starts of one program share is said once; what nobody starts by name goes with the first
    homes = {start.program: start.id for start in reversed(starts)}
    for number, start in enumerate(starts, 1):
        own = [one for one in declared if homes.get(one.program, starts[0].id) == start.id]
        applications.inner.append(_application(number, start, own))
    names = applications.names()
    known = elements()
    least = max([words.least, *(build for name, build in known.build.items() if name in names)])
    family = {
        "Name": "Windows.Desktop",
        "MinVersion": f"10.0.{least}.0",
        "MaxVersionTested": f"10.0.{max(least, _TESTED)}.0",
    }
    top = AppNode(
        "Package",
        {},
        [
            AppNode(
                "Identity",
                {
                    "Name": words.name, "Publisher": words.publisher, "Version": words.version,
                    "ProcessorArchitecture": words.architecture,
                },
            ),
            AppNode(
                "Properties",
                {},
                [
                    AppNode("DisplayName", text=words.title[:256]),
                    AppNode("PublisherDisplayName", text=words.maker[:256]),
                    AppNode("Description", text=words.description[:2048]),
                    AppNode("Logo", text=STORE_LOGO.replace("/", "\\")),
                ],
            ),
            AppNode("Resources", {}, [AppNode("Resource", {"Language": words.language})]),
            AppNode("Dependencies", {}, [AppNode("TargetDeviceFamily", family)]),
            applications,
            AppNode("Capabilities", {}, full),
        ],
    )  # fmt: skip
    used = sorted({name.partition(":")[0] for name in top.names() if ":" in name})
    top.given = {"xmlns": known.namespace[""]}
    top.given |= {f"xmlns:{prefix}": known.namespace[prefix] for prefix in used}
    top.given["IgnorableNamespaces"] = " ".join(used)
    return '<?xml version="1.0" encoding="utf-8"?>\n' + top.written(), least


def _application(number: int, start: AppStart, declared: Sequence[AppDeclared]) -> AppNode:
    shown = {
        "DisplayName": start.name[:256], "Description": (start.description or start.name)[:2048],
        "BackgroundColor": "transparent",
        **{name: logo(number, size).replace("/", "\\") for name, size in LOGOS.items()},
    }  # fmt: skip
    if not start.menu:
        shown["AppListEntry"] = "none"
    tiles = {name: logo(number, size).replace("/", "\\") for name, size in TILES.items()}
    inner = [AppNode("uap:VisualElements", shown, [AppNode("uap:DefaultTile", tiles)])]
    found = [_extension(one, start) for one in declared]
    types = [one for one in declared if one.sort == "type"]
    extensions = [one for one in found if one is not None] + _types(types)
    fonts = [one.name for one in declared if one.sort == "font"]
    if fonts:
        held = [AppNode("uap4:Font", {"File": name.replace("/", "\\")}) for name in fonts]
        shared = AppNode("uap4:SharedFonts", {}, held)
        extensions.append(AppNode("uap4:Extension", {"Category": "windows.sharedFonts"}, [shared]))
    if extensions:
        inner.append(AppNode("Extensions", {}, extensions))
    given = {"Id": start.id, "Executable": start.program.replace("/", "\\"), "EntryPoint": _FULL}
    if start.arguments:
        given["uap10:Parameters"] = start.arguments
    return AppNode("Application", given, inner)


def _extension(one: AppDeclared, start: AppStart) -> AppNode | None:
    program = one.program.replace("/", "\\")
    runs = {"Executable": program, "EntryPoint": _FULL}
    match one.sort:
        case "protocol":
            given = {"Name": one.name}
            if one.more["arguments"] and one.more["arguments"] != '"%1"':
                given["Parameters"] = one.more["arguments"]
            other = {} if one.program == start.program else runs
            return AppNode(
                "uap3:Extension", {"Category": "windows.protocol", **other}, [AppNode("uap3:Protocol", given)]
            )
        case "start":
            task = {
                "TaskId": re.sub(r"[^A-Za-z0-9]", "", one.name) or "Start",
                "Enabled": "true",
                "DisplayName": one.name,
            }
            return AppNode(
                "desktop:Extension", {"Category": "windows.startupTask", **runs}, [AppNode("desktop:StartupTask", task)]
            )
        case "alias":
            alias = AppNode("uap3:AppExecutionAlias", {}, [AppNode("desktop:ExecutionAlias", {"Alias": one.name})])
            return AppNode("uap3:Extension", {"Category": "windows.appExecutionAlias", **runs}, [alias])
        case "server":
            title = {"DisplayName": one.more["title"]} if one.more["title"] else {}
            given = {"Executable": program} | ({"Arguments": one.more["arguments"]} if one.more["arguments"] else {})
            kind = AppNode("com:Class", {"Id": one.name, **title})
            server = AppNode("com:ComServer", {}, [AppNode("com:ExeServer", {**given, **title}, [kind])])
            return AppNode("com:Extension", {"Category": "windows.comServer"}, [server])
        case "service":
            more = one.more
            given = {"Name": one.name, "StartupType": more["start"], "StartAccount": more["account"]}
            if more["arguments"]:
                given["Arguments"] = more["arguments"]
            needs = [AppNode("desktop6:DependentService", {"Name": name}) for name in more["needs"].split("\n") if name]
            inner = [AppNode("desktop6:Dependencies", {}, needs)] if needs else []
            service = AppNode("desktop6:Service", given, inner)
            return AppNode("desktop6:Extension", {"Category": "windows.service", **runs}, [service])
    return None


def _types(types: Sequence[AppDeclared]) -> list[AppNode]:
    """One association for each way in which a program is called with a file."""
    of: dict[tuple[str, str], list[str]] = {}
    for one in types:
        of.setdefault((one.program, one.more["arguments"]), []).append(one.name)
    found = []
    for (_, arguments), names in of.items():
        inner = [AppNode("uap:SupportedFileTypes", {}, [AppNode("uap:FileType", text=name) for name in names])]
        if arguments not in ("", "%1", '"%1"'):
            verb = AppNode("uap3:Verb", {"Id": "open", "Parameters": arguments}, text="Open")
            inner.append(AppNode("uap2:SupportedVerbs", {}, [verb]))
        kind = AppNode("uap3:FileTypeAssociation", {"Name": re.sub(r"[^a-z0-9]", "", names[0]) or "files"}, inner)
        found.append(AppNode("uap3:Extension", {"Category": "windows.fileTypeAssociation"}, [kind]))
    return found
