"""Where scripts for macOS are carried out: namespaces of their own over the machine's tree, no network, no way out,
with stand-ins of the system's programs in its folders.
"""

from __future__ import annotations

import json
import py_compile
import re
import shutil
import stat
import subprocess
import sys
import sysconfig
from collections.abc import Callable
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Literal

import msgspec

from yendo import host_os
from yendo.mac_half.machine import standins

LIMIT, MAX_SAID, MAX_BOOK = 300.0, 1 << 20, 64 << 20
MEMORY, MAX_FILE = 2 << 30, 16 << 30  # bytes for one process, and for one file
HOW_TO_GET = "apt-get install bubblewrap"
_FOLDERS = {
    "bin": (
        "cat", "chmod", "cp", "date", "df", "echo", "expr", "launchctl", "ln", "ls", "mkdir", "mv", "pwd", "rm",
        "rmdir", "sleep", "sync", "test", "[",
    ),
    "sbin": ("md5",),
    "usr/sbin": ("chown", "installer", "pkgutil", "spctl", "scutil", "sysctl"),
    "usr/libexec": ("PlistBuddy",),
}  # fmt: skip
_START = """#!/.yendo/python/bin/python{version} -IS
import sys
sys.path.insert(0, "/.yendo/lib")
import standins
raise SystemExit(standins.main())
"""
_SHELLS = ("sh", "bash", "zsh", "dash", "ksh")


