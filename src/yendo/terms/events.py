"""What happens while a package is carried out, as data: one type for each thing that can happen, with the sentence for
it.

The runner on the machine and Yendo's own interpreter tell the same events; the sentences of both are made here, last.
The runner writes each as a line of JSON, with ``v``, the version of this table.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Iterable
from typing import ClassVar, Literal

import msgspec

VERSION = 1

By = Literal["both", "runner", "interpreter"]


def _tag(name: str) -> str:
    return re.sub(r"(?<!^)(?=[A-Z])", "-", name).lower()


class Event(msgspec.Struct, frozen=True, tag_field="event", tag=_tag):
    """Something that happened. ``sentence`` is for people, with the fields by name; ``by`` says who can tell it."""

    sentence: ClassVar[str]
    by: ClassVar[By] = "both"

    @classmethod
    def name(cls) -> str:
        return str(cls.__struct_config__.tag)

    @property
    def text(self) -> str:
        """The sentence, on one line."""
        values = {name: getattr(self, name) for name in self.__struct_fields__}
        plain = {name: f"{value:g}" if isinstance(value, float) else value for name, value in values.items()}
        return _CONTROL.sub(" ", self.sentence.format_map(plain)).rstrip()


_CONTROL = re.compile(r"[\x00-\x08\x0a-\x1f\x7f]+")

# --- a run ------------------------------------------------------------------------------------------


class RunBegan(Event, frozen=True):
    package: str
    version: str
    revision: int
    verb: str
    sentence = "{package} {version}, revision {revision}: {verb}"


class RunResumed(Event, frozen=True):
    verb: str
    ended: int
    sentence = "going on with an unfinished {verb}: {ended} steps are done"


class RunEnded(Event, frozen=True):
    code: int
    sentence = "done with {code}"


class RunStopped(Event, frozen=True):
    """Between two steps, by an error of the runner's own."""

    error: str
    sentence = "stopped: {error}"


class NotDetected(Event, frozen=True):
    rule: str
    fact: str
    sentence = "not detected: {rule}, {fact}"


class NotApplicable(Event, frozen=True):
    reasons: str
    sentence = "not applicable: {reasons}"


class NotNow(Event, frozen=True):
    reasons: str
    sentence = "not now: {reasons}"


class NotBelieved(Event, frozen=True):
    path: str
    reason: str
    sentence = "not believed: {path}, {reason}"
    by = "runner"


class SettingRefused(Event, frozen=True):
    problem: str
    sentence = "settings: {problem}"


class PackageDamaged(Event, frozen=True):
    file: str
    how: Literal["is missing", "has changed"]
    sentence = "damaged package: {file} {how}"


class LeftBehind(Event, frozen=True):
    file: str
    sentence = "left behind, it is not listed: {file}"


class MoreLeftBehind(Event, frozen=True):
    count: int
    sentence = "left behind, and {count} more"


class LogHeld(Event, frozen=True):
    path: str
    error: str
    sentence = "a log stays where only administrators read it: {path}, {error}"
    by = "runner"


# --- programs and people in the way -----------------------------------------------------------------


class CloseAsked(Event, frozen=True):
    program: str
    sentence = "asking {program} to close"


class ProgramEnded(Event, frozen=True):
    program: str
    sentence = "ending {program}: it did not close in time"


class CloseFailed(Event, frozen=True):
    program: str
    error: str
    sentence = "could not close {program}: {error}"
    by = "runner"


class HolderFound(Event, frozen=True):
    program: str
    sentence = "{program} has a file of the package open, by the system's list"
    by = "runner"


class HoldersUnknown(Event, frozen=True):
    error: str
    sentence = "who has files open is not known: {error}"
    by = "runner"


class PersonAgreed(Event, frozen=True):
    sentence = "the person agrees"


class Postponed(Event, frozen=True):
    left: int
    sentence = "postponed by the person, times left: {left}"


class PostponedEnough(Event, frozen=True):
    sentence = "it cannot be postponed any more"


class NobodyThere(Event, frozen=True):
    message: str
    sentence = "nobody is there to be told: {message}"


class PersonTold(Event, frozen=True):
    message: str
    sentence = "told: {message}"


class MessageFailed(Event, frozen=True):
    error: str
    sentence = "no message could be shown: {error}"
    by = "runner"


class ProgressShown(Event, frozen=True):
    sentence = "progress is shown"
    by = "runner"


class ProgressFailed(Event, frozen=True):
    error: str
    sentence = "progress cannot be shown: {error}"
    by = "runner"


class ProgressStuck(Event, frozen=True):
    sentence = "the progress window did not close"
    by = "runner"


class NobodyLoggedOn(Event, frozen=True):
    sentence = "nobody is logged on"


# --- what a package needs ---------------------------------------------------------------------------


class Permanent(Event, frozen=True):
    why: str
    sentence = "it cannot be removed: {why}"


class NeededByOthers(Event, frozen=True):
    packages: str
    sentence = "not removed, it is needed by {packages}"


