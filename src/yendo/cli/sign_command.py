"""Sign a built package, or judge its signature. Exit code 1 when it does not hold.

yendo sign lantern/package/tidewell-lantern-6.2.3-r1 --identity office.p12 --timestamp http://stamps.marrowby.example
yendo sign lantern --by 'openssl dgst -sha256 -sign office.key' --certificate office.cer
yendo sign lantern --request to-sign --certificate office.cer
yendo sign sounder/forms/msi/media/tidewell-sounder-4.1.msi --identity office.p12
yendo sign Lantern.app --identity office.p12 --entitlements lantern.plist
yendo sign lantern/package/tidewell-lantern-6.2.3-r1.zip --verify --trust office.cer
"""

from __future__ import annotations

import argparse
import contextlib
import os
import shlex
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Sequence

    from yendo.installers.judging import Verified
    from yendo.package.signing import SignerIdentity

_MAC = "macOS"


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "package",
        type=Path,
        metavar="PACKAGE",
        help="a built package, its archive, a workspace (then its newest package), an app package, a database, "
        "a package for macOS, a bundle or a program of it",
    )
    signer(parser)
    parser.add_argument(
        "--timestamp",
        metavar="URL",
        help="a time stamp authority (RFC 3161), so that the signature outlives its certificate",
    )
    parser.add_argument(
        "--ad-hoc",
        action="store_true",
        help="a bundle or program for macOS: by nobody, so that what was edited runs again; no Mac trusts it more",
    )
    parser.add_argument(
        "--entitlements",
        type=Path,
        metavar="FILE",
        help="a bundle or program for macOS: what it may, as a property list; without, what it was allowed stays",
    )
    parser.add_argument("--verify", action="store_true", help="judge the signature that is there")
    parser.add_argument(
        "--trust",
        action="append",
        default=[],
        metavar="SIGNER",
        help="with --verify: the certificate that must have signed, its file or its SHA-256 thumbprint (again for "
        "more; default: the house file's signers)",
    )


def signer(parser: argparse.ArgumentParser) -> None:
    """The options that say who signs."""
    parser.add_argument(
        "--identity",
        type=Path,
        metavar="FILE",
        help="key and certificates: a .p12, or one PEM file; its passphrase in YENDO_PASSPHRASE",
    )
    parser.add_argument(
        "--by",
        metavar="COMMAND",
        help="instead, a program that has the key (a card, a module, a service): it gets the bytes on its input and "
        "gives the signature over SHA-256 on its output",
    )
    parser.add_argument(
        "--request",
        type=Path,
        metavar="FOLDER",
        help="instead, for a key that is somewhere else: write what has to be signed into this folder, or take the "
        "signatures that lie in it; the same call until it is done",
    )
    parser.add_argument(
        "--certificate",
        type=Path,
        metavar="FILE",
        help="with --by and --request: the signer's certificate, and those above it",
    )


def _agrees(options: argparse.Namespace) -> None:
    """Raises Usage where the options do not say who signs, or say it twice."""
    from yendo.errors import Usage

    ways = [way for way in (options.identity, options.by, options.request, options.ad_hoc) if way]
    if not options.verify and len(ways) != 1:
        raise Usage("say who signs, with --identity FILE, --by COMMAND or --request FOLDER, or ask with --verify")
    if bool(options.by or options.request) != bool(options.certificate):
        raise Usage("--by COMMAND or --request FOLDER, and --certificate FILE, go together")


def run(options: argparse.Namespace) -> int:
    from yendo.cli import proving
    from yendo.errors import Usage
    from yendo.package import archive, code_signing, file_signing, signing

    _agrees(options)
    if (options.ad_hoc or options.entitlements) and not code_signing.is_code(options.package):
        raise Usage("--ad-hoc and --entitlements are for bundles and programs of macOS")
    if file_signing.is_file(options.package):
        return _file(options)
    with contextlib.ExitStack() as stack:
        packed = options.package if zipfile.is_zipfile(options.package) else None
        folder = stack.enter_context(archive.opened(packed)) if packed else proving.find(options.package)
        package = packed or folder
        if options.verify:
            found = signing.verify(folder, signing.signers(options.trust or _of_the_house(package)))
        else:
            try:
                found = signing.sign(folder, who_signs(options), options.timestamp)
            except signing.SignaturesWanted as wanted:
                return _waiting(options, wanted.names)
            if packed is None and archive.beside(folder).exists():
                packed = archive.beside(folder)
            if packed is not None:
                archive.pack(folder, packed)  # what was in it was not signed
    made = [("archive", f"{packed.name}, made from the signed package")] if packed and not options.verify else []
    return _told(options, package, found, made, "TrustedPublisher")


