# Does on this computer what the kit says, one act after the other, and writes down what it sees: one file, which Yendo
# judges where it is. Start it as administrator, by play.cmd, on a machine that is put back afterwards.
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
[string]$First = [IO.Path]::Combine($Work, 'first.txt')
[string]$Begun = [IO.Path]::Combine($Work, 'begun.txt')
[string]$Placed = [IO.Path]::Combine($Work, 'placed.txt')
[string]$CodeFile = [IO.Path]::Combine($Work, 'code.txt')
[string]$Waiting = [IO.Path]::Combine($Work, 'waiting.txt')
[string]$Kept = [IO.Path]::Combine($Work, 'kept')
[string]$Progress = [IO.Path]::Combine($Work, 'progress.txt')
[string]$TaskName = 'Yendo\proof'
[string]$Anew = 'the computer starts anew now; this goes on by itself'

#TEXTS#
#PEOPLE#
#FACTS#
#TRUST#
#OBSERVE#
#TASK#
#SHOWN#
#OPERATIONS#

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

# The same for what an operation answers; the file that it copied or the picture that it took belongs to the part.
function Get-AnswerPath([string]$Name, [string]$Kind) { return [IO.Path]::Combine($Work, 'answer.' + $Kind) }

function Send-Answer([string]$Name, [string[]]$Lines) {
    [string]$data = Get-AnswerPath $Name 'data'
    if ([IO.File]::Exists($data)) {
        if ([IO.FileInfo]::new($data).Length -le 4194304) { $Lines = @($Lines + ("C`t-`t" + (ConvertTo-Base64 ([IO.File]::ReadAllBytes($data))))) }
        [IO.File]::Delete($data)
    }
    [string]$look = Get-AnswerPath $Name 'look'
    if ([IO.File]::Exists($look)) {
        [IO.File]::Move($look, [IO.Path]::Combine($Parts, $Name + '.txt'))
        return
    }
    Save-Part $Name @(@($script:Act) + $Lines)
    [string[]]$told = @($Lines | Where-Object { $_.StartsWith("R`t", 'Ordinal') })
    if ($told.Length -gt 0) { [IO.File]::WriteAllText($CodeFile, $told[0].Split([char]9)[1], $Utf8) }
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
function Invoke-Verb([string]$Name, [string]$Verb, [string]$Package, [string]$Options) {
    for ([int]$turn = 0; $turn -le 5; $turn++) {
        [string]$part = $Name + '-' + $turn + 'a'
        if (-not (Test-Part $part)) {
            Show-Line ($Verb + ': the package is at work')
            [DateTime]$since = [DateTime]::UtcNow
            $ran = Invoke-Program 'cmd.exe' ('/d /s /c ""' + $Package + '\apply.cmd" ' + $Verb + $Options + '"')
            [string[]]$lines = @("R`t" + $ran[0] + "`t" + (ConvertTo-Moment ([DateTime]::UtcNow - $since).TotalSeconds))
            Save-Part $part (@($script:Act) + $lines + @("O`t" + (ConvertTo-Base64 $Utf8.GetBytes($ran[1]))) + (Get-Told))
            Show-Line ($Verb + ': ended with ' + $ran[0])
            if (($ran[0] -eq 1641) -and (-not (Test-Over))) {
                Show-Line $Anew
                exit 0
            }
        }
        [string]$said = [IO.File]::ReadAllText([IO.Path]::Combine($Parts, $part + '.txt'), $Utf8)
        if ($said.IndexOf("`nR`t1641`t", [StringComparison]::Ordinal) -lt 0) { return }
        [string]$after = $Name + '-' + $turn + 'b'
        if (-not (Test-Part $after)) {
            if (Test-Over) { [DateTime]$until = [DateTime]::UtcNow } else { [DateTime]$until = [DateTime]::UtcNow.AddMinutes(30) }
            while ((-not (Test-Over)) -and ([DateTime]::UtcNow -lt $until)) { [Threading.Thread]::Sleep(1000) }
            Save-Part $after (@("M`trestarted") + (Get-Told))
        }
        if (Test-Over) { return }
    }
}

# A picture is not taken of what was put here to be carried out: the outermost folder that had to be made for it.
function Add-Placed([string]$Path) {
    [string]$top = $Path
    while (-not [IO.Directory]::Exists([IO.Path]::GetDirectoryName($top))) { $top = [IO.Path]::GetDirectoryName($top) }
    [IO.File]::AppendAllText($Placed, $top + "`n", $Utf8)
}

# What waits for the next start to be replaced or deleted.
function Get-Waiting {
    [Microsoft.Win32.RegistryKey]$key = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('System\CurrentControlSet\Control\Session Manager')
    $names = $key.GetValue('PendingFileRenameOperations', @())
    $key.Dispose()
    return [string]::Join("`n", [string[]]$names)
}

# Starts the computer anew where the last command asked for it, or files wait for that; the machine is looked at afterwards.
function Invoke-Settle([string]$Name) {
    [string]$after = $Name.Substring(0, 3) + 'z-look'
    if (Test-Part $Name) {
        if ([IO.File]::ReadAllText([IO.Path]::Combine($Parts, $Name + '.txt'), $Utf8).StartsWith("M`trestarted", 'Ordinal')) { Save-Look $after }
        return
    }
    if ([IO.File]::Exists($Begun) -and ([IO.File]::ReadAllText($Begun, $Utf8) -eq $Name)) {
        Save-Part $Name @("M`trestarted")
        Save-Look $after
        return
    }
    [string]$code = ''
    if ([IO.File]::Exists($CodeFile)) { $code = [IO.File]::ReadAllText($CodeFile, $Utf8) }
    [string]$before = ''
    if ([IO.File]::Exists($Waiting)) { $before = [IO.File]::ReadAllText($Waiting, $Utf8) }
    if (($code -ne '3010') -and ($code -ne '1641') -and ((Get-Waiting) -eq $before)) { Save-Part $Name @("M`tsettle"); return }
    [IO.File]::WriteAllText($Begun, $Name, $Utf8)
    Show-Line $Anew
    [void](Invoke-Program 'shutdown.exe' '/r /t 5 /f')
    exit 0
}

function Save-Look([string]$Name) {
    if (Test-Part $Name) { return }
    Show-Line ('looking at the machine (' + $Name + ')')
    [string[]]$text = @()
    if ([IO.File]::Exists($Placed)) { $text = @([IO.File]::ReadAllLines($Placed, $Utf8)) }
    Invoke-Operation $Name 'look' $text
    if (-not [IO.File]::Exists($Waiting)) { [IO.File]::WriteAllText($Waiting, (Get-Waiting), $Utf8) }
}

# Copies what is new or another since the first picture, but what the kit itself has put there.
function Save-Kept([string]$Name, [string]$Folder) {
    Show-Line 'keeping what was changed'
    if ([IO.Directory]::Exists($Kept)) { [IO.Directory]::Delete($Kept, $true) }
    [void][IO.Directory]::CreateDirectory($Kept)
    Read-Known $First
    [string[]]$looks = [IO.Directory]::GetFiles($Parts, '*-look.txt')
    [Array]::Sort($looks, [StringComparer]::Ordinal)
    $lines = [Collections.Generic.List[string]]::new()
    $lines.Add($script:Act)
    $lines.Add('yes')
    [int]$number = 0
    foreach ($line in [IO.File]::ReadLines($looks[$looks.Length - 1])) {
        if ($line[0] -cne 'F') { continue }
        [string]$shown = $line.Substring(2, $line.IndexOf([char]9, 2) - 2)
        if ($Known.ContainsKey($shown) -and ($Known[$shown] -ceq $line)) { continue }
        [string]$path = Read-Field $shown
        if ([IO.File]::Exists([IO.Path]::Combine($Work, 'brought\1', [IO.Path]::GetFileName($path))) -and ([IO.Path]::GetDirectoryName($path) -eq $Folder)) { continue }
        $number++
        try { [IO.File]::Copy($path, [IO.Path]::Combine($Kept, '' + $number)) } catch { continue }
        $lines.Add("S`t" + $shown + "`t" + $number)
    }
    Save-Part $Name $lines.ToArray()
}

# One act of the kit. A command that a restart has cut off is not carried out a second time.
function Invoke-Act([string]$Name, [string[]]$Fields) {
    [string[]]$text = @()
    for ([int]$at = 1; $at -lt $Fields.Length; $at++) {
        if ($Fields[$at].StartsWith('kit:', 'Ordinal')) { $text = @($text + [IO.Path]::Combine($Work, $Fields[$at].Substring(4))) } else { $text = @($text + $Fields[$at]) }
    }
    [string]$script:Act = "M`t" + $Fields[0]
    for ([int]$at = 1; $at -lt $Fields.Length; $at++) { $script:Act = $script:Act + "`t" + (ConvertTo-Field $Fields[$at]) }
    if ($Fields[0] -eq 'settle') { Invoke-Settle $Name; return }
    if ($Fields[0] -eq 'verb') { Invoke-Verb $Name $text[0] $text[1] $text[2]; return }
    if (Test-Part $Name) { return }
    if ([IO.File]::Exists($Begun) -and ([IO.File]::ReadAllText($Begun, $Utf8) -eq $Name)) {
        Save-Part $Name @($script:Act, 'cut')
        return
    }
    [string]$operation = $Fields[0]
    switch ($Fields[0]) {
        'idle' {
            Show-Line ('waiting ' + $text[0] + ' seconds, to see what changes by itself')
            [Threading.Thread]::Sleep(1000 * [int]$text[0])
            Save-Part $Name @($script:Act)
            return
        }
        'look' { Save-Look $Name; return }
        'copy' { if ($text.Length -lt 3) { Add-Placed $text[1] } }
        'keep' { Save-Kept $Name $text[0]; return }
        'watch' { Show-Line $(if ($text[3] -eq 'hand') { 'now do by hand what is to be done, and close its windows: ' + $text[2] } else { 'running ' + $text[2] }) }
        'run' { Show-Line ('running ' + $text[2]) }
        'detect' { Show-Line 'asking whether it is detected'; $operation = 'run' }
    }
    if (($operation -eq 'run') -or ($operation -eq 'watch')) { [IO.File]::WriteAllText($Begun, $Name, $Utf8) }
    try { Invoke-Operation $Name $operation $text } catch { Send-Answer $Name @('error', (ConvertTo-Field $_.Exception.GetBaseException().Message)) }
}

function Invoke-Play {
    if (-not (Test-Part '000-about')) { Save-Part '000-about' (Get-About) }
    [int]$number = 0
    foreach ($act in $Kit['acts']) {
        $number++
        Invoke-Act ($number.ToString('000', [Globalization.CultureInfo]::InvariantCulture) + '-' + $act[0]) $act
    }
    Save-Result
}

# The result and the contents of files, as one archive. Gives where it lies.
function Save-Contents([string]$Result) {
    [void][Reflection.Assembly]::LoadWithPartialName('System.IO.Compression')
    [string]$to = [IO.Path]::Combine($Here, $Kit['result'])
    [IO.FileStream]$file = [IO.FileStream]::new($to + '.new', 'Create')
    $packed = [IO.Compression.ZipArchive]::new($file, [IO.Compression.ZipArchiveMode]::Create)
    foreach ($path in @(@($Result) + [IO.Directory]::GetFiles($Kept))) {
        [string]$name = [IO.Path]::GetFileName($path)
        if ($path -ne $Result) { $name = 'kept/' + $name }
        [IO.Stream]$out = $packed.CreateEntry($name, [IO.Compression.CompressionLevel]::Fastest).Open()
        [IO.FileStream]$from = [IO.File]::OpenRead($path)
        try { $from.CopyTo($out) } finally { $from.Dispose(); $out.Dispose() }
    }
    $packed.Dispose()
    if ([IO.File]::Exists($to)) { [IO.File]::Delete($to) }
    [IO.File]::Move($to + '.new', $to)
    return $to
}

# One file: every part in its order, and a seal over all of it.
function Save-Result {
    [string[]]$files = [IO.Directory]::GetFiles($Parts, '*.txt')
    [Array]::Sort($files, [StringComparer]::Ordinal)
    [bool]$with_contents = [IO.Directory]::Exists($Kept)
    [string]$to = [IO.Path]::Combine($Here, $Kit['result'])
    if ($with_contents) { $to = [IO.Path]::Combine($Work, 'result.gz') }
    [Security.Cryptography.HMACSHA256]$seal = [Security.Cryptography.HMACSHA256]::new([Convert]::FromBase64String($Kit['key']))
    [IO.FileStream]$file = [IO.FileStream]::new($to + '.new', 'Create')
    [IO.Compression.GZipStream]$out = [IO.Compression.GZipStream]::new($file, [IO.Compression.CompressionLevel]::Optimal)
    function Add-Bytes([byte[]]$Data) {
        [void]$seal.TransformBlock($Data, 0, $Data.Length, $Data, 0)
        $out.Write($Data, 0, $Data.Length)
    }
    Add-Bytes $Utf8.GetBytes("yendo-result`t2`t" + $Kit['digest'] + "`t" + $Kit['name'] + "`t" + $Account + "`n")
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
    if ($with_contents) { $to = Save-Contents $to }
    Show-Line ('done: ' + $to)
    Show-Line ('next, where Yendo is: ' + $Kit['next'] + '; then put this machine back')
}

# --- who does it -----------------------------------------------------------------------------------------------------

function Get-Line { return '-NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $Here + '\play.ps1" -Inner -Account ' + $Account + $(if ($Although -ne '') { ' -Although "' + $Although.Replace('"', "'") + '"' } else { '' }) }

function Start-Play {
    if (-not [Security.Principal.WindowsPrincipal]::new([Security.Principal.WindowsIdentity]::GetCurrent()).IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)) { Stop-With 'start play.cmd as administrator: what is proved is an installation for the whole machine' }
    if ($Start -and ($Account -ne 'system')) { Stop-With 'a play at a desk needs a person who stays; only the system account is started and left alone' }
    if ($Here.StartsWith('\\', 'Ordinal')) { Stop-With 'copy this folder onto the computer first: the system account does not reach the share that it lies on' }
    if (($Kit['checked'] -ne '') -and ((Get-Digest ([IO.Path]::Combine($Here, $Kit['checked']))) -ne $Kit['digest'])) { Stop-With 'the package in this folder is not the one that the kit was made for; make the kit again' }
    [Console]::WriteLine($Kit['what'] + ' on this computer, as ' + $(if ($Account -eq 'system') { 'the system account' } else { 'the administrator who started it' }) + '. Do it on a machine that is put back afterwards.')
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
    # what is carried out lies where ordinary users cannot change it
    foreach ($name in @('package', 'brought')) {
        [string]$from = [IO.Path]::Combine($Here, $name)
        if ([IO.Directory]::Exists($from)) { Copy-Tree $from ([IO.Path]::Combine($Work, $name)) }
    }
    [void][IO.Directory]::CreateDirectory($Parts)
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
        if ($text.TrimEnd().EndsWith($Anew, 'Ordinal')) { exit 0 }
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
