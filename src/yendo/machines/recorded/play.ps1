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
#TASK#

function Show-Line([string]$Text) {
    [Console]::WriteLine($Text)
    if ($Inner) { [IO.File]::AppendAllText($Progress, $Text + "`r`n", $Utf8) }
}

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

function Save-About { if (-not (Test-Part '01-about')) { Save-Part '01-about' (Get-About) } }

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
    Stop-Others
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
    Clear-Return
    Show-Line ("`nstopped: " + $_.Exception.GetBaseException().Message)
    exit 1
}
Clear-Return
[Threading.Thread]::Sleep(2000)
try { [IO.Directory]::Delete($Work, $true) } catch { }
exit 0
