"""Signs a modern app package that was made here, and judges the signature of any.

Source: "Windows Authenticode Portable Executable Signature Format" for the indirect data; the digests that it states
are in ``formats/app_signature.py``.
"""

from __future__ import annotations

import hashlib
import shutil
import tempfile
from pathlib import Path

import msgspec
import tomlkit

from yendo import atomic, digest
from yendo.errors import Usage
from yendo.formats import app_manifest, app_signature
from yendo.installers import modern_app, signatures
from yendo.package.signing import SIP_INFO, Indirect, SignerIdentity, SipInfo, Verified, judged_message, loaded, message

# The part of Windows that reads the signatures of app packages, as its identifier lies in a message.
_APP_READER = bytes.fromhex("4bdfc50a07cee24db76e23c839a09fd1")
_CODE_SIGNING = "1.3.6.1.5.5.7.3.3"
ENDINGS = (".msix", ".appx")


def sign_app(path: Path, who: SignerIdentity, stamp: str | None = None) -> Verified:
    """Signs a package in place, whole or not at all; where it lies in a workspace's media, the plan gets its new hash.

    Raises Usage where the certificate is not its publisher's, Unreadable, NotCovered, SignaturesWanted.
    """
    own = loaded(who.certificates[0])
    subject = {name: value for name, value in own.subject.native.items() if isinstance(value, str)}
    publisher = app_manifest.read(path).identity.publisher
    if not modern_app.same_name(publisher, subject):
        raise Usage(
            f"the publisher of {path.name} is {publisher}, and the certificate is of {own.subject.human_friendly}: "
            "Windows would refuse it; build it again with --certificate"
        )
    usage = own.extended_key_usage_value
    if usage is None or _CODE_SIGNING not in [one.dotted for one in usage]:
        words = "is not for signing programs (extended key usage: code signing), and Windows takes no other"
        raise Usage(f"the certificate of {own.subject.human_friendly} {words}")
    with tempfile.TemporaryDirectory(prefix=".yendo-sign-", dir=path.parent) as place:
        new = Path(place) / path.name
        shutil.copyfile(path, new)
        with new.open("r+b") as file:
            app_signature.without_signature(file)
            stated = app_signature.digests(file)
            info = SipInfo(
                {"version": 0x1010000, "reader": _APP_READER, **{f"reserved_{number}": 0 for number in range(5)}}
            )
            content = Indirect(
                {
                    "data": {"type": SIP_INFO, "value": info},
                    "message_digest": {"algorithm": {"algorithm": "sha256"}, "digest": stated},
                }
            )
            raw = message(who, content.contents, kind="indirect_data", indirect=content, stamp=stamp, what=path.name)
            app_signature.put_signature(file, raw)
        was = digest.of_file(path)
        new.replace(path)
    _told_the_plan(path, was)
    return verify_app(path, frozenset({hashlib.sha256(own.dump()).hexdigest().upper()}))


def verify_app(path: Path, trusted: frozenset[str] = frozenset()) -> Verified:
    """Judges the signature of an app package: its publisher's, over these bytes, by one that is stated.

    Raises Usage where it has none, Unreadable.
    """
    raw = app_manifest.signature(path)
    if raw is None:
        raise Usage(f"{path.name} is not signed")
    found = judged_message(raw, None, path.name)
    problems = list(found.problems)
    try:
        told = signatures.parse(raw)
    except signatures.Unclear as error:
        problems.append(str(error))
    else:
        problems += [f"{name} is not what was signed" for name in modern_app.altered(path, told)[:20]]
        if stranger := modern_app.stranger(app_manifest.read(path), told):
            problems.append(stranger)
    vouched = found.thumbprint in trusted
    if trusted and not vouched:
        who = f"{found.signer or 'nobody'}, {found.thumbprint or 'no certificate'}"
        problems.append(f"it is signed by a certificate that nobody vouched for: {who}")
    return msgspec.structs.replace(found, problems=tuple(problems), vouched=vouched)


def _told_the_plan(path: Path, was: str) -> None:
    """The plan of the workspace in whose media a package lies knows it by its hash."""
    plan = path.parent.parent / "plan.toml"
    if path.parent.name != "media" or not plan.is_file():
        return
    document = tomlkit.parse(plan.read_text("utf-8"))
    for one in document.get("media", []):
        if one.get("file") == path.name and one.get("sha256") == was:
            one["sha256"], one["size"] = digest.of_file(path), path.stat().st_size
            atomic.write(plan, tomlkit.dumps(document).encode())
