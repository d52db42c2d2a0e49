# Installs, removes, repairs or detects this package: apply.cmd install | uninstall | repair [-WhatIf] | detect | status | facts
# Values for its settings: -Site NAME, -Set "name=value; name=value", -Values FILE (values.txt beside apply.cmd is taken by itself)
# A person may put it off at most so often, and until a time at the latest: -PutOffs 2 -Until 2026-12-04T18:00; never more than the package allows
# Only where signed by a stated certificate: -Signer THUMBPRINT (SHA-256; several with commas), or the value Signers of HKLM\Software\Policies\Yendo
# Made by Yendo. Windows PowerShell 5.1 or later; no cmdlet but ForEach-Object and Where-Object.
param([string]$Verb = 'install', [string]$Logs = '', [switch]$WhatIf, [string]$Site = '', [string]$Set = '', [string]$Values = '', [string]$Signer = '', [string]$PutOffs = '', [string]$Until = '')

if ($ExecutionContext.SessionState.LanguageMode -ne 'FullLanguage') {
    'apply: PowerShell runs in the mode ' + $ExecutionContext.SessionState.LanguageMode + ' here; this script has to be signed, and its signer trusted'
    exit #RESTRICTED#
}

#DATA#

#EVENTS#

$ErrorActionPreference = 'Stop'
[string]$Here = $PSScriptRoot
[bool]$LogsGiven = $Logs -ne ''
if ($Logs -eq '') { $Logs = [Environment]::ExpandEnvironmentVariables($Plan['logs']) }
[string]$Yendo = [Environment]::ExpandEnvironmentVariables($Plan['home'])
[string]$Room = [IO.Path]::Combine($Yendo, 'state', $Plan['id'])
[string]$Kept = [IO.Path]::Combine($Yendo, 'packages', $Plan['id'])
[string]$VendorLogs = [IO.Path]::Combine($Room, 'logs')
[string]$RunnerText = $MyInvocation.MyCommand.ScriptContents
[string]$JournalFile = [IO.Path]::Combine($Room, 'journal.txt')
[string]$WithheldFile = [IO.Path]::Combine($Room, 'withheld.txt')
[string]$RecordFile = [IO.Path]::Combine($Room, 'record.txt')
[string]$LogFile = [IO.Path]::Combine($Logs, $Verb + '.log')
[string]$LinesFile = [IO.Path]::Combine($Logs, $Verb + '.jsonl')
[Text.UTF8Encoding]$Utf8 = [Text.UTF8Encoding]::new($false)
[bool]$RestartAsked = $false
[int]$StepNumber = 0
[bool]$Logging = $false
$Job = $null

# A 32-bit host sees another registry and another system folder: everything is done by the 64-bit one.
if ([Environment]::Is64BitOperatingSystem -and (-not [Environment]::Is64BitProcess)) {
    [Diagnostics.ProcessStartInfo]$again = [Diagnostics.ProcessStartInfo]::new()
    $again.FileName = [Environment]::ExpandEnvironmentVariables('%SystemRoot%\Sysnative\WindowsPowerShell\v1.0\powershell.exe')
    $again.Arguments = '-NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $PSCommandPath + '" ' + $Verb
    if ($WhatIf) { $again.Arguments = $again.Arguments + ' -WhatIf' }
    foreach ($pair in @(@('-Site', $Site), @('-Set', $Set), @('-Values', $Values), @('-Signer', $Signer), @('-PutOffs', $PutOffs), @('-Until', $Until))) { if ($pair[1] -ne '') { $again.Arguments = $again.Arguments + ' ' + $pair[0] + ' "' + $pair[1] + '"' } }
    $again.UseShellExecute = $false
    [Diagnostics.Process]$other = [Diagnostics.Process]::Start($again)
    $other.WaitForExit()
    exit $other.ExitCode
}

# A text on one line, and nothing secret in it.
function Format-Clean([string]$Text) {
    foreach ($secret in $Plan['secrets']) { $Text = $Text.Replace($secret, '****') }
    return [regex]::Replace($Text, '[\x00-\x08\x0a-\x1f\x7f]+', ' ')
}

# An answer to a question, for the person who asks.
function Say([string]$Text) { [Console]::WriteLine((Format-Clean $Text)) }

