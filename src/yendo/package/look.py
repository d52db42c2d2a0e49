"""The facts of a machine, as run conditions on it would see them."""

from __future__ import annotations

from yendo.errors import NotCovered
from yendo.machines.protocol import Machine
from yendo.package import manifest as form
from yendo.package import scripts
from yendo.platforms.windows import command_lines, folders, paths
from yendo.terms.when import FACTS, in_words, value_of

FOLDER = folders.TEMPORARY


def facts_of(machine: Machine) -> dict[str, str]:
    """Each fact in words, by its name; one that the machine does not tell is left out.

    Raises NotCovered without a PowerShell on a real one.
    """
    with machine.fresh() as session:
        if session.staging:
            found = {name: value_of(name, session.facts) for name in FACTS}
            return {name: in_words(value) for name, value in found.items() if value is not None}
        if not machine.has_powershell:
            raise NotCovered(
                "the facts of a real machine are asked by the runner, and this one has no PowerShell; `yendo doctor` "
                "says how to add one"
            )
        nothing = form.Manifest(
            id="facts",
            name="facts",
            version="1",
            revision=1,
            publisher="",
            architecture="any",
            scope="machine",
            logs=FOLDER,
            install=(),
            uninstall=(),
            repair=(),
            detect=(),
            files=(),
        )
        session.write(paths.join(FOLDER, "facts.ps1"), scripts.runner(nothing))
        ran = session.run(command_lines.script(paths.join(FOLDER, "facts.ps1"), "facts"), timeout=120)
        if ran.exit_code != 0:
            raise NotCovered(f"the machine does not answer: {ran.output[-300:].strip() or ran.exit_code}")
        pairs = [line.partition(": ") for line in ran.output.splitlines() if ": " in line]
        return {name: text for name, _, text in pairs if name in FACTS}
