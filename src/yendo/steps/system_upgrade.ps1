# The system's own setup: its trial, the upgrade, and after the restart what has become of it. It is never ended.
function Test-SetupRuns($Step) {
    foreach ($name in $Step['setups']) { if ([Diagnostics.Process]::GetProcessesByName($name).Length -gt 0) { return $true } }
    return (Read-Machine 'System\Setup' 'SystemSetupInProgress') -eq 1
}

# How far it says that it is, every tenth of the way.
function Show-Setup([int]$Told) {
    $percent = Read-Machine 'System\Setup\MoSetup\Volatile' 'SetupProgress'
    if (($null -eq $percent) -or ([int]$percent -lt ($Told + 10))) { return $Told }
    Tell setup-is-at ([int]$percent)
    return ([int]$percent - [int]$percent % 10)
}

# Waits until no setup is at work; where one is that was found so, what goes on at the machine's next start is kept.
function Wait-Setup($Step, [DateTime]$Until) {
    [bool]$told = $false
    [int]$percent = 0
    while (Test-SetupRuns $Step) {
        if (-not $told) { Tell setup-at-work; Set-Resume; $told = $true }
        $percent = Show-Setup $percent
        if ([DateTime]::UtcNow -gt $Until) { Tell setup-spared $Step['timeout']; return $false }
        [Threading.Thread]::Sleep(1000)
    }
    if ($told) { Clear-Resume }
    return $true
}

# The end of a log that the setup left, as far as it is plain text; of one that somebody else has put there, nothing.
function Read-SetupLog([string]$File, [int]$Most) {
    if (-not [IO.File]::Exists($File)) { return '' }
    [string]$why = ''
    try {
        Assert-Plain $File
        [string]$owner = (Get-Rights $File)[0]
        if ([Array]::IndexOf($Vouched, $owner) -lt 0) { $why = 'it belongs to ' + $owner }
    } catch { $why = $_.Exception.GetBaseException().Message }
    if ($why -ne '') { Tell not-believed $File $why; return '' }
    [IO.FileStream]$stream = [IO.FileStream]::new($File, 'Open', 'Read', 'ReadWrite')
    try {
        if ($stream.Length -gt $Most) { [void]$stream.Seek(-$Most, 'End') }
        [byte[]]$data = [byte[]]::new([int]($stream.Length - $stream.Position))
        [int]$count = 0
        while ($count -lt $data.Length) { [int]$got = $stream.Read($data, $count, $data.Length - $count); if ($got -eq 0) { break }; $count = $count + $got }
    } finally { $stream.Dispose() }
    return [Text.Encoding]::GetEncoding(28591).GetString($data).Replace("$([char]0)", '')
}

function Get-SetupRoom { return [IO.Path]::Combine([Environment]::ExpandEnvironmentVariables('%SystemDrive%\'), '$WINDOWS.~BT\Sources') }

function Get-SetupWords($Step, [int]$Code) {
    if ($Step['words'].ContainsKey('' + $Code)) { return $Step['words']['' + $Code] }
    return $Step['unknown']
}

function Step-SystemUpgrade($Step) {
    [string]$before = [IO.Path]::Combine($Room, 'before.txt')
    [DateTime]$until = [DateTime]::UtcNow.AddSeconds($Step['timeout'])
    [bool]$found = Test-SetupRuns $Step
    if (-not (Wait-Setup $Step $until)) { return @('again later', 1618) }
    if ($Step['part'] -eq 'judge') { return (Get-Became $Step $before) }
    # one that an earlier run has started: a second one would only say that a restart is due
    if ($found -and ($Step['part'] -eq 'upgrade')) { return @('done', 0) }
    if ($Step['part'] -eq 'upgrade') { [IO.File]::WriteAllText($before, (Get-Fact 'windows') + "`t" + (Get-Fact 'edition'), $Utf8) }
    [string]$line = [Environment]::ExpandEnvironmentVariables($Step['command'].Replace('{package}', $Here).Replace('{logs}', $VendorLogs))
    Tell command-began $line
    [Diagnostics.Process]$process = [Diagnostics.Process]::Start((New-Start $line $Here))
    [int]$percent = 0
    while (-not $process.WaitForExit(1000)) {
        $percent = Show-Setup $percent
        if ([DateTime]::UtcNow -gt $until) { Tell setup-spared $Step['timeout']; return @('again later', 1618) }
    }
    [int]$code = $process.ExitCode
    [string]$meaning = 'failed'
    if ($Step['codes'].ContainsKey('' + $code)) { $meaning = $Step['codes']['' + $code] }
    Tell command-ended $code $meaning
    if ($meaning -ne 'failed') {
        if (-not (Wait-Setup $Step $until)) { return @('again later', 1618) }
        return @($meaning, $code)
    }
    Tell setup-says ('0x' + $code.ToString('X8')) (Get-SetupWords $Step $code)
    [string]$panther = [IO.Path]::Combine((Get-SetupRoom), 'Panther')
    [Collections.Generic.List[string]]$named = [Collections.Generic.List[string]]::new()
    if ([IO.Directory]::Exists($panther)) {
        [string[]]$reports = [IO.Directory]::GetFiles($panther, 'CompatData*')
        [Array]::Sort($reports, [StringComparer]::Ordinal)
        for ([int]$at = 0; $at -lt [Math]::Min(8, $reports.Length); $at++) {
            foreach ($match in [regex]::Matches((Read-SetupLog $reports[$at] 1048576), $Step['held'], 'IgnoreCase')) {
                [string]$name = $match.Groups[1].Value
                if (-not $named.Contains($name)) { $named.Add($name); Tell upgrade-held $name }
            }
        }
    }
    return @('failed', $code)
}

function Get-Became($Step, [string]$Mark) {
    [string]$version = Get-Fact 'windows'
    [string]$edition = Get-Fact 'edition'
    [string]$earlier = ''
    if ([IO.File]::Exists($Mark)) {
        [string[]]$parts = [IO.File]::ReadAllText($Mark, $Utf8).Split([char]9)
        if ($parts.Length -eq 2) { $earlier = $parts[1] }
        [IO.File]::Delete($Mark)
    }
    if ([Version]::Parse($version).Build -ge $Step['build']) {
        if (($earlier -ne '') -and ($earlier -ne $edition)) { Tell edition-changed $earlier $edition; return @('failed', #STEP_FAILED#) }
        Tell upgraded $version $edition
        return @('done', 0)
    }
    foreach ($name in $Step['logs']) {
        $pairs = [regex]::Matches((Read-SetupLog ([IO.Path]::Combine((Get-SetupRoom), $name)) 4194304), $Step['pair'], 'IgnoreCase')
        if ($pairs.Count -eq 0) { continue }
        $last = $pairs[$pairs.Count - 1]
        [int]$code = [Convert]::ToInt32($last.Groups[1].Value, 16)
        [int]$operation = [Convert]::ToInt32($last.Groups[3].Value, 16)
        [string]$where = 'operation ' + $operation
        if ($Step['operations'].ContainsKey('' + $operation)) { $where = $Step['operations']['' + $operation] }
        Tell went-back $version $Step['phases'][$last.Groups[2].Value] $where ('0x' + $last.Groups[1].Value.ToUpperInvariant()) (Get-SetupWords $Step $code)
        return @('failed', $code)
    }
    Tell not-upgraded $version
    return @('failed', #STEP_FAILED#)
}
