"""The observer on a machine with very many things, against reading and hashing the same bare, in the same shell."""

from __future__ import annotations

import hashlib
import statistics
import sys
from importlib.resources import files
from pathlib import Path

from benchmarks.measure import Figure
from benchmarks.suite import benchmark
from yendo.cli import machines as shells
from yendo.errors import NoMachine
from yendo.machines.wine.machine import WineMachine, powershell_source
from yendo.package import scripts

FILES, VALUES, KEYS, PAIRS = 100_000, 300_000, 10_000, 3
BARE = r"""
$hasher = [Security.Cryptography.SHA256]::Create()
[int]$count = 0
$todo = [Collections.Generic.Stack[IO.DirectoryInfo]]::new()
$todo.Push([IO.DirectoryInfo]::new('C:\'))
while ($todo.Count -gt 0) {
    $folder = $todo.Pop()
    if ($folder.FullName -eq 'C:\look') { continue }
    $hash = -not ($folder.FullName + '\').StartsWith('C:\Windows\', 'OrdinalIgnoreCase')
    foreach ($entry in $folder.GetFileSystemInfos()) {
        if (([int]$entry.Attributes -band 1024) -ne 0) { continue }
        if ($entry -is [IO.DirectoryInfo]) { $todo.Push($entry); continue }
        if ($hash) {
            $stream = [IO.FileStream]::new($entry.FullName, 'Open', 'Read', 'ReadWrite, Delete', 65536)
            [void]$hasher.ComputeHash($stream)
            $stream.Dispose()
        }
        $count++
    }
}
$machine = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64')
$keys = [Collections.Generic.Stack[string]]::new()
$keys.Push('Software')
$keys.Push('System\CurrentControlSet')
while ($keys.Count -gt 0) {
    $path = $keys.Pop()
    $key = $machine.OpenSubKey($path)
    if ($null -eq $key) { continue }
    foreach ($name in $key.GetValueNames()) {
        $data = $key.GetValue($name, $null, 'DoNotExpandEnvironmentNames')
        $kind = $key.GetValueKind($name)
        $count++
    }
    foreach ($name in $key.GetSubKeyNames()) { $keys.Push($path + '\' + $name) }
    $key.Dispose()
}
[Console]::WriteLine($count)
"""


def observer() -> bytes:
    here = files("yendo.machines.recorded")
    people = scripts.part("people")
    text = "param([string]$To)\n" + people + here.joinpath("observe.ps1").read_text("utf-8")
    return scripts.script(text + "Write-Picture $To @('C:\\look')\n")


@benchmark
def picture(folder: Path) -> list[Figure]:
    """Both read the same machine, one after the other."""
    machine = WineMachine(shells.cache(), powershell_source(None))
    if not machine.has_powershell:
        raise NoMachine("the observer needs a PowerShell for wine")
    with machine.fresh() as session:
        session.make_folder(r"C:\look")
        session.write(r"C:\look\observer.ps1", observer())
        session.write(r"C:\look\bare.ps1", scripts.script(BARE))
        many = session.host("C:") / "Many"
        for number in range(FILES):
            place = many / f"{number // 500:04}"
            if number % 500 == 0:
                place.mkdir(parents=True)
            (place / f"{number}.dat").write_bytes(hashlib.sha256(str(number).encode()).digest() * 32)
        lines = ["Windows Registry Editor Version 5.00", ""]
        for key in range(KEYS):
            lines.append(rf"[HKEY_LOCAL_MACHINE\Software\Many\{key:05}]")
            lines += [f'"Value {number}"="The text of value {number}"' for number in range(VALUES // KEYS)]
            lines.append("")
        session.write(r"C:\look\many.reg", "\r\n".join(lines).encode())
        assert session.run(r"reg import C:\look\many.reg", timeout=900).exit_code == 0
        times: dict[str, list[float]] = {"observer": [], "bare": []}
        for _ in range(PAIRS):
            for name, line in (("bare", ""), ("observer", r" -To C:\look\picture.txt")):
                ran = session.run(
                    rf"powershell -NoProfile -ExecutionPolicy Bypass -File C:\look\{name}.ps1{line}", timeout=1800
                )
                assert ran.exit_code == 0, ran.output[-500:]
                times[name].append(ran.seconds)
                print(f"{name}: {ran.seconds:.1f} s", file=sys.stderr)
        size = len(session.read(r"C:\look\picture.txt") or b"")
    bare, ours = (statistics.median(times[name]) for name in ("bare", "observer"))
    ratio = statistics.median(one / other for one, other in zip(times["observer"], times["bare"], strict=True))
    detail = (
        f"{FILES:,} files, {VALUES:,} values; {ours:.1f} s against {bare:.1f} s, {size >> 20} MB written; on the layer"
    )
    return [Figure("picture of a machine against reading and hashing it bare", ratio, 1.3, detail=detail)]
