"""What a real SSH server starts here in place of a Mac's shell: file transfer into the simulated machine's ``/private/tmp``,
and commands, with what is given to them, by its sandbox, which somebody else carries out.

Arguments: the machine's tree, the socket of whoever carries commands out.
"""

import base64
import json
import os
import socket
import sys

tree, place = sys.argv[1:3]
line = os.environ.get("SSH_ORIGINAL_COMMAND", "")
if line.endswith("sftp-server"):
    seen = [part for top in ("/usr", "/lib", "/lib64", "/etc/passwd") for part in ("--ro-bind-try", top, top)]
    there = ["--bind", f"{tree}/private/tmp", "/private/tmp"]
    os.execvp("bwrap", ["bwrap", *seen, "--dev", "/dev", *there, "/usr/lib/openssh/sftp-server"])
given = sys.stdin.buffer.read()
with socket.socket(socket.AF_UNIX) as gate:
    gate.connect(place)
    gate.sendall(json.dumps([line, base64.b64encode(given).decode()]).encode() + b"\n")
    told = b""
    while piece := gate.recv(65536):
        told += piece
found = json.loads(told)
sys.stdout.write(found["output"])
sys.exit(found["code"])
