"""Libraries that a program needs and does not find, by reading its headers."""

from __future__ import annotations

import io
from collections.abc import Callable

from yendo.formats.pe import Image
from yendo.platforms.windows import folders

# Source: the libraries that Windows documents as its own and that programs commonly import.
_SYSTEM = frozenset(
    "advapi32 bcrypt cabinet cfgmgr32 combase comctl32 comdlg32 credui crypt32 cryptui d3d9 d3d11 dbghelp dnsapi "
    "dwmapi dwrite dxgi gdi32 gdiplus "
    "glu32 hid imagehlp imm32 iphlpapi kernel32 kernelbase mf mfplat mpr msi msimg32 msvcrt mswsock ncrypt netapi32 "
    "ntdll odbc32 ole32 oleacc "
    "oleaut32 opengl32 powrprof propsys psapi rpcrt4 secur32 setupapi shcore shell32 shlwapi urlmon user32 userenv "
    "usp10 uxtheme version "
    "wbemuuid winhttp wininet winmm winspool.drv wintrust wldap32 ws2_32 wsock32 wtsapi32 xmllite mscoree ucrtbase".split()  # noqa: E501
)


def missing_libraries(data: bytes, beside: set[str], known: Callable[[str], bool]) -> tuple[str, ...]:
    """The libraries that a program imports and that are neither beside it nor the system's.

    ``known`` tells whether a file is there, by its whole path in the system's folder of the program's width.
    Raises Unreadable.
    """
    image = Image(io.BytesIO(data), "the program")
    wanted = [name.lower() for name in image.imports()]
    return tuple(
        name
        for name in wanted
        if name not in beside
        and name.removesuffix(".dll") not in _SYSTEM
        and not name.startswith(("api-ms-", "ext-ms-"))
        and not known(folders.of_system(name, image.bits))
    )
