# Carries a package out on this computer, from a fresh machine to its removal, and writes down what it sees: one file, for
# "yendo prove PACKAGE --from FILE". Start it as administrator, by play.cmd, on a machine that is put back afterwards.
# Made by Yendo. Windows PowerShell 5.1 or later; nothing is installed, nothing is sent anywhere.
param([string]$Account = '', [switch]$Inner, [switch]$Yes, [switch]$Start, [string]$Although = '')

#DATA#

$ErrorActionPreference = 'Stop'
[Text.UTF8Encoding]$Utf8 = [Text.UTF8Encoding]::new($false)
[string]$Here = $PSScriptRoot
if ($Account -eq '') { $Account = $Kit['account'] }
# ordinary users cannot write there, and so the package's own runner believes the values that lie there
[string]$Work = [Environment]::ExpandEnvironmentVariables('%ProgramFiles%\Yendo proof')
[string]$Parts = [IO.Path]::Combine($Work, 'parts')
[string]$Package = [IO.Path]::Combine($Work, 'package')
[string]$First = [IO.Path]::Combine($Parts, '02-look.txt')
[string]$Progress = [IO.Path]::Combine($Work, 'progress.txt')
[string]$TaskName = 'Yendo\proof'

#PEOPLE#
#FACTS#
#TRUST#
#OBSERVE#

function Show-Line([string]$Text) {
    [Console]::WriteLine($Text)
    if ($Inner) { [IO.File]::AppendAllText($Progress, $Text + "`r`n", $Utf8) }
}

function Invoke-Program([string]$Program, [string]$Arguments) {
    [Diagnostics.ProcessStartInfo]$start = [Diagnostics.ProcessStartInfo]::new()
    $start.FileName = [IO.Path]::Combine([Environment]::SystemDirectory, $Program)
    $start.Arguments = $Arguments
    $start.UseShellExecute = $false
    $start.RedirectStandardOutput = $true
    $start.RedirectStandardError = $true
    $start.CreateNoWindow = $true
    $start.WorkingDirectory = [Environment]::SystemDirectory
    [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start)
    $out = $process.StandardOutput.ReadToEndAsync()
    $err = $process.StandardError.ReadToEndAsync()
    $process.WaitForExit()
    # what a setup has left running may hold the pipes open
    [string]$said = ''
    foreach ($one in @($out, $err)) { if ($one.Wait(5000)) { $said = $said + $one.Result } }
    return @($process.ExitCode, $said)
}

function ConvertTo-Base64([byte[]]$Data) { return [Convert]::ToBase64String($Data) }

# A part is written beside and put in place when it is whole, so that what a restart cuts off is done again.
function Test-Part([string]$Name) { return [IO.File]::Exists([IO.Path]::Combine($Parts, $Name + '.txt')) }

function Save-Part([string]$Name, [string[]]$Lines) {
    [string]$to = [IO.Path]::Combine($Parts, $Name + '.txt')
    [IO.File]::WriteAllText($to + '.new', [string]::Join("`n", $Lines) + "`n", $Utf8)
    [IO.File]::Move($to + '.new', $to)
}

function Save-Look([string]$Name) {
    if (Test-Part $Name) { return }
    Show-Line ('looking at the machine (' + $Name + ')')
    if ([IO.File]::Exists($First)) { Read-Known $First }
    [string]$to = [IO.Path]::Combine($Parts, $Name + '.txt')
    Write-Picture ($to + '.new') @($Here, $Work)
    [IO.File]::Move($to + '.new', $to)
}