# Something that happens: an event and its values, by the table above. The sentence is made of them last.
function Tell([string]$Name) {
    [string[]]$known = $Events[$Name]
    [Array]$values = $args
    [string[]]$data = @()
    for ([int]$at = 0; $at -lt $values.Length; $at++) {
        if (($values[$at] -is [int]) -or ($values[$at] -is [double])) {
            $values[$at] = $values[$at].ToString([Globalization.CultureInfo]::InvariantCulture)
            [string]$written = $values[$at]
        } else {
            $values[$at] = Format-Clean $values[$at]
            [string]$written = Format-Json $values[$at]
        }
        $data = @($data + ('"' + $known[$at + 1] + '": ' + $written))
    }
    [string]$text = [string]::Format($known[0], $values).TrimEnd()
    if ($Logging) {
        [string]$stamp = [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ssZ')
        $LogOut.Write($stamp + ' ' + $text + "`r`n")
        $LinesOut.Write('{"v": #EVENT_VERSION#, "time": "' + $stamp + '", "verb": "' + $Verb + '", "step": ' + $StepNumber + ', "event": "' + $Name + '", "data": {' + [string]::Join(', ', $data) + '}, "text": ' + (Format-Json $text) + "}`n")
    }
    [Console]::WriteLine($text)
}

#TEXTS#
#RULES#
#FACTS#
#TRUST#
#RECORD#
#PEOPLE#
#SETTINGS#

# --- commands ---------------------------------------------------------------------------------------------------------

function Split-Line([string]$Line) {
    if ($Line.StartsWith('"', 'Ordinal')) {
        [int]$cut = $Line.IndexOf([char]34, 1)
        return @($Line.Substring(1, $cut - 1), $Line.Substring($cut + 1).Trim())
    }
    [int]$cut = $Line.IndexOf(' ')
    if ($cut -lt 0) { $cut = $Line.Length }
    [string]$name = $Line.Substring(0, $cut)
    if (-not $name.EndsWith('.exe', 'OrdinalIgnoreCase')) { $name = $name + '.exe' }
    [string]$program = [IO.Path]::Combine([Environment]::SystemDirectory, $name)
    if ($name -eq 'powershell.exe') { $program = [IO.Path]::Combine([Environment]::SystemDirectory, 'WindowsPowerShell\v1.0\powershell.exe') }
    return @($program, $Line.Substring($cut).Trim())
}

function New-Start([string]$Line, [string]$Folder) {
    [string[]]$parts = Split-Line $Line
    if (-not [IO.File]::Exists($parts[0])) { throw ('not there: ' + $parts[0]) }
    [Diagnostics.ProcessStartInfo]$start = [Diagnostics.ProcessStartInfo]::new()
    $start.FileName = $parts[0]
    $start.Arguments = $parts[1]
    $start.UseShellExecute = $false
    $start.WorkingDirectory = $Folder
    return $start
}

# A short command of a system program: its exit code and, where asked for, what it printed.
function Invoke-Call([string]$Line, [bool]$Quiet) {
    if (-not $Quiet) { Tell command-began $Line }
    [Diagnostics.ProcessStartInfo]$start = New-Start $Line ([Environment]::SystemDirectory)
    $start.RedirectStandardOutput = $Quiet
    $start.CreateNoWindow = $true
    [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start)
    [string]$said = ''
    if ($Quiet) { $reading = $process.StandardOutput.ReadToEndAsync(); [void]$process.WaitForExit(60000); if ($reading.Wait(2000)) { $said = $reading.Result } }
    if (-not $process.WaitForExit(600000)) { $process.Kill(); throw ('not done after 600 seconds: ' + $Line) }
    return @($process.ExitCode, $said)
}

function Wait-Programs($Step) {
    [DateTime]$until = [DateTime]::UtcNow.AddSeconds($Step['timeout'])
    foreach ($name in $Step['wait_for']) {
        [bool]$told = $false
        while ([Diagnostics.Process]::GetProcessesByName($name).Length -gt 0) {
            if (-not $told) { Tell waiting-for $name; $told = $true }
            if ([DateTime]::UtcNow -gt $until) { Tell waited-too-long $name $Step['timeout']; return $false }
            [Threading.Thread]::Sleep(200)
        }
    }
    return $true
}

# Waits for a step's program. One that is over its time is judged by what it still does: processor, disk, children.
function Wait-Step([Diagnostics.Process]$Process, [double]$Limit, [int[]]$Before) {
    if ($Process.WaitForExit([int]($Limit * 1000))) { return $true }
    [DateTime]$last = [DateTime]::UtcNow.AddSeconds($Limit)
    while ($true) {
        $first = Get-Activity
        if ($Process.WaitForExit([int][Math]::Min(5000, $Limit * 333))) { return $true }
        $second = Get-Activity
        [string]$facts = ($second[0] - $first[0]).ToString() + ' ms of processor time, ' + ($second[1] - $first[1]) + ' bytes read and written, ' + $second[3] + ' processes'
        [bool]$busy = (($second[0] - $first[0]) -gt 100) -or ($second[1] -ne $first[1]) -or ($second[2] -ne $first[2])
        if ((-not $busy) -or ([DateTime]::UtcNow -gt $last)) {
            if ($busy) { Tell command-twice-over-time $facts } else { Tell command-idle $facts }
            Stop-Since $Process $Before
            return $false
        }
        Tell command-over-time $facts
    }
}

function Stop-Since([Diagnostics.Process]$Process, [int[]]$Before) {
    foreach ($id in (Get-JobProcesses)) {
        if (([Array]::IndexOf($Before, $id) -ge 0) -or ($id -eq $PID)) { continue }
        try { [Diagnostics.Process]$child = [Diagnostics.Process]::GetProcessById($id); $child.Kill() } catch { continue }
    }
    if (-not $Process.HasExited) { $Process.Kill() }
}

function Invoke-CommandLine($Step) {
    Start-Vendor
    [string]$line = $Step['command'].Replace('{package}', $Here).Replace('{logs}', $VendorLogs)
    $line = [Environment]::ExpandEnvironmentVariables($line)
    [string]$folder = $Here
    if ($Step['folder'] -ne '') { $folder = [Environment]::ExpandEnvironmentVariables($Step['folder'].Replace('{package}', $Here)) }
    if ($Step['reverse'] -ne '') { Add-Record 'U' $Step['reverse'] }
    try { return Invoke-Line $Step $line $folder } finally { Publish-Logs }
}

function Invoke-Line($Step, [string]$line, [string]$folder) {
    [int]$tries = 0
    while ($true) {
        $tries = $tries + 1
        Tell command-began $line
        [int[]]$before = Get-JobProcesses
        if (($Step['run_as'] -eq 'person') -and (Test-System)) {
            [int]$ended = Invoke-AsPerson $line $Step['timeout']
        } else {
            [Diagnostics.Process]$process = $null
            if ($Step.ContainsKey('hidden')) { $process = Start-Hidden $Step['hidden'] $folder } # only: msi
            if ($null -eq $process) { $process = [Diagnostics.Process]::Start((New-Start $line $folder)) }
            if (-not (Wait-Step $process $Step['timeout'] $before)) {
                Tell command-stopped $Step['timeout']
                return @('timed out', #TIMED_OUT#)
            }
            [int]$ended = $process.ExitCode
        }
        if (-not (Wait-Programs $Step)) { return @('timed out', #TIMED_OUT#) }
        [string]$meaning = 'failed'
        if ($Step['codes'].ContainsKey('' + $ended)) { $meaning = $Step['codes']['' + $ended] }
        Tell command-ended $ended $meaning
        if ($meaning -ne 'again later' -or $tries -ge $Plan['busy_tries']) { return @($meaning, $ended) }
        [Threading.Thread]::Sleep([int]($Plan['busy_wait'] * 1000))
    }
}

# --- the kinds of steps this package has ------------------------------------------------------------------------------------

#KINDS#

# --- before the first step ------------------------------------------------------------------------------------------------

function Get-Marks([string]$Id) {
    [string]$folder = [IO.Path]::Combine($Yendo, 'needed', $Id)
    if (-not [IO.Directory]::Exists($folder)) { return ,[string[]]@() }
    return ,[string[]]@([IO.Directory]::GetFiles($folder) | ForEach-Object { [IO.Path]::GetFileNameWithoutExtension($_) })
}

function Test-Need($Need) {
    if ($Need['package'] -ne '') {
        [string]$file = [IO.Path]::Combine($Yendo, 'installed', $Need['package'] + '.txt')
        [bool]$there = [IO.File]::Exists($file)
        if ($there -and ($Need['version'].Length -gt 0)) {
            [string]$version = [IO.File]::ReadAllText($file).Trim()
            if (-not (Test-Range $version $Need['version'])) { Tell need-version $Need['package'] $version $Need['range']; return $false }
        }
        if ($Need['holds'].Length -eq 0) { return $there }
    }
    [bool]$all = $true
    foreach ($rule in $Need['holds']) {
        $verdict = Test-Rule $rule
        if (-not $verdict[0]) { Tell need-unmet $rule['title'] $verdict[1]; $all = $false }
    }
    return $all
}

function Invoke-Other([string]$Folder, [string]$Verb) {
    [string]$doorway = [IO.Path]::Combine($Here, $Folder.Replace('/', '\'), 'apply.cmd')
    return (Invoke-Call ('cmd.exe /d /s /c ""' + $doorway + '" ' + $Verb + '"') $false)[0]
}

# Everything before the first step: 0 to go on, else the exit code to leave with.
function Start-Verb {
    Show-Unlisted
    if ($Verb -ne 'uninstall') {
        if (-not (Copy-Package 'a')) { return #DAMAGED# }
        $found = Test-Nodes $Plan['when']
        if (-not $found[0]) {
            if ($found[1]) { Tell not-now $found[2]; return #LATER# }
            Tell not-applicable $found[2]
            return #NOT_APPLICABLE#
        }
    } else {
        if (($Plan['permanent'] -ne '') -and ($Plan['uninstall'].Length -eq 0)) { Tell permanent $Plan['permanent']; return #NOT_APPLICABLE# }
        [string[]]$others = Get-Marks $Plan['id']
        if ($others.Length -gt 0) { Tell needed-by-others ([string]::Join(', ', $others)); return #NEEDED# }
    }
    [string]$short = Get-Shortage $Verb.Substring(0, 1)
    if ($short -ne '') { Tell not-now $short; return #LATER# }
    if (-not (Copy-Package $Verb.Substring(0, 1))) { return #DAMAGED# }
    Copy-Runner
    if (-not (Close-Programs $Plan['in_the_way'][$Verb])) { return #POSTPONED# }
    if ($Verb -ne 'install') { return 0 }
    foreach ($need in $Plan['needs']) {
        [string]$name = $need['package']
        if ($name -eq '') { $name = 'a fact' }
        if (-not (Test-Need $need)) {
            if ($need['folder'] -eq '') { Tell need-not-brought $name; return #NEED_MISSING# }
            if ($need['consent'].Count -gt 0) {
                if ((Get-People) -eq 0) { Tell nobody-agrees $name; return #NEED_MISSING# }
                if ((Show-Message $Plan['name'] (Get-Text $need['consent']) 1 600 $true) -ne 1) { Tell person-declined $name; return #REFUSED# }
            }
            [int]$code = Invoke-Other $need['folder'] 'install'
            Tell need-carried $name $code
            if (($code -ne 0) -and ($code -ne 3010) -and ($code -ne 1641)) { return $code }
            if (-not (Test-Need $need)) { return #NEED_MISSING# }
        }
        if ($need['package'] -ne '') {
            [string]$folder = [IO.Path]::Combine($Yendo, 'needed', $need['package'])
            [void][IO.Directory]::CreateDirectory($folder)
            [IO.File]::WriteAllText([IO.Path]::Combine($folder, $Plan['id'] + '.txt'), 'needed', $Utf8)
        }
    }
    return 0
}

# --- after a restart -----------------------------------------------------------------------------------------------------------

# A task at the start of the machine, as the system account; where no task can be made, the next start of a session.
function Set-Resume {
    [string]$line = '"' + [IO.Path]::Combine($Kept, 'apply.cmd') + '" ' + $Verb
    [string]$name = 'Yendo\' + $Plan['id']
    try { [void](Invoke-Call ('schtasks.exe /create /tn "' + $name + '" /tr "cmd.exe /d /s /c \"\"' + [IO.Path]::Combine($Kept, 'apply.cmd') + '\" ' + $Verb + '\"" /sc onstart /ru SYSTEM /rl highest /f') $true) } catch { Tell resume-task-failed $_.Exception.Message }
    if ([IO.File]::Exists([IO.Path]::Combine([Environment]::SystemDirectory, 'Tasks\' + $name))) { Tell resume-at-start $name; return }
    [Microsoft.Win32.RegistryKey]$once = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').CreateSubKey('Software\Microsoft\Windows\CurrentVersion\RunOnce')
    $once.SetValue('Yendo ' + $Plan['id'], 'cmd.exe /d /s /c "' + $line + '"')
    Tell resume-at-logon
}

function Clear-Resume {
    [string]$name = 'Yendo\' + $Plan['id']
    if ([IO.File]::Exists([IO.Path]::Combine([Environment]::SystemDirectory, 'Tasks\' + $name))) { [void](Invoke-Call ('schtasks.exe /delete /tn "' + $name + '" /f') $true) }
    [Microsoft.Win32.RegistryKey]$once = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Microsoft\Windows\CurrentVersion\RunOnce', $true)
    if ($null -ne $once) { $once.DeleteValue('Yendo ' + $Plan['id'], $false) }
}

# --- the steps ---------------------------------------------------------------------------------------------------------------------

function Read-Journal {
    if (-not [IO.File]::Exists($JournalFile)) { return $null }
    $found = $null
    [string]$text = [IO.File]::ReadAllText($JournalFile, $Utf8)
    [string[]]$lines = [regex]::Split($text, "`r`n")
    for ([int]$at = 0; $at -lt $lines.Length - 1; $at++) {
        [string[]]$parts = $lines[$at].Split([char]9)
        if (($parts[0] -eq 'begin') -and ($parts.Length -eq 3)) { $found = @{ 'verb' = $parts[1]; 'run' = $parts[2]; 'begun' = @{}; 'ended' = @{}; 'undoing' = $null; 'over' = $false; 'restarted' = 0 }; continue }
        if ($null -eq $found) { return $null }
        if ($parts[0] -eq 'step') { $found['begun'][[int]$parts[1]] = $true }
        if ($parts[0] -eq 'done') { $found['ended'][[int]$parts[1]] = $parts[2]; if ($parts[2] -eq 'restart now') { $found['restarted'] = [int]$parts[1] } }
        if ($parts[0] -eq 'undo') { $found['undoing'] = [int]$parts[1] }
        if ($parts[0] -eq 'end') { $found['over'] = $true }
    }
    return $found
}

function Test-Probe($Step) {
    [string]$reasons = ''
    foreach ($rule in $Step['probe']) {
        $verdict = Test-Rule $rule
        if (-not $verdict[0]) { return @($false, $verdict[1]) }
        $reasons = $verdict[1]
    }
    return @($true, $reasons)
}

function Invoke-Kind($Step) {
    switch ($Step['kind']) {
#SWITCH#
        default { throw ('no such kind of step: ' + $Step['kind']) }
    }
}

function Invoke-Step($Step) {
    [double]$wait = $Step['retry_wait']
    $result = @('failed', #STEP_FAILED#)
    for ([int]$attempt = 0; $attempt -le $Step['retries']; $attempt++) {
        if ($attempt -gt 0) {
            Tell step-retried $wait $attempt $Step['retries']
            [Threading.Thread]::Sleep([int]($wait * 1000))
            $wait = $wait * 2
        }
        try {
            if ($Step['temporary_reverse'] -ne '') {
                $known = Test-Rule @{ 'kind' = 'msi-product'; 'product' = $Step['packed']; 'line' = ''; 'version' = @() }
                if (-not $known[0]) { Add-Record 'R' $Step['temporary_reverse'] }
            }
            $result = Invoke-Kind $Step
        } catch {
            Tell step-failed $StepNumber $_.Exception.GetBaseException().Message
            $result = @('failed', #STEP_FAILED#)
        }
        if (-not (Test-Bad $result[0]) -and ($result[0] -ne 'restart now')) {
            $took = Test-Probe $Step
            if (-not $took[0]) { Tell probe-failed $took[1]; $result = @('failed', #STEP_FAILED#) }
        }
        if ((-not (Test-Bad $result[0])) -or ($result[0] -eq 'again later')) { break }
    }
    return $result
}

function Test-Bad([string]$Meaning) { return ($Meaning -eq 'failed') -or ($Meaning -eq 'timed out') -or ($Meaning -eq 'again later') }

function Undo-Run([int]$Code) {
    $now = Read-Journal
    if ($null -eq $now['undoing']) { Add-Line $JournalFile ("undo`t" + $Code) }
    Tell undoing
    [string[]]$lines = Get-Record
    [int]$begun = 0
    for ([int]$at = 0; $at -lt $lines.Length; $at++) { if ($lines[$at] -eq 'B') { $begun = $at } }
    if ($lines.Length -gt $begun) { Undo-Lines $lines[$begun..($lines.Length - 1)] $true }
    Clear-Record $begun
    Add-Line $JournalFile ("end`t" + $Code)
    return $Code
}

function Get-After([string]$Meaning, [int]$Final) {
    if (($Meaning -eq 'restart') -or ($Meaning -eq 'restarting')) { $script:RestartAsked = $true }
    if ($Meaning -eq 'restarting') { return 1641 }
    if (($Meaning -eq 'restart') -and ($Final -ne 1641)) { return 3010 }
    return $Final
}

function Invoke-Steps($Journal) {
    [int]$final = 0
    [int]$number = 0
    foreach ($step in $Plan[$Verb]) {
        $number = $number + 1
        $script:StepNumber = $number
        if ($Journal['ended'].ContainsKey($number)) {
            if ($number -gt $Journal['restarted']) { $final = Get-After $Journal['ended'][$number] $final }
            continue
        }
        Tell step-began $number $step['title']
        Show-Progress $step['title'] $number $Plan[$Verb].Length
        if ($step['once']) {
            $took = Test-Probe $step
            if ($took[0]) { Tell step-done-before; Add-Line $JournalFile ("done`t" + $number + "`tdone`t0"); continue }
        }
        $found = Test-Nodes $step['when']
        if ((-not $found[0]) -and $found[1]) { Tell not-now $found[2]; return #LATER# }
        [bool]$needed = $found[0]
        $script:Everybodys = $step['everybodys']
        if ($needed -and ($step['reverse'] -ne '')) { Add-Found 'U' $step['reverse'] }
        if (-not $needed) { Tell step-passed $found[2] }
        else {
            foreach ($rule in $step['unless']) {
                $verdict = Test-Rule $rule
                if ($verdict[0]) { $needed = $false; Tell step-not-needed $rule['title'] $verdict[1] }
            }
        }
        if (-not $needed) { Add-Line $JournalFile ("done`t" + $number + "`tnot needed`t0"); continue }
        if (-not $Journal['begun'].ContainsKey($number)) { Add-Line $JournalFile ("step`t" + $number) }
        $result = Invoke-Step $step
        [string]$meaning = $result[0]
        [int]$code = $result[1]
        if (Test-Bad $meaning) {
            Tell step-ended-badly $code $number
            if ($step['on_failure'] -ne 'go-on') {
                if ($code -eq 0) { $code = #STEP_FAILED# }
                if ($step['on_failure'] -eq 'undo') { return (Undo-Run $code) }
                if ($meaning -ne 'again later') { Add-Line $JournalFile ("end`t" + $code) }
                return $code
            }
            Tell going-on
            $meaning = 'not needed'
        }
        if ($meaning -eq 'restart now') { Set-Resume }
        Save-Registry
        Add-Line $JournalFile ("done`t" + $number + "`t" + $meaning + "`t" + $code)
        if ($meaning -eq 'restart now') {
            Tell restarting
            [string]$comment = ''
            if ($step['text'] -ne '') { $comment = ' /c "' + $step['text'].Replace('"', '''') + '"' }
            [void](Invoke-Call ('shutdown.exe /r /t ' + $step['notice'] + $comment + ' /d p:4:2') $false)
            return 1641
        }
        $final = Get-After $meaning $final
    }
    $script:StepNumber = 0
    Exit-InstallMode $Room
    return (Complete-Verb $final)
}

function Complete-Verb([int]$Final) {
    [string]$installed = [IO.Path]::Combine($Yendo, 'installed', $Plan['id'] + '.txt')
    if (($Verb -eq 'install') -and ($Final -eq 0)) {
        [bool]$all = $true
        foreach ($rule in $Plan['detect']) {
            $verdict = Test-Rule $rule
            if (-not $verdict[0]) { Tell not-detected $rule['title'] $verdict[1]; $all = $false }
        }
        if (-not $all) { Add-Line $JournalFile "end`t#NOT_DETECTED#"; return #NOT_DETECTED# }
    }
    if ($Verb -ne 'uninstall') {
        [void][IO.Directory]::CreateDirectory([IO.Path]::GetDirectoryName($installed))
        [IO.File]::WriteAllText($installed, $Plan['version'], $Utf8)
        Add-Line $JournalFile ("end`t" + $Final)
        Tell run-ended $Final
        return $Final
    }
    foreach ($need in $Plan['needs']) {
        if ($need['package'] -eq '') { continue }
        [string]$folder = [IO.Path]::Combine($Yendo, 'needed', $need['package'])
        [string]$mark = [IO.Path]::Combine($folder, $Plan['id'] + '.txt')
        if ([IO.File]::Exists($mark)) { [IO.File]::Delete($mark) }
        [string[]]$others = Get-Marks $need['package']
        if ($others.Length -eq 0) {
            Remove-Empty $folder
            Remove-Empty ([IO.Path]::Combine($Yendo, 'needed'))
            # asked of its own mark, so that a run that was cut off here goes on
            [bool]$there = [IO.File]::Exists([IO.Path]::Combine($Yendo, 'installed', $need['package'] + '.txt'))
            if ($need['remove'] -and ($need['folder'] -ne '') -and $there) { Tell need-released $need['package'] (Invoke-Other $need['folder'] 'uninstall') }
        }
    }
    if ([IO.File]::Exists($installed)) { [IO.File]::Delete($installed) }
    Save-Registry
    Add-Line $JournalFile ("end`t" + $Final)
    [int]$left = 0
    foreach ($line in (Get-Record)) { if ('BR'.IndexOf($line[0]) -lt 0) { $left = $left + 1 } }
    if ($left -eq 0) {
        Clear-Record 0
        if ($null -ne $Lock) { $Lock.Dispose() }
        Remove-Own $Room
        Remove-Kept
        foreach ($name in @('state', 'installed', 'packages')) { Remove-Empty ([IO.Path]::Combine($Yendo, $name)) }
        Remove-Empty $Yendo
    }
    Tell run-ended $Final
    return $Final
}

function Remove-Empty([string]$Folder) {
    if ([IO.Directory]::Exists($Folder) -and ([IO.Directory]::GetFileSystemEntries($Folder).Length -eq 0)) { [IO.Directory]::Delete($Folder) }
}

# --- the verbs ---------------------------------------------------------------------------------------------------------------------------

function Show-Detection {
    [bool]$all = $Plan['detect'].Length -gt 0
    foreach ($rule in $Plan['detect']) {
        $verdict = Test-Rule $rule
        Say ($rule['title'] + ': ' + (Format-Fact $verdict[0]) + ', ' + $verdict[1])
        if (-not $verdict[0]) { $all = $false }
    }
    if ($all) { return 0 }
    return 1
}

function Show-Status {
    Say ('computer: ' + [Environment]::MachineName)
    Say ('package: ' + $Plan['id'])
    [string]$installed = [IO.Path]::Combine($Yendo, 'installed', $Plan['id'] + '.txt')
    if ([IO.File]::Exists($installed)) { Say ('installed: version ' + [IO.File]::ReadAllText($installed).Trim()) } else { Say 'installed: no' }
    $journal = Read-Journal
    if (($null -ne $journal) -and (-not $journal['over'])) { Say ('unfinished: ' + $journal['verb'] + ', ' + $journal['ended'].Count + ' steps are done') }
    [string[]]$others = Get-Marks $Plan['id']
    if ($others.Length -gt 0) { Say ('needed by: ' + [string]::Join(', ', $others)) }
    if ([IO.File]::Exists([IO.Path]::Combine($Room, 'postponed.txt'))) { Say ('postponed: ' + [IO.File]::ReadAllText([IO.Path]::Combine($Room, 'postponed.txt')).Replace("`t", ', times: ')) }
    Say ('recorded changes: ' + @((Get-Record) | Where-Object { 'BR'.IndexOf($_[0]) -lt 0 }).Length)
    return (Show-Detection)
}

# What it would do on this machine, by the same questions, and nothing done.
function Show-Plan {
    $found = Test-Nodes $Plan['when']
    if (($Verb -ne 'uninstall') -and (-not $found[0])) { Say ('would not begin: ' + $found[2]); if ($found[1]) { return #LATER# }; return #NOT_APPLICABLE# }
    foreach ($name in (Get-InTheWay $Plan['in_the_way'][$Verb])) { Say ('would close: ' + $name) }
    if ($Verb -eq 'install') { foreach ($need in $Plan['needs']) { if (-not (Test-Need $need)) { Say ('would need: ' + $need['package']) } } }
    [int]$number = 0
    foreach ($step in $Plan[$Verb]) {
        $number = $number + 1
        [string]$word = 'would carry out'
        $found = Test-Nodes $step['when']
        if (-not $found[0]) { $word = 'would pass over (' + $found[2] + ')' }
        foreach ($rule in $step['unless']) { $verdict = Test-Rule $rule; if ($verdict[0]) { $word = 'would pass over (' + $verdict[1] + ')' } }
        Say ('step ' + $number + ', ' + $word + ': ' + $step['title'])
        if (($step['command'] -ne '') -and ($word -eq 'would carry out')) { Say ('    ' + [Environment]::ExpandEnvironmentVariables($step['command'].Replace('{package}', $Here).Replace('{logs}', $Logs))) }
    }
    return 0
}

function Open-Log([string]$File) {
    [IO.StreamWriter]$out = [IO.StreamWriter]::new([IO.FileStream]::new($File, 'Append', 'Write', 'ReadWrite'), $Utf8)
    $out.AutoFlush = $true
    return $out
}

function Start-Log([bool]$Fresh) {
    if ($LogsGiven -and [IO.File]::Exists($Logs)) { throw ($Logs + ' is a file') }
    if ($LogsGiven -and [IO.Directory]::Exists($Logs)) {
        [string]$why = Get-Distrust $Logs
        if ($why -ne '') { throw ($Logs + ': ' + $why + '; name a folder that only administrators write, or leave -Logs out') }
    } else { Initialize-Chain $Logs $true }
    foreach ($file in @($LogFile, $LinesFile)) {
        if (-not ($Fresh -and [IO.File]::Exists($file))) { continue }
        [string]$head = $file.Substring(0, $file.LastIndexOf('.'))
        [string]$tail = $file.Substring($file.LastIndexOf('.'))
        for ([int]$age = 5; $age -ge 1; $age--) {
            [string]$older = $head + '.' + $age + $tail
            [string]$newer = $file
            if ($age -gt 1) { $newer = $head + '.' + ($age - 1) + $tail }
            if ([IO.File]::Exists($newer)) { if ([IO.File]::Exists($older)) { [IO.File]::Delete($older) }; [IO.File]::Move($newer, $older) }
        }
    }
    $script:LogOut = Open-Log $LogFile
    $script:LinesOut = Open-Log $LinesFile
    $script:Logging = $true
}

if ([Array]::IndexOf(@('install', 'uninstall', 'repair', 'detect', 'status', 'facts', 'call'), $Verb) -lt 0) {
    [Console]::Error.WriteLine('apply: the verb is install, uninstall, repair, detect, status or facts, not ' + $Verb)
    exit #WRONG_USE#
}
[DateTime]$LastMoment = [DateTime]::MaxValue
if ((($PutOffs -ne '') -and ($PutOffs -notmatch '^\d{1,2}$')) -or (($Until -ne '') -and (-not [DateTime]::TryParseExact($Until, 'yyyy-MM-ddTHH:mm', [Globalization.CultureInfo]::InvariantCulture, 'None', [ref]$LastMoment)))) {
    [Console]::Error.WriteLine('apply: -PutOffs is a number, -Until a time like 2026-12-04T18:00')
    exit #WRONG_USE#
}
if ($Verb -eq 'call') { exit (Receive-Call) } # only: msi
if ($Verb -eq 'call') { exit #WRONG_USE# }
if ($Verb -eq 'facts') {
    foreach ($name in @('windows', 'edition', 'architecture', 'language', 'memory', 'disk C', 'power', 'network', 'domain', 'people', 'quiet', 'shell', 'dotnet', 'multi-session', 'computer')) {
        $value = Get-Fact $name
        if ($null -ne $value) { Say ($name + ': ' + (Format-Fact $value)) }
    }
    Say ('time: ' + [DateTime]::Now.ToString('yyyy-MM-ddTHH:mm'))
    exit 0
}
if (($Verb -eq 'detect') -or ($Verb -eq 'status') -or $WhatIf) {
    [string]$strange = Test-Home
    if ($strange -ne '') { Say ('not believed: ' + $strange + ', ' + (Get-Distrust $strange)); $Room = [IO.Path]::Combine($Room, 'not believed', [Guid]::NewGuid().ToString()); $JournalFile = [IO.Path]::Combine($Room, 'journal.txt'); $RecordFile = [IO.Path]::Combine($Room, 'record.txt') }
}
$Refused = @(0, @())
$Refused = Get-Refusal # only: settings
if ((-not $Plan.ContainsKey('settings')) -and ($Site + $Set + $Values -ne '')) { $Refused = @(#UNSETTLED#, ,'this package has no settings') }
if (($Refused[0] -ne 0) -and ($WhatIf -or ($Verb -eq 'detect') -or ($Verb -eq 'status'))) { foreach ($line in $Refused[1]) { Tell setting-refused $line }; exit $Refused[0] }
if ($Verb -eq 'detect') { exit (Show-Detection) }
if ($Verb -eq 'status') { exit (Show-Status) }
if ($WhatIf) { exit (Show-Plan) }
[string]$unsigned = Get-Unsigned
if ($unsigned -ne '') { [Console]::WriteLine('nothing is begun: ' + $unsigned); exit #UNSIGNED# }
try { Initialize-Home } catch {
    [Console]::WriteLine('nothing is begun, since what is kept on this machine cannot be made safe: ' + $_.Exception.GetBaseException().Message)
    exit #UNSAFE#
}
[void][IO.Directory]::CreateDirectory($Room)
$Lock = $null
[DateTime]$patience = [DateTime]::UtcNow.AddSeconds($Plan['exclusive'])
while ($null -eq $Lock) {
    try { $Lock = [IO.File]::Open([IO.Path]::Combine($Room, 'lock'), 'OpenOrCreate', 'ReadWrite', 'None') } catch {
        if ([DateTime]::UtcNow -ge $patience) { [Console]::WriteLine('this package is at work on this machine already'); exit #RUNNING# }
        [Threading.Thread]::Sleep(500)
    }
}
# the packages that have started this one, directly or not, and wait for it
[string]$Above = ';' + [Environment]::GetEnvironmentVariable('YENDO_ABOVE') + ';'
[Environment]::SetEnvironmentVariable('YENDO_ABOVE', $Above + $Room)
$journal = Read-Journal
[bool]$unfinished = ($null -ne $journal) -and (-not $journal['over']) -and ($journal['verb'] -eq $Verb) -and ($journal['run'] -eq $Plan['run'])
try { Start-Log (-not $unfinished) } catch {
    [Console]::WriteLine('the log cannot be written: ' + $_.Exception.GetBaseException().Message)
    exit #NO_LOG#
}
Enter-Job
Tell run-began $Plan['name'] $Plan['version'] $Plan['revision'] $Verb
Exit-OthersMode
foreach ($moved in $Aside) { Tell not-believed $moved[0] $moved[1] }
try {
    Publish-Logs
    $Here = $Kept
    if ($Refused[0] -ne 0) { foreach ($line in $Refused[1]) { Tell setting-refused $line }; Remove-Idle; exit $Refused[0] }
    if (($null -ne $journal) -and (-not $journal['over'])) { Clear-HalfPlaced }
    if ($unfinished) {
        Clear-Resume
        Tell run-resumed $Verb $journal['ended'].Count
        if (-not (Copy-Package $Verb.Substring(0, 1))) { exit #DAMAGED# }
    } else {
        [int]$stopped = Start-Verb
        if ($stopped -ne 0) { Clear-Package; Remove-Idle; exit $stopped }
        New-Journal
        if ($Verb -eq 'install') { Save-Settings ([IO.Path]::Combine($Room, 'settings.txt')) } # only: settings
        $journal = @{ 'begun' = @{}; 'ended' = @{}; 'undoing' = $null; 'restarted' = 0 }
    }
    if ($null -ne $journal['undoing']) { [int]$undone = Undo-Run $journal['undoing']; Clear-Package; exit $undone }
    Enter-InstallMode
    [int]$final = Invoke-Steps $journal
} catch {
    Tell run-stopped $_.Exception.GetBaseException().Message
    exit #STEP_FAILED#
} finally { Exit-InstallMode $Room; Hide-Progress }
$ended = Read-Journal
if (($null -eq $ended) -or $ended['over']) {
    Clear-Package
    Clear-Withheld # only: settings
}
# a message that nobody has answered must not hold the process
if ($script:Showing) { [Environment]::Exit($final) }
exit $final