class NeedVersion(Event, frozen=True):
    package: str
    found: str
    wanted: str
    sentence = "{package} {found} is here, wanted is {wanted}"


class NeedUnmet(Event, frozen=True):
    rule: str
    fact: str
    sentence = "needed and missing: {rule}, {fact}"


class NeedNotBrought(Event, frozen=True):
    need: str
    sentence = "{need} is missing, and this package does not bring it"


class NobodyAgrees(Event, frozen=True):
    need: str
    sentence = "{need} is missing, and nobody is here to agree to it"


class PersonDeclined(Event, frozen=True):
    need: str
    sentence = "the person does not agree to {need}"


class InstallMode(Event, frozen=True):
    """A host that many people share is put into its install mode, or out of it again."""

    change: Literal["on", "off"]
    code: int
    sentence = "people share this host: its install mode is {change}, exit code {code}"


class NeedCarried(Event, frozen=True):
    need: str
    code: int
    sentence = "{need}: exit code {code}"


class NeedReleased(Event, frozen=True):
    need: str
    code: int
    sentence = "{need}: nobody needs it any more, exit code {code}"


# --- steps ------------------------------------------------------------------------------------------


class StepBegan(Event, frozen=True):
    number: int
    title: str
    sentence = "step {number}: {title}"


class StepDoneBefore(Event, frozen=True):
    sentence = "it is done already, as its probe shows"


class StepPassed(Event, frozen=True):
    reasons: str
    sentence = "passed over: {reasons}"


class StepNotNeeded(Event, frozen=True):
    rule: str
    fact: str
    sentence = "not needed here: {rule}, {fact}"


class StepRetried(Event, frozen=True):
    wait: float
    attempt: int
    retries: int
    sentence = "trying again after {wait} seconds, {attempt} of {retries}"


class StepFailed(Event, frozen=True):
    number: int
    error: str
    sentence = "step {number} failed: {error}"


class ProbeFailed(Event, frozen=True):
    """What the step should have achieved is not so."""

    fact: str
    sentence = "it did not take: {fact}"


class StepEndedBadly(Event, frozen=True):
    code: int
    number: int
    sentence = "ended with {code} in step {number}"


class GoingOn(Event, frozen=True):
    sentence = "going on all the same, as the plan says"


class Undoing(Event, frozen=True):
    sentence = "undoing what this run has done"


class Restarting(Event, frozen=True):
    sentence = "restarting the machine, and going on after it"


class RestartNotAsked(Event, frozen=True):
    sentence = "no step asked for a restart"


class ResumeTaskFailed(Event, frozen=True):
    error: str
    sentence = "no task: {error}"
    by = "runner"


class ResumeAtStart(Event, frozen=True):
    task: str
    sentence = "it goes on at the machine's start, by the task {task}"
    by = "runner"


class ResumeAtLogon(Event, frozen=True):
    sentence = "no task could be made; it goes on when a session starts"
    by = "runner"


class ProbeAssumed(Event, frozen=True):
    """Nothing was executed: what the step's own probe asks for is taken for done."""

    step: str
    sentence = "{step}: not executed, its own probe is taken for done"
    by = "interpreter"


# --- commands ---------------------------------------------------------------------------------------


class CommandBegan(Event, frozen=True):
    line: str
    sentence = "running: {line}"


class CommandEnded(Event, frozen=True):
    code: int
    meaning: str
    sentence = "exit code {code}: {meaning}"


class CommandTakenBack(Event, frozen=True):
    code: int
    sentence = "exit code {code}: taken back"


class CommandOverTime(Event, frozen=True):
    """``activity`` is what it did within the last moments: processor time, bytes, processes."""

    activity: str
    sentence = "over its time and still busy, {activity}"


class CommandIdle(Event, frozen=True):
    activity: str
    sentence = "stopped: over its time and idle, {activity}"


class CommandTwiceOverTime(Event, frozen=True):
    activity: str
    sentence = "stopped: twice over its time, {activity}"


class CommandStopped(Event, frozen=True):
    seconds: float
    sentence = "stopped: not done after {seconds} seconds"


class WaitingFor(Event, frozen=True):
    program: str
    sentence = "waiting for {program}, which goes on"


class WaitedTooLong(Event, frozen=True):
    program: str
    seconds: float
    sentence = "stopped waiting: {program} not done after {seconds} seconds"


class SecretsBeside(Event, frozen=True):
    sentence = "the secret properties are handed over beside the command line"
    by = "runner"


class EntryFound(Event, frozen=True):
    program: str
    version: str
    sentence = "found: {program} {version}"


class NoEntryFound(Event, frozen=True):
    sentence = "nothing of that kind is here"


class NoQuietUninstall(Event, frozen=True):
    sentence = "it has no quiet uninstall, and the plan gives no arguments for its usual one"


# --- changes ----------------------------------------------------------------------------------------

