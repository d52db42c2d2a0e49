# Tells whether the package is on this machine: one line and exit code 0 when it is, and 1 when it is not.
# Made by Yendo. Windows PowerShell 5.1 or later; no cmdlet but ForEach-Object and Where-Object. -Facts shows each rule's fact.
param([switch]$Facts)

#DATA#

$ErrorActionPreference = 'Stop'

#RULES#

#SETTINGS#
[bool]$all = $Rules.Length -gt 0
foreach ($rule in $Rules) {
    $verdict = Test-Rule $rule
    if ($Facts) { [Console]::WriteLine($rule['title'] + ': ' + $verdict[0] + ', ' + $verdict[1]) }
    if (-not $verdict[0]) { $all = $false }
}
if (-not $all) {
    if ($Always) { [Console]::WriteLine('not detected: ' + $Name) }
    exit 1
}
[Console]::WriteLine('detected: ' + $Name)
exit 0