@cache
def lacking() -> str:
    """Why no script can be carried out here; empty where it can."""
    if not host_os.LINUX:
        return "only Linux has what it takes"
    if not shutil.which("bwrap"):
        return f"bwrap not found: {HOW_TO_GET}"
    tried = ["bwrap", "--unshare-all", "--ro-bind", "/", "/", "true"]
    try:
        done = subprocess.run(tried, capture_output=True, text=True, timeout=20, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        return f"bwrap does not run: {error}"
    return "" if done.returncode == 0 else f"this system does not let bwrap isolate: {done.stderr.strip()[:200]}"


def _prepared(folder: Path) -> list[str]:
    """The stand-ins beside the tree, and the arguments that put all into place."""
    programs = folder / "programs"
    if not programs.is_dir():
        for name, there in _FOLDERS.items():
            (programs / name).mkdir(parents=True)
            for one in there:
                (programs / name / one).symlink_to("/.yendo/standin")
        (programs / "usr/bin").mkdir()
        elsewhere = {one for there in _FOLDERS.values() for one in there}
        for one in standins.PROGRAMS:
            if one not in elsewhere or one in ("test", "[", "echo"):
                (programs / "usr/bin" / one).symlink_to("/.yendo/standin")
        for one in _SHELLS:
            (programs / "bin" / one).symlink_to("/.yendo/shell")
        (programs / "usr/bin/env").unlink(missing_ok=True)
        (programs / "usr/bin/env").symlink_to("/.yendo/host/bin/env")
        # compiled once: a program by itself would be compiled at each of its hundreds of starts
        (programs / "lib/standins").mkdir(parents=True)
        for source in files("yendo.mac_half.machine").joinpath("standins").iterdir():
            if source.name.endswith(".py"):
                py_compile.compile(str(source), str(programs / "lib/standins" / f"{source.name}c"), doraise=True)
        program = programs / "standin"
        program.write_text(_START.format(version=sysconfig.get_python_version()), "utf-8")
        program.chmod(0o755)
    for name in ("usr/lib", "lib64", ".yendo", "dev", "proc", *_FOLDERS, "usr/bin"):
        (folder / "tree" / name).mkdir(parents=True, exist_ok=True)
    if not (folder / "tree/lib").is_symlink():
        (folder / "tree/lib").symlink_to("usr/lib")
    line = ["prlimit", f"--as={MEMORY}", f"--fsize={MAX_FILE}", "--core=0"] if shutil.which("prlimit") else []
    line += ["bwrap", "--unshare-all", "--uid", "0", "--gid", "0", "--die-with-parent", "--new-session", "--clearenv"]
    line += ["--hostname", "marrowby", "--bind", str(folder / "tree"), "/", "--ro-bind", "/usr/lib", "/usr/lib"]
    line += [
        "--ro-bind",
        str(Path("/lib64").resolve()),
        "/lib64",
        "--tmpfs",
        "/.yendo",
        "--proc",
        "/proc",
        "--dev",
        "/dev",
    ]
    for name in (*_FOLDERS, "usr/bin"):
        line += ["--ro-bind", str(programs / name), f"/{name}"]
    line += ["--ro-bind", str(programs / "lib"), "/.yendo/lib"]
    line += ["--ro-bind", str(programs / "standin"), "/.yendo/standin", "--bind", str(folder / "own"), "/.yendo/own"]
    line += ["--ro-bind", sys.base_prefix, "/.yendo/python", "--ro-bind", "/usr", "/.yendo/host"]
    line += ["--ro-bind", str(Path(shutil.which("dash") or "/bin/sh").resolve()), "/.yendo/shell"]
    for name, value in {
        "PATH": "/usr/bin:/bin:/usr/sbin:/sbin",
        "HOME": "/var/root",
        "USER": "root",
        "LANG": "C.UTF-8",
        "LD_LIBRARY_PATH": "/.yendo/python/lib",  # some Pythons keep their own library there
    }.items():
        line += ["--setenv", name, value]
    return [*line, "--chdir", "/", "--"]


def run(
    folder: Path, command: list[str], asked: Callable[[dict[str, str]], dict[str, object]]
) -> tuple[int, list[str]]:
    """A command in it; its exit code and what it said. ``asked`` answers what a script asks the machine itself for."""
    own = folder / "own"
    with (own / "said").open("w+b") as said:
        process = subprocess.Popen(
            [*_prepared(folder), *command], stdin=subprocess.DEVNULL, stdout=said, stderr=subprocess.STDOUT,
            preexec_fn=None, **host_os.new_group(),
        )  # fmt: skip
        try:
            left = LIMIT
            while True:
                try:
                    process.wait(0.02)
                    break
                except subprocess.TimeoutExpired:
                    left -= 0.02
                for question in own.glob("ask-*.json"):
                    with host_os.paused(process.pid):  # what asks must not change links meanwhile
                        _answered(question, asked)
                if left <= 0:
                    return 124, ["it did not end within five minutes"]
        finally:
            process.kill()
            process.wait(10)
        said.seek(0)
        text = said.read(MAX_SAID).decode("utf-8", "replace")
    return process.returncode, text.splitlines()


def read_plain(path: Path) -> bytes:
    """A file that scripts can write: not through a link, and no pipe that never ends. Raises OSError."""
    if not stat.S_ISREG(path.lstat().st_mode) or path.stat().st_size > MAX_BOOK:
        raise OSError(f"{path.name} is no plain file of a reasonable size")
    return path.read_bytes()


def _answered(question: Path, asked: Callable[[dict[str, str]], dict[str, object]]) -> None:
    taken = question.with_name(question.name + ".taken")  # scripts of what is installed now ask in the same place
    question.rename(taken)
    try:
        given = msgspec.json.decode(read_plain(taken), type=_Question)
        answer = asked(msgspec.structs.asdict(given))
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError) as error:
        answer = {"code": 1, "said": [], "why": str(error)}
    taken.unlink(missing_ok=True)
    made = question.with_name(question.name + ".made")
    made.unlink(missing_ok=True)
    made.write_text(json.dumps(answer), "utf-8")
    made.rename(question.with_name(question.name + ".answer"))


class _Question(msgspec.Struct, forbid_unknown_fields=True):
    package: str
    what: Literal["install", "verify"] = "install"
    target: str = "/"
    choices: str = ""


def missing(line: str) -> str:
    """The program that a shell did not find, by what it says."""
    found = re.search(r": (?:line )?\d+: ([^:]+): (?:not found|No such file)", line)
    return found[1].strip() if found else ""
