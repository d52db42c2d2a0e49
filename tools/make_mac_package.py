"""Makes the demo's package for macOS: ``make_mac_package.py``. Needs bsdtar (libarchive-tools) and cpio.

It is what a vendor might send: a bundle, a daemon, and a script that was never tried on a machine of somebody else.
"""

from __future__ import annotations

import gzip
import plistlib
import subprocess
import tempfile
from pathlib import Path

from yendo.demo import story

TARGET = Path(story.__file__).parent / "mac" / "lantern-6.2.1.pkg"
PROGRAM = b"#!/bin/sh\n# Lantern 6.2.1 of Tidewell: invented\nexit 0\n"
SCRIPT = """#!/bin/sh
# Tidewell Lantern: after the files are there
launchctl bootstrap system $3/Library/LaunchDaemons/com.tidewell.lantern.plist
curl -fsSL https://updates.tidewell.example/tables.dat -o /Library/Tidewell/tables.dat
sed -i 's/Unassigned/Harbour/' /Library/Tidewell/site.ini
cp /Library/Tidewell/site.ini ~/Library/Preferences/
exit 0
"""
INFO = """<?xml version="1.0" encoding="utf-8"?>
<pkg-info format-version="2" identifier="com.tidewell.lantern" version="6.2.1" install-location="/" auth="root">
 <payload numberOfFiles="9" installKBytes="4"/>
 <bundle path="./Applications/Lantern.app" id="com.tidewell.lantern" CFBundleShortVersionString="6.2.1"/>
 <relocate><bundle id="com.tidewell.lantern"/></relocate>
 <scripts><postinstall file="./postinstall"/></scripts>
</pkg-info>
"""
DISTRIBUTION = """<?xml version="1.0" encoding="utf-8"?>
<installer-gui-script minSpecVersion="2">
 <title>Lantern</title>
 <product id="com.tidewell.lantern" version="6.2.1"/>
 <options customize="never" require-scripts="false" hostArchitectures="x86_64,arm64"/>
 <volume-check><allowed-os-versions><os-version min="12.0"/></allowed-os-versions></volume-check>
 <choice id="lantern" title="Lantern"><pkg-ref id="com.tidewell.lantern"/></choice>
 <pkg-ref id="com.tidewell.lantern" version="6.2.1">#lantern.pkg</pkg-ref>
</installer-gui-script>
"""


def packed(tree: Path) -> bytes:
    names = "".join(f"./{path.relative_to(tree).as_posix()}\n" for path in sorted(tree.rglob("*")))
    words = ["cpio", "--quiet", "-o", "-H", "odc", "-R", "0:0", "--reproducible"]
    done = subprocess.run(words, cwd=tree, input=names.encode(), capture_output=True, check=True)
    return gzip.compress(done.stdout, mtime=0)


def put(path: Path, data: bytes, mode: int = 0o644) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    path.chmod(mode)


def main() -> None:
    with tempfile.TemporaryDirectory() as work:
        root, scripts, flat = (Path(work, name) for name in ("root", "scripts", "flat"))
        app = root / "Applications" / "Lantern.app" / "Contents"
        put(app / "MacOS" / "lantern", PROGRAM, 0o755)
        about = {"CFBundleIdentifier": "com.tidewell.lantern", "CFBundleShortVersionString": "6.2.1"}
        put(
            app / "Info.plist",
            plistlib.dumps({**about, "CFBundleExecutable": "lantern", "LSMinimumSystemVersion": "12.0"}),
        )
        daemon = {
            "Label": "com.tidewell.lantern",
            "ProgramArguments": ["/Applications/Lantern.app/Contents/MacOS/lantern"],
        }
        put(root / "Library" / "LaunchDaemons" / "com.tidewell.lantern.plist", plistlib.dumps(daemon), 0o664)
        put(root / "Library" / "Tidewell" / "site.ini", b"[site]\nname = Unassigned\n")
        put(scripts / "postinstall", SCRIPT.encode(), 0o755)
        put(flat / "Distribution", DISTRIBUTION.encode())
        put(flat / "lantern.pkg" / "PackageInfo", INFO.encode())
        put(flat / "lantern.pkg" / "Payload", packed(root))
        put(flat / "lantern.pkg" / "Scripts", packed(scripts))
        subprocess.run(["bsdtar", "--format=xar", "-cf", TARGET, "-C", flat, "Distribution", "lantern.pkg"], check=True)


if __name__ == "__main__":
    main()