# The files of the runner that tell how it went: its logs and what it remembers.
function Get-Told {
    [string[]]$lines = @()
    foreach ($name in @($Kit['logs'], ($Kit['home'] + '\state\' + $Kit['id']))) {
        [string]$folder = [Environment]::ExpandEnvironmentVariables($name)
        if (-not [IO.Directory]::Exists($folder)) { continue }
        foreach ($file in [IO.Directory]::GetFiles($folder, '*', 'AllDirectories')) {
            if ([IO.FileInfo]::new($file).Length -gt 4194304) { continue }
            try {
                [IO.FileStream]$stream = [IO.FileStream]::new($file, 'Open', 'Read', 'ReadWrite, Delete')
                try {
                    [byte[]]$data = [byte[]]::new($stream.Length)
                    [void]$stream.Read($data, 0, $data.Length)
                } finally { $stream.Dispose() }
                $lines = @($lines + ("C`t" + (ConvertTo-Field $file) + "`t" + (ConvertTo-Base64 $data)))
            } catch { continue }
        }
    }
    return ,$lines
}

function Test-Over {
    [string]$journal = [Environment]::ExpandEnvironmentVariables($Kit['home'] + '\state\' + $Kit['id'] + '\journal.txt')
    if (-not [IO.File]::Exists($journal)) { return $true }
    try { return [regex]::IsMatch([IO.File]::ReadAllText($journal, $Utf8), "(?m)^end`t") } catch { return $false }
}

# A verb by the package's own runner; through every restart in its middle.
function Invoke-Verb([string]$Name, [string]$Verb) {
    for ([int]$turn = 0; $turn -le 5; $turn++) {
        [string]$part = $Name + '-' + $turn + 'a'
        if (-not (Test-Part $part)) {
            Show-Line ($Verb + ': the package is at work')
            [DateTime]$begun = [DateTime]::UtcNow
            $ran = Invoke-Program 'cmd.exe' ('/d /s /c ""' + $Package + '\apply.cmd" ' + $Verb + $Kit['options'] + '"')
            [string[]]$lines = @("R`t" + $Verb + "`t" + $ran[0] + "`t" + ([DateTime]::UtcNow - $begun).TotalSeconds.ToString('0.###', [Globalization.CultureInfo]::InvariantCulture))
            $lines = @($lines + ("O`t" + (ConvertTo-Base64 $Utf8.GetBytes($ran[1]))) + (Get-Told))
            Save-Part $part $lines
            Show-Line ($Verb + ': ended with ' + $ran[0])
            if (($ran[0] -eq 1641) -and (-not (Test-Over))) {
                Show-Line 'the computer starts anew now; this goes on by itself'
                exit 0
            }
        }
        [string]$said = [IO.File]::ReadAllText([IO.Path]::Combine($Parts, $part + '.txt'), $Utf8)
        if (-not $said.StartsWith("R`t" + $Verb + "`t1641`t", 'Ordinal')) { return }
        [string]$after = $Name + '-' + $turn + 'b'
        if (-not (Test-Part $after)) {
            if (Test-Over) { [DateTime]$until = [DateTime]::UtcNow } else { [DateTime]$until = [DateTime]::UtcNow.AddMinutes(30) }
            while ((-not (Test-Over)) -and ([DateTime]::UtcNow -lt $until)) { [Threading.Thread]::Sleep(1000) }
            Save-Part $after (@('X') + (Get-Told))
        }
        if (Test-Over) { return }
    }
}

function Save-Detection([string]$Name) {
    if (Test-Part $Name) { return }
    $ran = Invoke-Program 'WindowsPowerShell\v1.0\powershell.exe' ('-NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $Package + '\detect.ps1" -Facts')
    Save-Part $Name @(("R`tdetect`t" + $ran[0] + "`t0"), ("O`t" + (ConvertTo-Base64 $Utf8.GetBytes($ran[1]))))
}

function Save-About {
    if (Test-Part '01-about') { return }
    [string[]]$lines = @()
    foreach ($entry in [Environment]::GetEnvironmentVariables().GetEnumerator()) {
        $lines = @($lines + ("A`t" + (ConvertTo-Field $entry.Key) + "`t" + (ConvertTo-Field $entry.Value)))
    }
    foreach ($name in @('windows', 'edition', 'architecture', 'language', 'memory', 'power', 'network', 'domain', 'shell', 'dotnet', 'multi-session', 'computer')) {
        try { $value = Get-Fact $name } catch { $value = $null }
        if ($null -ne $value) { $lines = @($lines + ("E`t" + $name + "`t" + (ConvertTo-Field ('' + $value)))) }
    }
    $who = [Security.Principal.WindowsIdentity]::GetCurrent()
    [string]$current = 'Software\Microsoft\Windows NT\CurrentVersion'
    foreach ($pair in @(@('account', $who.Name), @('sid', $who.User.Value), @('product', (Read-Machine $current 'ProductName')),
            @('display', (Read-Machine $current 'DisplayVersion')), @('although', $Although), @('started', [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ss+00:00')))) {
        $lines = @($lines + ("E`t" + $pair[0] + "`t" + (ConvertTo-Field ('' + $pair[1]))))
    }
    # a layer under Linux or macOS is no Windows, whatever it calls itself
    [bool]$layer = $null -ne [Microsoft.Win32.RegistryKey]::OpenBaseKey('CurrentUser', 'Registry64').OpenSubKey('Software\Wine')
    $lines = @($lines + ("E`tlayer`t" + $layer))
    Save-Part '01-about' $lines
}

# --- the order of things: a fresh machine, installed, installed again, removed ---------------------------------------

function Invoke-Play {
    Save-About
    Save-Look '02-look'
    if ($Kit['idle'] -gt 0) {
        if (-not (Test-Part '03-look')) { Show-Line ('waiting ' + $Kit['idle'] + ' seconds, to see what changes by itself'); [Threading.Thread]::Sleep(1000 * $Kit['idle']) }
        Save-Look '03-look'
    }
    Save-Detection '04-detect'
    Invoke-Verb '05-install' 'install'
    Save-Detection '06-detect'
    Save-Look '07-look'
    Invoke-Verb '08-install' 'install'
    Save-Look '09-look'
    if ($Kit['removes']) {
        Invoke-Verb '10-uninstall' 'uninstall'
        Save-Detection '11-detect'
        Save-Look '12-look'
    }
    Save-Result
}

# One file: every part in its order, and a seal over all of it.
function Save-Result {
    [string[]]$files = [IO.Directory]::GetFiles($Parts, '*.txt')
    [Array]::Sort($files, [StringComparer]::Ordinal)
    [string]$to = [IO.Path]::Combine($Here, $Kit['result'])
    [Security.Cryptography.HMACSHA256]$seal = [Security.Cryptography.HMACSHA256]::new([Convert]::FromBase64String($Kit['key']))
    [IO.FileStream]$file = [IO.FileStream]::new($to + '.new', 'Create')
    [IO.Compression.GZipStream]$out = [IO.Compression.GZipStream]::new($file, [IO.Compression.CompressionLevel]::Optimal)
    function Add-Bytes([byte[]]$Data) {
        [void]$seal.TransformBlock($Data, 0, $Data.Length, $Data, 0)
        $out.Write($Data, 0, $Data.Length)
    }
    Add-Bytes $Utf8.GetBytes("yendo-result`t1`t" + $Kit['digest'] + "`t" + $Kit['name'] + "`t" + $Account + "`n")
    foreach ($path in $files) {
        Add-Bytes $Utf8.GetBytes('part ' + [IO.Path]::GetFileNameWithoutExtension($path) + "`n")
        Add-Bytes ([IO.File]::ReadAllBytes($path))
    }
    [void]$seal.TransformFinalBlock([byte[]]@(), 0, 0)
    [byte[]]$end = $Utf8.GetBytes('sealed ' + [BitConverter]::ToString($seal.Hash).Replace('-', '').ToLowerInvariant() + "`n")
    $out.Write($end, 0, $end.Length)
    $out.Dispose()
    if ([IO.File]::Exists($to)) { [IO.File]::Delete($to) }
    [IO.File]::Move($to + '.new', $to)
    Show-Line ('done: ' + $to)
    Show-Line ('next, where Yendo is: yendo prove ' + $Kit['id'] + ' --from ' + $Kit['result'] + '; then put this machine back')
}

# --- who does it -----------------------------------------------------------------------------------------------------

function Get-Line { return '-NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $Here + '\play.ps1" -Inner -Account ' + $Account + $(if ($Although -ne '') { ' -Although "' + $Although.Replace('"', "'") + '"' } else { '' }) }

function Get-Shell { return [IO.Path]::Combine([Environment]::SystemDirectory, 'WindowsPowerShell\v1.0\powershell.exe') }

# What goes on after a restart: a task at the machine's start for the system account, else the next session of an
# administrator.
function Set-Return {
    # both places take a line of some 260 characters only
    [string]$way = [IO.Path]::Combine($Work, 'go.cmd')
    [IO.File]::WriteAllText($way, "@chcp 65001 >nul`r`n" + '@"' + (Get-Shell) + '" ' + (Get-Line) + "`r`n", $Utf8)
    [string]$run = 'cmd.exe /d /c "' + $way + '"'
    if ($Account -eq 'system') {
        return (Invoke-Program 'schtasks.exe' ('/create /tn "' + $TaskName + '" /tr "' + $run.Replace('"', '\"') + '" /sc onstart /ru SYSTEM /rl highest /f'))[0]
    }
    [Microsoft.Win32.RegistryKey]$once = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').CreateSubKey('Software\Microsoft\Windows\CurrentVersion\RunOnce')
    $once.SetValue('Yendo proof', $run)
    $once.Dispose()
    return 0
}

function Clear-Return {
    if ($Account -eq 'system') { [void](Invoke-Program 'schtasks.exe' ('/delete /tn "' + $TaskName + '" /f')) }
    [Microsoft.Win32.RegistryKey]$once = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Microsoft\Windows\CurrentVersion\RunOnce', $true)
    if ($null -ne $once) { $once.DeleteValue('Yendo proof', $false); $once.Dispose() }
}

function Get-Hash([string]$Path) {
    [Security.Cryptography.SHA256]$hash = [Security.Cryptography.SHA256]::Create()
    return [BitConverter]::ToString($hash.ComputeHash([IO.File]::ReadAllBytes($Path))).Replace('-', '').ToLowerInvariant()
}

function Copy-Tree([string]$From, [string]$To) {
    [void][IO.Directory]::CreateDirectory($To)
    foreach ($folder in [IO.Directory]::GetDirectories($From)) { Copy-Tree $folder ([IO.Path]::Combine($To, [IO.Path]::GetFileName($folder))) }
    foreach ($file in [IO.Directory]::GetFiles($From)) { [IO.File]::Copy($file, [IO.Path]::Combine($To, [IO.Path]::GetFileName($file)), $true) }
}

# Why this is not a machine to try things on: it belongs to an organisation, or somebody has been living on it.
function Get-Claims {
    [string[]]$found = @()
    [string]$domain = Get-Fact 'domain'
    if ($domain -ne '') { $found = @($found + ('it is in the domain ' + $domain)) }
    [Microsoft.Win32.RegistryKey]$machine = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64')
    [Microsoft.Win32.RegistryKey]$joined = $machine.OpenSubKey('System\CurrentControlSet\Control\CloudDomainJoin\JoinInfo')
    if (($null -ne $joined) -and ($joined.SubKeyCount -gt 0)) { $found = @($found + 'it is joined to a cloud directory') }
    [Microsoft.Win32.RegistryKey]$enrolled = $machine.OpenSubKey('Software\Microsoft\Enrollments')
    if ($null -ne $enrolled) {
        foreach ($name in $enrolled.GetSubKeyNames()) {
            [Microsoft.Win32.RegistryKey]$one = $enrolled.OpenSubKey($name)
            if (($null -ne $one) -and ($one.GetValue('EnrollmentState', 0) -eq 1) -and ('' + $one.GetValue('ProviderID', '') -ne '')) {
                $found = @($found + ('it is managed by ' + $one.GetValue('ProviderID')))
            }
        }
    }
    [Microsoft.Win32.RegistryKey]$people = $machine.OpenSubKey('Software\Microsoft\Windows NT\CurrentVersion\ProfileList')
    foreach ($sid in @($people.GetSubKeyNames() | Where-Object { $_ -match '^S-1-(5-21|12-1)-' })) {
        [string]$home_of = [Environment]::ExpandEnvironmentVariables('' + $people.OpenSubKey($sid).GetValue('ProfileImagePath', ''))
        if (-not [IO.Directory]::Exists($home_of)) { continue }
        [int]$days = ([DateTime]::UtcNow - [IO.Directory]::GetCreationTimeUtc($home_of)).TotalDays
        if ($days -gt 7) { $found = @($found + ('somebody has had a profile on it for ' + $days + ' days: ' + $home_of)) }
    }
    return ,$found
}

function Stop-With([string]$Text) { [Console]::WriteLine($Text); exit 2 }

function Start-Task {
    if ((Set-Return) -ne 0) { Stop-With 'a task for the system account cannot be made here; see the policy of this machine' }
    if ((Invoke-Program 'schtasks.exe' ('/run /tn "' + $TaskName + '"'))[0] -ne 0) { Stop-With 'the task for the system account does not start' }
}

function Start-Play {
    if (-not [Security.Principal.WindowsPrincipal]::new([Security.Principal.WindowsIdentity]::GetCurrent()).IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)) { Stop-With 'start play.cmd as administrator: what is proved is an installation for the whole machine' }
    if ($Start -and ($Account -ne 'system')) { Stop-With 'a play at a desk needs a person who stays; only the system account is started and left alone' }
    if ($Here.StartsWith('\\', 'Ordinal')) { Stop-With 'copy this folder onto the computer first: the system account does not reach the share that it lies on' }
    if ((Get-Hash ([IO.Path]::Combine($Here, 'package\manifest.json'))) -ne $Kit['digest']) { Stop-With 'the package in this folder is not the one that the kit was made for; make the kit again' }
    [Console]::WriteLine('This installs ' + $Kit['name'] + ' on this computer, and removes it again, as ' + $Account + '. Do it on a machine that is put back afterwards.')
    [string[]]$claims = Get-Claims
    if (($claims.Length -gt 0) -and ($Although -eq '')) {
        foreach ($claim in $claims) { [Console]::WriteLine('not on this computer: ' + $claim) }
        Stop-With 'take a machine that nobody needs; or say why it may be this one: play.cmd -Although "the reason"'
    }
    if (-not $Yes) {
        [Console]::Write('Type yes to begin: ')
        if ([Console]::ReadLine() -ne 'yes') { Stop-With 'nothing was done' }
    }
    [string]$ready = [IO.Path]::Combine($Work, 'ready.txt')
    # a line that was lost while it began: what was begun goes on
    if ($Start -and [IO.File]::Exists($ready) -and ([IO.File]::ReadAllText($ready, $Utf8) -eq $Here)) { Start-Task; exit 0 }
    if ([IO.Directory]::Exists($Work)) { [IO.Directory]::Delete($Work, $true) }
    New-Protected $Work $true
    Copy-Tree ([IO.Path]::Combine($Here, 'package')) $Package
    [void][IO.Directory]::CreateDirectory($Parts)
    if ([IO.File]::Exists([IO.Path]::Combine($Here, 'values.txt'))) {
        # the runner takes values only from where nobody else reads
        [string]$given = [IO.Path]::Combine($Work, 'values.txt')
        New-PrivateFile $given
        [IO.File]::WriteAllBytes($given, [IO.File]::ReadAllBytes([IO.Path]::Combine($Here, 'values.txt')))
    }
    [IO.File]::WriteAllText($Progress, '', $Utf8)
    [IO.File]::WriteAllText($ready, $Here, $Utf8)
    if ($Account -ne 'system') {
        [void](Set-Return)
        return
    }
    Start-Task
    if ($Start) { exit 0 }
    [int]$shown = 0
    while ($true) {
        [Threading.Thread]::Sleep(1000)
        if (-not [IO.File]::Exists($Progress)) { exit 0 }
        try { [string]$text = [IO.File]::ReadAllText($Progress, $Utf8) } catch { continue }
        [Console]::Write($text.Substring($shown))
        $shown = $text.Length
        if ($text.IndexOf("`nstopped: ", [StringComparison]::Ordinal) -ge 0) { exit 1 }
    }
}

if (-not $Inner) { Start-Play; $Inner = $true } elseif ($Account -ne 'system') { [void](Set-Return) } # it is used up by a start
try { Invoke-Play } catch {
    Show-Line ("`nstopped: " + $_.Exception.GetBaseException().Message)
    exit 1
}
Clear-Return
[Threading.Thread]::Sleep(2000)
try { [IO.Directory]::Delete($Work, $true) } catch { }
exit 0
