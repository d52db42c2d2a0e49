"""Run by a Windows Python: prints what the system's own reader (setupapi) finds in ``.inf`` files, as JSON.

One line a file: section -> its lines, each as the key and the values, strings put in; and which section it would install for a name.
"""

import ctypes
import json
import sys
from ctypes import wintypes

api = ctypes.WinDLL("setupapi")


class Context(ctypes.Structure):
    _fields_ = [
        ("Inf", ctypes.c_void_p),
        ("CurrentInf", ctypes.c_void_p),
        ("Section", wintypes.UINT),
        ("Line", wintypes.UINT),
    ]


api.SetupOpenInfFileW.restype = ctypes.c_void_p
api.SetupOpenInfFileW.argtypes = [wintypes.LPCWSTR, wintypes.LPCWSTR, wintypes.DWORD, ctypes.c_void_p]
api.SetupCloseInfFile.argtypes = [ctypes.c_void_p]
api.SetupEnumInfSectionsW.argtypes = [ctypes.c_void_p, wintypes.UINT, wintypes.LPWSTR, wintypes.DWORD, ctypes.c_void_p]
api.SetupFindFirstLineW.argtypes = [ctypes.c_void_p, wintypes.LPCWSTR, wintypes.LPCWSTR, ctypes.POINTER(Context)]
api.SetupFindNextLine.argtypes = [ctypes.POINTER(Context), ctypes.POINTER(Context)]
api.SetupGetFieldCount.argtypes = [ctypes.POINTER(Context)]
api.SetupGetStringFieldW.argtypes = [
    ctypes.POINTER(Context),
    wintypes.DWORD,
    wintypes.LPWSTR,
    wintypes.DWORD,
    ctypes.c_void_p,
]
api.SetupDiGetActualSectionToInstallW.argtypes = [
    ctypes.c_void_p,
    wintypes.LPCWSTR,
    wintypes.LPWSTR,
    wintypes.DWORD,
    ctypes.c_void_p,
    ctypes.c_void_p,
]


def field(context, number):
    text = ctypes.create_unicode_buffer(4096)
    return text.value if api.SetupGetStringFieldW(context, number, text, 4096, None) else None


def told(path):
    inf = api.SetupOpenInfFileW(path, None, 2, None)
    if inf in (None, ctypes.c_void_p(-1).value):
        return None
    names, at = [], 0
    name = ctypes.create_unicode_buffer(512)
    while api.SetupEnumInfSectionsW(inf, at, name, 512, None):
        names.append(name.value)
        at += 1
    found, chosen = {}, {}
    for section in names:
        lines, context = [], Context()
        more = api.SetupFindFirstLineW(inf, section, None, context)
        while more:
            count = api.SetupGetFieldCount(context)
            lines.append([field(context, 0), [field(context, number) for number in range(1, count + 1)]])
            more = api.SetupFindNextLine(context, context)
        found[section.lower()] = lines
        whole = ctypes.create_unicode_buffer(512)
        if api.SetupDiGetActualSectionToInstallW(inf, section, whole, 512, None, None):
            chosen[section.lower()] = whole.value.lower()
    api.SetupCloseInfFile(inf)
    return {"sections": found, "chosen": chosen}


for path in sys.argv[1:]:
    print(json.dumps(told(path)))
