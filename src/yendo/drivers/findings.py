"""What is wrong with a driver, for one Windows: what a packager has to know before it is sent anywhere.

Source: "Driver Signing Policy", "Attestation signing" (servers of 2016 and later load none), "Trusted Publishers
Certificate Store" (another signer's driver is installed in silence only where it is trusted), "INF Version Section".
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from yendo.drivers.driver import Driver, DriverFinding
from yendo.drivers.target import DriverTarget

ENFORCED = (10, 0, 14393)  # from here on the kernel loads new drivers by Microsoft's signature only


def findings(driver: Driver, windows: DriverTarget, now: datetime, *, named: bool) -> Iterator[DriverFinding]:
    """``now`` is when certificates are judged; ``named`` says that the ``.inf`` names a catalogue."""
    yield from _files(driver, windows)
    yield from _signature(driver, now, named=named)
    yield from _loads(driver, windows)
    if driver.class_name.lower() == "firmware":
        yield DriverFinding(
            "firmware",
            "warning",
            "it brings firmware, which is written into the device at the next start and is not taken back by a removal",
            "decide it by itself, and prove it on one of each model first",
        )


def _files(driver: Driver, windows: DriverTarget) -> Iterator[DriverFinding]:
    missing = [file.source for file in driver.files if not file.there and not file.system]
    other = [file for file in driver.files if file.processor not in ("", windows.architecture, "unknown", "any")]
    wrong = [file for file in other if file.name.lower() in _in_kernel(driver)]
    if wrong:
        yield DriverFinding(
            "wrong-program",
            "error",
            f"{', '.join(file.source for file in wrong)} is for {wrong[0].processor}, and runs in the kernel",
            f"the .inf takes it for {windows.architecture} all the same: this is the folder for another processor",
        )
    if missing:
        yield DriverFinding(
            "missing-file",
            "error",
            f"{driver.inf} copies what is not there: {', '.join(missing[:6])}"
            + (f" and {len(missing) - 6} more" if len(missing) > 6 else ""),
            "get the whole folder from the vendor; with a file missing nothing is installed",
        )
    system = [file.name for file in driver.files if file.system]
    if system:
        yield DriverFinding(
            "system-file",
            "note",
            f"{', '.join(system)} is not among its own files: it is taken from {', '.join(driver.system)}",
            "the Windows that it is for has to bring it; it is not at hand here",
        )
    if not driver.devices and driver.architectures:
        yield DriverFinding(
            "other-processor" if windows.architecture not in driver.architectures else "other-windows",
            "error",
            f"it has no device for {windows.words}; it is for {', '.join(driver.architectures)}",
            "take the vendor's folder for this Windows",
        )
    if not driver.version or not driver.date:
        yield DriverFinding(
            "no-version",
            "warning",
            f"{driver.inf} states no date and version that can be read (DriverVer)",
            "which of two is newer cannot be told, by Windows neither",
        )


def _signature(driver: Driver, now: datetime, *, named: bool) -> Iterator[DriverFinding]:
    trust = driver.trust
    if trust.state == "none":
        what = (
            f"{driver.inf} names {trust.catalogue}, which is not there" if named else f"{driver.inf} has no catalogue"
        )
        yield DriverFinding("unsigned", "error", what, "Windows for 64 bits takes no driver without one")
    elif trust.state == "unreadable":
        yield DriverFinding(
            "unreadable-catalogue",
            "error",
            f"{trust.catalogue} is no catalogue: {'; '.join(trust.problems)}",
            "get the driver from the vendor again",
        )
    elif trust.state == "broken":
        yield DriverFinding(
            "broken-signature", "error", "; ".join(trust.problems), "get the driver from the vendor again"
        )
    elif trust.state == "not judged":
        yield DriverFinding(
            "not-judged",
            "note",
            f"whether the signature of {trust.catalogue} holds was not looked at",
            "pip install 'yendo[sign]'; what it lists was held against the files all the same",
        )
    if trust.altered:
        yield DriverFinding(
            "edited",
            "error",
            f"changed since the catalogue was signed: {', '.join(trust.altered)}",
            "take the vendor's own files; an edited .inf needs a signature of its own",
        )
    if trust.uncovered:
        yield DriverFinding(
            "not-in-catalogue",
            "error",
            f"{trust.catalogue} does not hold {', '.join(trust.uncovered[:6])}",
            "every file that the driver copies has to be in it",
        )
    if trust.by == "test":
        yield DriverFinding(
            "test-signed",
            "error",
            f"it is signed for a test, by {trust.signer}",
            "only machines that were set to take test signatures load it",
        )
    if trust.ends and trust.seen is None and datetime.fromisoformat(trust.ends) < now:
        yield DriverFinding(
            "expired",
            "error",
            f"the certificate of {trust.signer} ended on {trust.ends[:10]}, and nobody saw the signature before",
            "ask the vendor for one with a time stamp",
        )


def _loads(driver: Driver, windows: DriverTarget) -> Iterator[DriverFinding]:
    """A signature that holds is one thing, whether Windows loads what it signs another."""
    trust = driver.trust
    if trust.state != "holds" or trust.by == "test":
        return
    kernel = sorted(_in_kernel(driver))
    if trust.by == "publisher":
        if kernel and windows.architecture != "x86" and windows.version >= ENFORCED:
            yield DriverFinding(
                "not-loaded",
                "error",
                f"{', '.join(kernel)} runs in the kernel, and only {trust.signer} has signed it",
                f"{windows.title or 'this Windows'} loads it only where Secure Boot is off and it was upgraded from an "
                "older one; ask the vendor for one that Microsoft signed",
            )
        yield DriverFinding(
            "publisher-not-trusted",
            "warning",
            f"{trust.signer} signed it, not Microsoft",
            "put its certificate among the trusted publishers first; else a silent installation fails",
        )
    elif trust.by == "microsoft-attested" and windows.product != 1 and windows.version >= ENFORCED:
        yield DriverFinding(
            "attested-on-server",
            "error",
            "Microsoft attested it, and did not test it",
            "servers of 2016 and later take certified drivers only",
        )
    if trust.by.startswith("microsoft") and not trust.known:
        yield DriverFinding(
            "unknown-key",
            "note",
            f"it says that Microsoft signed it ({' < '.join(trust.chain)}); the key above is none that is known here",
            "Windows itself judges that; compare the thumbprint if in doubt",
        )


def _in_kernel(driver: Driver) -> set[str]:
    """The driver's own programs that run in the kernel; one of the system's, which it may name, is signed already."""
    own = {file.name.lower() for file in driver.files if not file.system}
    named = {service.program.rpartition("\\")[2].lower() for service in driver.services if service.kernel}
    return own & named