StepChange = Literal[
    "placed",
    "kept",
    "already there",
    "taken away",
    "made",
    "edited",
    "already so",
    "set",
    "deleted",
    "removed",
    "put back",
    "not there",
]


class Changed(Event, frozen=True):
    """A file, folder, key or value, and what became of it."""

    change: StepChange
    what: str
    sentence = "{change}: {what}"


class Left(Event, frozen=True):
    """Something that is not touched, and why."""

    reason: Literal[
        "it was changed since", "it is not empty", "it is a link", "another package needs it", "another device uses it"
    ]
    what: str
    sentence = "left, {reason}: {what}"


class ServiceChanged(Event, frozen=True):
    service: str
    change: str
    sentence = "service {service}: {change}"


class ServiceLate(Event, frozen=True):
    service: str
    wanted: str
    seconds: float
    sentence = "service {service} is not {wanted} after {seconds} seconds"


class CertificateChanged(Event, frozen=True):
    certificate: str
    change: str
    sentence = "certificate {certificate}: {change}"


class VariableChanged(Event, frozen=True):
    variable: str
    change: str
    sentence = "variable {variable}: {change}"


class FontAdded(Event, frozen=True):
    font: str
    sentence = "font: {font}"


class FactRecorded(Event, frozen=True):
    fact: str
    value: str
    sentence = "{fact}: {value}"


class NothingRecorded(Event, frozen=True):
    sentence = "nothing of this package is on record"


class Waited(Event, frozen=True):
    seconds: float
    sentence = "waited {seconds} seconds"


class ConditionMet(Event, frozen=True):
    reasons: str
    sentence = "it holds: {reasons}"


class ConditionUnmet(Event, frozen=True):
    seconds: float
    reasons: str
    sentence = "not so after {seconds} seconds: {reasons}"


# --- an upgrade of the system -------------------------------------------------------------------------


class SetupAtWork(Event, frozen=True):
    sentence = "a setup of the system is at work; waiting for it"


class SetupIsAt(Event, frozen=True):
    percent: int
    sentence = "the setup is at {percent} %"
    by = "runner"


class SetupSpared(Event, frozen=True):
    seconds: float
    sentence = "the setup is still at work after {seconds} seconds: it goes on, and waiting for it ends"


class SetupSays(Event, frozen=True):
    code: str
    words: str
    sentence = "the setup says {code}: {words}"


class UpgradeHeld(Event, frozen=True):
    what: str
    sentence = "in the way of the upgrade: {what}"


class Upgraded(Event, frozen=True):
    build: str
    edition: str
    sentence = "the system is {build} now, {edition}"


class EditionChanged(Event, frozen=True):
    before: str
    after: str
    sentence = "the edition was {before}, and is {after} now"


class WentBack(Event, frozen=True):
    """The setup has put the earlier system back; where and why, by its own logs."""

    build: str
    phase: str
    operation: str
    code: str
    words: str
    sentence = "the system went back to {build}, {phase}, at: {operation}; {code}: {words}"


class NotUpgraded(Event, frozen=True):
    build: str
    sentence = "the system is still {build}, and no log of the setup says why"


# --- the table as a whole ---------------------------------------------------------------------------


@functools.cache
def table() -> dict[str, type[Event]]:
    """Every event by its name."""
    return {one.name(): one for one in Event.__subclasses__()}


def with_texts(event: Event, change: Callable[[str], str]) -> Event:
    """The event with every text of it changed, as to mask what is secret."""
    texts = {name: value for name in event.__struct_fields__ if isinstance(value := getattr(event, name), str)}
    changed = {name: new for name, value in texts.items() if (new := change(value)) != value}
    return msgspec.structs.replace(event, **changed) if changed else event


class Line(msgspec.Struct, frozen=True):
    """A line that the runner has written."""

    v: int
    time: str
    verb: str
    step: int
    event: str
    data: dict[str, object]
    text: str


def written(event: Event, *, time: str, verb: str, step: int) -> bytes:
    """The event as the runner writes it; ``step`` is 0 outside of one."""
    data = {name: getattr(event, name) for name in event.__struct_fields__}
    return msgspec.json.encode(Line(VERSION, time, verb, step, event.name(), data, event.text)) + b"\n"


def read(data: bytes) -> tuple[Event, ...]:
    """The events that a runner has written. What is no line of ours, or is of a later version, is passed over."""
    found = []
    for raw in data.splitlines():
        try:
            line = msgspec.json.decode(raw, type=Line)
            kind = table().get(line.event) if line.v == VERSION else None
            if kind is not None:
                found.append(msgspec.convert({**line.data, "event": kind.name()}, kind))
        except (msgspec.MsgspecError, UnicodeDecodeError):
            continue
    return tuple(found)


def read_since(before: bytes, after: bytes) -> tuple[Event, ...]:
    """The events of a run, by what stood there before and after: one that goes on writes behind it."""
    return read(after[len(before) :] if after != before and after.startswith(before) else after)


def texts(events: Iterable[Event]) -> tuple[str, ...]:
    return tuple(event.text for event in events)
