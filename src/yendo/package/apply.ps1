# Installs, removes or repairs this package: apply.cmd install | uninstall | repair
# Made by Yendo. Windows PowerShell 5.1 or later; no cmdlet but ForEach-Object and Where-Object.
param([string]$Verb = 'install', [string]$Logs = '')

#DATA#

$ErrorActionPreference = 'Stop'
[string]$Here = $PSScriptRoot
if ($Logs -eq '') { $Logs = [Environment]::ExpandEnvironmentVariables($Plan['logs']) }
[string]$LogFile = [IO.Path]::Combine($Logs, $Verb + '.log')
[string]$Record = [IO.Path]::Combine([Environment]::ExpandEnvironmentVariables('%ProgramData%\Yendo\placed'), $Plan['id'] + '.txt')
[Text.UTF8Encoding]$Utf8 = [Text.UTF8Encoding]::new($false)

function Say([string]$Text) {
    foreach ($secret in $Plan['secrets']) { $Text = $Text.Replace($secret, '****') }
    [string]$stamp = [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ssZ')
    [IO.File]::AppendAllText($LogFile, $stamp + ' ' + $Text + "`r`n", $Utf8)
    [Console]::WriteLine($Text)
}

function Get-Digest([string]$Path) {
    [IO.FileStream]$stream = [IO.File]::OpenRead($Path)
    try {
        [Security.Cryptography.SHA256]$hash = [Security.Cryptography.SHA256]::Create()
        try { return [BitConverter]::ToString($hash.ComputeHash($stream)).Replace('-', '').ToLowerInvariant() } finally { $hash.Dispose() }
    } finally { $stream.Dispose() }
}

#RULES#

function Test-Applicable {
    [Microsoft.Win32.RegistryKey]$base = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64')
    [Microsoft.Win32.RegistryKey]$key = $base.OpenSubKey('Software\Microsoft\Windows NT\CurrentVersion')
    [string]$build = $key.GetValue('CurrentBuild', '0')
    [Version]$system = [Environment]::OSVersion.Version
    [Version]$windows = [Version]::new([Math]::Max($system.Major, 10), 0, [int]$build, 0)
    if ([int]$build -lt 10240) { $windows = [Version]::new($system.Major, $system.Minor, [int]$build, 0) }
    foreach ($bound in $Plan['os']) {
        [int]$order = $windows.CompareTo([Version]::new($bound['version']))
        [bool]$fits = switch ($bound['sign']) { '>=' { $order -ge 0 } '<=' { $order -le 0 } '>' { $order -gt 0 } '<' { $order -lt 0 } default { $order -eq 0 } }
        if (-not $fits) { Say ('not applicable: Windows is ' + $windows.ToString() + ', wanted is ' + $bound['sign'] + ' ' + $bound['version']); return $false }
    }
    if ($Plan['architectures'].Length -gt 0) {
        [string]$name = [Environment]::GetEnvironmentVariable('PROCESSOR_ARCHITEW6432')
        if ([string]::IsNullOrEmpty($name)) { $name = [Environment]::GetEnvironmentVariable('PROCESSOR_ARCHITECTURE') }
        [string]$mine = switch ($name) { 'AMD64' { 'x64' } 'ARM64' { 'arm64' } default { 'x86' } }
        if ([Array]::IndexOf($Plan['architectures'], $mine) -lt 0) { Say ('not applicable: this machine is ' + $mine); return $false }
    }
    if ($Plan['disk'] -gt 0) {
        [IO.DriveInfo]$drive = [IO.DriveInfo]::new([Environment]::GetEnvironmentVariable('SystemDrive'))
        if ($drive.AvailableFreeSpace -lt $Plan['disk']) { Say ('not applicable: ' + $drive.AvailableFreeSpace + ' bytes free, wanted are ' + $Plan['disk']); return $false }
    }
    return $true
}

function Test-Whole {
    foreach ($file in $Plan['files']) {
        [string]$path = [IO.Path]::Combine($Here, $file['path'])
        if (-not [IO.File]::Exists($path)) { Say ('damaged package: ' + $file['path'] + ' is missing'); return $false }
        if ((Get-Digest $path) -ne $file['sha256']) { Say ('damaged package: ' + $file['path'] + ' has changed'); return $false }
    }
    return $true
}

function Close-Programs {
    foreach ($name in $Plan['programs']) {
        foreach ($found in [Diagnostics.Process]::GetProcessesByName($name)) {
            [Diagnostics.Process]$process = $found
            Say ('asking ' + $name + ' (' + $process.Id + ') to close')
            try {
                [void]$process.CloseMainWindow()
                if (-not $process.WaitForExit([int]($Plan['wait'] * 1000))) {
                    Say ('ending ' + $name + ' (' + $process.Id + '): it did not close in time')
                    $process.Kill()
                    [void]$process.WaitForExit(5000)
                }
            } catch { Say ('could not close ' + $name + ': ' + $_.Exception.Message) }
        }
    }
}

function Wait-Programs($Step) {
    [DateTime]$until = [DateTime]::UtcNow.AddSeconds($Step['timeout'])
    foreach ($name in $Step['wait_for']) {
        [bool]$told = $false
        while ([Diagnostics.Process]::GetProcessesByName($name).Length -gt 0) {
            if (-not $told) { Say ('waiting for ' + $name + ', which goes on'); $told = $true }
            if ([DateTime]::UtcNow -gt $until) { Say ('stopped waiting: ' + $name + ' not done after ' + $Step['timeout'] + ' seconds'); return $false }
            [Threading.Thread]::Sleep(200)
        }
    }
    return $true
}

function Invoke-Command-Line($Step) {
    [string]$line = $Step['command'].Replace('{package}', $Here).Replace('{logs}', $Logs)
    $line = [Environment]::ExpandEnvironmentVariables($line)
    [string]$program = [IO.Path]::Combine([Environment]::SystemDirectory, 'msiexec.exe')
    [int]$cut = $line.IndexOf(' ')
    if ($Step['kind'] -eq 'exe') {
        $cut = $line.IndexOf([char]34, 1)
        $program = $line.Substring(1, $cut - 1)
        if (-not [IO.File]::Exists($program)) { Say ('not there: ' + $program); return @('failed', #STEP_FAILED#) }
    }
    [int]$tries = 0
    while ($true) {
        $tries = $tries + 1
        Say ('running: ' + $line)
        [Diagnostics.ProcessStartInfo]$start = [Diagnostics.ProcessStartInfo]::new()
        $start.FileName = $program
        $start.Arguments = $line.Substring($cut + 1).Trim()
        $start.UseShellExecute = $false
        $start.WorkingDirectory = $Here
        [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start)
        if (-not $process.WaitForExit([int]($Step['timeout'] * 1000))) {
            $process.Kill()
            Say ('stopped: not done after ' + $Step['timeout'] + ' seconds')
            return @('timed out', #TIMED_OUT#)
        }
        if (-not (Wait-Programs $Step)) { return @('timed out', #TIMED_OUT#) }
        [string]$code = $process.ExitCode.ToString()
        [string]$meaning = 'failed'
        if ($Step['codes'].ContainsKey($code)) { $meaning = $Step['codes'][$code] }
        Say ('exit code ' + $code + ': ' + $meaning)
        if ($meaning -ne 'again later' -or $tries -ge $Plan['busy_tries']) { return @($meaning, $process.ExitCode) }
        [Threading.Thread]::Sleep([int]($Plan['busy_wait'] * 1000))
    }
}

function Get-Record {
    if ([IO.File]::Exists($Record)) { return ,[IO.File]::ReadAllLines($Record, $Utf8) }
    return ,[string[]]@()
}

function Add-Record([string]$Line) {
    [string]$folder = [IO.Path]::GetDirectoryName($Record)
    [void][IO.Directory]::CreateDirectory($folder)
    if ([Array]::IndexOf((Get-Record), $Line) -lt 0) { [IO.File]::AppendAllText($Record, $Line + "`r`n", $Utf8) }
}

function New-Folders([string]$Path) {
    if ([string]::IsNullOrEmpty($Path) -or [IO.Directory]::Exists($Path)) { return }
    New-Folders ([IO.Path]::GetDirectoryName($Path))
    Add-Record ("D`t" + $Path)
    [void][IO.Directory]::CreateDirectory($Path)
}

function Copy-Items($Step) {
    foreach ($item in $Step['items']) {
        [string]$to = [Environment]::ExpandEnvironmentVariables($item['to'])
        [string]$line = "F`t" + $item['sha256'] + "`t" + $to
        if ([IO.File]::Exists($to)) {
            if ($Step['keep']) { Say ('kept: ' + $to); continue }
            if ((Get-Digest $to) -eq $item['sha256']) { Say ('already there: ' + $to); continue }
        }
        New-Folders ([IO.Path]::GetDirectoryName($to))
        Add-Record $line
        [string]$beside = $to + '.yendo-new'
        [IO.File]::Copy([IO.Path]::Combine($Here, $item['source']), $beside, $true)
        [IO.File]::SetAttributes($beside, 'Normal')
        if ([IO.File]::Exists($to)) { [IO.File]::SetAttributes($to, 'Normal'); [IO.File]::Replace($beside, $to, [NullString]::Value) } else { [IO.File]::Move($beside, $to) }
        Say ('placed: ' + $to)
    }
    return @('done', 0)
}

function Remove-Placed {
    [string[]]$lines = Get-Record
    if ($lines.Length -eq 0) { Say 'nothing of this package is on record as placed'; return @('not needed', 0) }
    [Array]::Reverse($lines)
    foreach ($line in $lines) {
        [string[]]$parts = $line.Split([char]9)
        if ($parts[0] -eq 'F' -and [IO.File]::Exists($parts[2])) {
            [bool]$ours = $false
            foreach ($other in $lines) { if ($other -eq ("F`t" + (Get-Digest $parts[2]) + "`t" + $parts[2])) { $ours = $true } }
            if ($ours) { [IO.File]::SetAttributes($parts[2], 'Normal'); [IO.File]::Delete($parts[2]); Say ('removed: ' + $parts[2]) }
            else { Say ('left, it was changed since: ' + $parts[2]) }
        }
        if ($parts[0] -eq 'D' -and [IO.Directory]::Exists($parts[1])) {
            if ([IO.Directory]::GetFileSystemEntries($parts[1]).Length -eq 0) { [IO.Directory]::Delete($parts[1]); Say ('removed: ' + $parts[1]) }
            else { Say ('left, it is not empty: ' + $parts[1]) }
        }
    }
    [IO.File]::Delete($Record)
    [string]$folder = [IO.Path]::GetDirectoryName($Record)
    if ([IO.Directory]::GetFileSystemEntries($folder).Length -eq 0) { [IO.Directory]::Delete($folder) }
    return @('done', 0)
}

if ([Array]::IndexOf(@('install', 'uninstall', 'repair'), $Verb) -lt 0) {
    [Console]::Error.WriteLine('apply: the verb is install, uninstall or repair, not ' + $Verb)
    exit #WRONG_USE#
}
[void][IO.Directory]::CreateDirectory($Logs)
Say ($Plan['name'] + ' ' + $Plan['version'] + ', revision ' + $Plan['revision'] + ': ' + $Verb)
if ($Verb -ne 'uninstall') {
    if (-not (Test-Applicable)) { exit #NOT_APPLICABLE# }
    if (-not (Test-Whole)) { exit #DAMAGED# }
}
Close-Programs
[int]$final = 0
[int]$number = 0
foreach ($step in $Plan[$Verb]) {
    $number = $number + 1
    Say ('step ' + $number + ': ' + $step['title'])
    [bool]$needed = $true
    foreach ($rule in $step['unless']) {
        $verdict = Test-Rule $rule
        if ($verdict[0]) { $needed = $false; Say ('not needed here: ' + $rule['title'] + ', ' + $verdict[1]) }
    }
    if (-not $needed) { continue }
    try {
        $result = switch ($step['kind']) { 'msi' { Invoke-Command-Line $step } 'exe' { Invoke-Command-Line $step } 'copy' { Copy-Items $step } 'take-back' { Remove-Placed } }
    } catch {
        Say ('step ' + $number + ' failed: ' + $_.Exception.Message)
        exit #STEP_FAILED#
    }
    [string]$meaning = $result[0]
    [int]$code = $result[1]
    if ($meaning -eq 'failed' -or $meaning -eq 'timed out' -or $meaning -eq 'again later') {
        Say ('ended with ' + $code + ' in step ' + $number)
        if ($code -eq 0) { exit #STEP_FAILED# }
        exit $code
    }
    if ($meaning -eq 'restarting') { $final = 1641 }
    if ($meaning -eq 'restart' -and $final -ne 1641) { $final = 3010 }
}
Say ('done with ' + $final)
exit $final
