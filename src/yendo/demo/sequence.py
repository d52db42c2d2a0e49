"""The demo's package as a sequence: a runtime that is needed first, an older release in the way, a driver, a restart, a
person at the machine.
"""

from __future__ import annotations

from pathlib import Path

import msgspec
import tomlkit
from tomlkit.items import AoT

from yendo.demo import drivers
from yendo.draft import writing
from yendo.machines.protocol import BROUGHT
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry
from yendo.package import manifest as form
from yendo.plan import read
from yendo.platforms.windows import paths
from yendo.terms import events

RUNTIME = "tidewell-runtime"
_RUNTIME_PLAN = """[package]
id = "tidewell-runtime"
name = "Tidewell runtime"
version = "3.1"
publisher = "Tidewell"

[[install]]
kind = "copy"
from = "extras/runtime"
to = 'C:\\Program Files\\Tidewell\\Runtime'
timeout = "1 min"

[[detect]]
kind = "file"
path = 'C:\\Program Files\\Tidewell\\Runtime\\tide-runtime.dat'
sha256 = "{digest}"
"""
_SEQUENCE = """
[[need]]
package = "tidewell-runtime"
version = ">=3"
from = "extras/runtime-package"
remove = true
note = "Lantern reads its tide tables with it"

[in_the_way]
programs = ["lantern.exe"]
ask = true
postpone = 2
postpone_for = "2 days"
wait = "1 min"

[in_the_way.text]
en = "The survey office renews Lantern."
de = "Das Vermessungsbüro erneuert Lantern."

[[first]]
kind = "remove-previous"
name = "Lantern"
publisher = "Tidewell"
version = "<6.2"
timeout = "10 min"
note = "before 6.2 an upgrade kept the old tide tables"

[[last]]
kind = "certificate"
from = "extras/tidewell.cer"
note = "the gauge's driver is signed by Tidewell alone: without it Windows would ask"

[[last]]
kind = "driver"
from = "extras/gauge-driver"
timeout = "5 min"
when = { holds = [{ kind = "file", path = '%SystemRoot%\\System32\\pnputil.exe' }] }

[[last]]
kind = "restart"
where = "always"
notice = "1 min"
text = "The tide gauge's driver is new."
unless = [{ kind = "file", path = '%ProgramData%\\Tidewell\\Lantern\\site.ini' }]
note = "only the first time: the site's configuration is placed behind it"
"""


def runtime(folder: Path) -> Path:
    """Makes and builds the package of the runtime; returns the built package."""
    workspace = folder / "runtime"
    data = b"Tidewell tide tables reader 3.1\r\n" * 40
    path = workspace / "extras" / "runtime" / "tide-runtime.dat"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    from hashlib import sha256

    (workspace / "plan.toml").write_text(_RUNTIME_PLAN.format(digest=sha256(data).hexdigest()), "utf-8")
    return build.build(workspace, read(workspace / "plan.toml")[0]).folder


def add(workspace: Path, runtime_package: Path) -> None:
    """Adds the sequence to the plan of the workspace: what it needs, what is in the way, what comes before and after
    the installer.
    """
    import shutil

    shutil.copytree(runtime_package, workspace / "extras" / "runtime-package", dirs_exist_ok=True)
    drivers.put(drivers.CURRENT, workspace / "extras" / "gauge-driver")
    (workspace / "extras" / "tidewell.cer").write_bytes(drivers.publisher())
    path = workspace / "plan.toml"
    document, wanted = tomlkit.parse(path.read_text("utf-8")), tomlkit.parse(_SEQUENCE)
    document.remove("in_the_way")
    install: AoT = writing.part(document, "install")
    first, last = writing.part(wanted, "first"), writing.part(wanted, "last")
    steps = [*first, *list(install)[:-1], *last, list(install)[-1]]
    document["install"] = writing.array(*steps)
    uninstall = document["uninstall"]
    del document["uninstall"]
    document.add("need", wanted["need"])
    document.add("in_the_way", wanted["in_the_way"])
    document.add("uninstall", uninstall)
    path.write_text(writing.spaced(tomlkit.dumps(document)), "utf-8")


class Moment(msgspec.Struct, frozen=True):
    """One start of the runner in the life of a machine: what was so, the exit code, and the lines that matter."""

    title: str
    verb: str
    exit_code: int
    lines: tuple[str, ...]


_TELLING = (
    events.Postponed,
    events.PersonAgreed,
    events.CloseAsked,
    events.EntryFound,
    events.RunResumed,
    events.Restarting,
    events.NeedCarried,
    events.NeedReleased,
    events.RunEnded,
)


def lived(package: Path, share: Path) -> tuple[Moment, ...]:
    """A machine with the older release, its program open and somebody at it: what the package does there until it is
    removed again. Simulated.
    """
    session = SimulatedSession(SimulatedMachine().surroundings())
    folder = paths.join(BROUGHT, form.read(package).id)
    session.bring(package, folder)
    session.bring(share, r"C:\from-tidewell")
    session.run(r'msiexec /i "C:\from-tidewell\lantern-6.1.0.msi" /qn', timeout=600)
    session.running, session.facts = ["lantern"], msgspec.structs.replace(session.facts, people=1)
    session.agrees = [False, True]
    found: list[Moment] = []

    manifest = form.read(package)
    manifest = form.with_values(manifest, session.surroundings.environment, manifest.sites.get("marrowby", {}))

    def start(title: str, verb: str) -> None:
        ran = carry.carry(manifest, package, session, verb, folder=folder, sleep=lambda _: None)
        found.append(
            Moment(
                title, verb, ran.exit_code, events.texts(event for event in ran.events if isinstance(event, _TELLING))
            )
        )

    start("6.1.0 is installed and open, the person postpones", "install")
    start("a day later, the person agrees", "install")
    session.restart()
    start("after the restart", "install")
    start("the package is withdrawn", "uninstall")
    return tuple(found)