def _file(options: argparse.Namespace) -> int:
    """The same for a modern app package or a database, whose signature lies in itself."""
    from yendo.package import code_signing, file_signing, signing

    code = code_signing.is_code(options.package)
    if options.verify:
        trusted = signing.signers(options.trust or _of_the_house(options.package))
        return _told(options, options.package, file_signing.verify_file(options.package, trusted), [], "")
    try:
        if code:
            who = None if options.ad_hoc else who_signs(options)
            found = code_signing.sign_code(options.package, who, options.timestamp, options.entitlements)
        else:
            found = file_signing.sign_file(options.package, who_signs(options), options.timestamp)
    except signing.SignaturesWanted as wanted:
        return _waiting(options, wanted.names)
    apart = [("not covered", f"{name}, which lies beside it") for name in file_signing.beside(options.package)]
    # a chain that ends in a root of the machine will do as well
    place = "TrustedPeople" if options.package.suffix.lower() in file_signing.APPS else "TrustedPublisher"
    if code or options.package.suffix.lower() in file_signing.FLAT:
        place = _MAC
    return _told(options, options.package, found, apart, place)


def _verdict(found: Verified) -> str:
    if found.problems:
        return "the signature does not hold"
    if not found.thumbprint:
        return "whole, and signed by nobody"
    return "the signature holds" if found.vouched else "whole, and signed by a certificate that nobody vouched for"


def _told(
    options: argparse.Namespace, package: Path, found: Verified, made: Sequence[tuple[str, str]], place: str
) -> int:
    """What became of it, for a person or a program."""
    from yendo.cli import show

    if options.json:
        show.emit(
            {
                "schema": "yendo.sign/1",
                "package": str(package),
                "holds": not found.problems and found.vouched,
                **{name: getattr(found, name) for name in found.__struct_fields__},
            }
        )
    elif not options.quiet:
        out = show.console()
        out.print(f"[bold]{_verdict(found)}[/bold]: {show.clean(package)}")
        rows = [
            ("signer", found.signer),
            ("thumbprint", found.thumbprint),
            ("chain", " < ".join(found.chain)),
            *made,
            ("seen by a third party", found.seen or "never: give --timestamp URL when signing"),
        ]
        if not found.thumbprint:
            rows = rows[:1]
        show.grid(out, [*rows, *(("problem", problem) for problem in found.problems)], styles=("dim",))
        if not options.verify:
            trust = f"the signer's certificate into {place} on the machines"
            if place == _MAC:
                trust = "have it notarised, which can only be asked of the vendor of the system, from a Mac"
            if options.ad_hoc:
                trust = "whoever gives it out signs it by a certificate"
            out.print(f"next: yendo prove, since a proof belongs to the signed bytes; and {trust}")
        elif not found.vouched and not found.problems and found.thumbprint:
            out.print(
                "next: say whose signature counts, with --trust or signers in the house file: anybody can sign with "
                "a certificate of any name"
            )
    asked = options.ad_hoc and not found.thumbprint
    return 0 if (found.vouched or asked) and not found.problems else 1


def _waiting(options: argparse.Namespace, names: Sequence[str]) -> int:
    """What has to be signed lies in the folder; nothing else has happened."""
    from yendo.cli import show

    if options.json:
        show.emit({"schema": "yendo.sign/1", "package": str(options.package), "holds": False, "wanted": list(names)})
    elif not options.quiet:
        out = show.console()
        folder = show.clean(options.request)
        out.print(f"[bold]not signed yet[/bold]: {folder} waits for {show.counted(len(names), 'signature')}")
        # the digest that is wanted lies beside what is to be signed
        kinds = {name: "sha1" if (options.request / f"{name}.sha1").is_file() else "sha256" for name in names}
        words = {"sha1": "is signed over SHA-1 into", "sha256": "is signed over SHA-256 into"}
        rows = [(f"{name}.tosign", words[kinds[name]], f"{name}.signature") for name in names]
        show.grid(out, rows, styles=("cyan", "dim", "cyan"))
        out.print(
            f"\n[dim]next:[/dim] openssl dgst -{kinds[names[0]]} -sign KEY -out {folder}/{names[0]}.signature "
            f"{folder}/{names[0]}.tosign, or as your service does it; then this command again"
        )
    return 1


def who_signs(options: argparse.Namespace) -> SignerIdentity:
    """Whoever the options name. Raises Usage."""
    from yendo.package import signing

    if options.request:
        return signing.elsewhere(options.request, options.certificate)
    if options.by:
        words = tuple(shlex.split(options.by, posix=os.name != "nt"))
        return signing.by_command(words, options.certificate)
    passphrase = os.environ.get("YENDO_PASSPHRASE")
    return signing.identity(options.identity, passphrase.encode() if passphrase else None)


def _of_the_house(package: Path) -> tuple[str, ...]:
    """The signers that the office's house file above the package states."""
    from yendo.plan import house

    path = house.find(package.parent)
    return house.read(path)[0].signers if path else ()
