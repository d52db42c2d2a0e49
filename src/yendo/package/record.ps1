# --- changes, each written down before it is made ---------------------------------------------------------------------------

# One line at the end of a file, on the disk before anything else happens; a line that was cut off before is taken away.
function Add-Line([string]$Path, [string]$Text) {
    [byte[]]$data = $Utf8.GetBytes($Text + "`r`n")
    [IO.FileStream]$stream = [IO.FileStream]::new($Path, 'OpenOrCreate', 'ReadWrite', 'Read', 4096, 'WriteThrough')
    try {
        [long]$end = $stream.Length
        while ($end -gt 0) {
            [void]$stream.Seek($end - 1, 'Begin')
            if ($stream.ReadByte() -eq 10) { break }
            $end = $end - 1
        }
        $stream.SetLength($end)
        [void]$stream.Seek($end, 'Begin')
        $stream.Write($data, 0, $data.Length)
        $stream.Flush($true)
    } finally { $stream.Dispose() }
}

$script:Unsaved = $null

# Before the journal says that a step is done, what it has written to the registry is on the disk.
function Save-Registry {
    if ($null -ne $script:Unsaved) { $script:Unsaved.Flush(); $script:Unsaved = $null }
}

function New-Journal {
    [string]$beside = $JournalFile + '.new'
    [IO.File]::WriteAllText($beside, "begin`t" + $Verb + "`t" + $Plan['run'] + "`r`n", $Utf8)
    [void](Get-Native)::MoveFileExW($beside, $JournalFile, 9)
    Add-Line $RecordFile 'B'
}

function Get-Record { return ,(Read-Record $RecordFile) }

function Read-Record([string]$File) {
    if (-not [IO.File]::Exists($File)) { return ,[string[]]@() }
    [string[]]$lines = [regex]::Split([IO.File]::ReadAllText($File, $Utf8), "`r`n")
    if ($lines.Length -lt 2) { return ,[string[]]@() }
    return ,[string[]]@($lines[0..($lines.Length - 2)])
}

function Join-Record([string[]]$Parts) { return [string]::Join("`t", @($Parts | ForEach-Object { Format-Field $_ })) }

function Add-Record {
    [string]$line = Join-Record $args
    [string[]]$lines = Get-Record
    for ([int]$at = $lines.Length - 1; $at -ge 0; $at--) {
        if ($lines[$at] -ceq 'B') { break }
        if ($lines[$at] -ceq $line) { return }
    }
    [void][IO.Directory]::CreateDirectory($Room)
    Add-Line $RecordFile $line
}

# Keeps the first lines of the record; without any, neither the record nor what was kept aside.
function Clear-Record([int]$Count) {
    [string]$aside = [IO.Path]::Combine($Room, 'kept')
    if ($Count -gt 0) {
        [string[]]$lines = Get-Record
        [string]$beside = $RecordFile + '.new'
        [IO.File]::WriteAllText($beside, [string]::Join("`r`n", $lines[0..($Count - 1)]) + "`r`n", $Utf8)
        [void](Get-Native)::MoveFileExW($beside, $RecordFile, 9)
        return
    }
    if ([IO.File]::Exists($RecordFile)) { [IO.File]::Delete($RecordFile) }
    Remove-Own $aside
}

# --- what several packages have placed alike: it goes with the last of them ---------------------------------------

# Whether the step at work is in every package of the office.
$script:Everybodys = $false

# A line of a record as its letter and fields.
function Split-Record([string]$Line) { return ,[string[]]@($Line.Split([char]9) | ForEach-Object { Read-Field $_ }) }

# What lines are about, each with their numbers: two on the same thing give the same; one that cannot be shared gives
# nothing. Fields are taken as they are written, and without a call of a function for each: a record may be long.
function Get-Places([string[]]$Lines) {
    $places = @{}
    for ([int]$at = 0; $at -lt $Lines.Length; $at++) {
        $parts = $Lines[$at].Split([char]9)
        $place = switch ($parts[0]) {
            'F' { "F`t" + $parts[3] }
            'V' { "V`t" + [string]::Join("`t", $parts[3..6]) }
            'P' { "P`t" + $parts[1].TrimEnd([char]'\') + "`t" + [string]::Join("`t", $parts[2..5]) }
            'U' { if ($parts[1].IndexOf('{') -lt 0) { "U`t" + $parts[1] } }
        }
        if ($null -eq $place) { continue }
        $place = $place.ToLowerInvariant()
        if (-not $places.ContainsKey($place)) { $places[$place] = [Collections.ArrayList]::new() }
        [void]$places[$place].Add($at)
    }
    return $places
}

function Get-Place([string]$Line) {
    foreach ($place in (Get-Places @(,$Line)).Keys) { return $place }
    return ''
}

# The records of the other packages on this machine.
function Get-Neighbours {
    [string]$rooms = [IO.Path]::GetDirectoryName($Room)
    if (-not [IO.Directory]::Exists($rooms)) { return ,@() }
    [string[]]$folders = [IO.Directory]::GetDirectories($rooms)
    [Array]::Sort($folders, [StringComparer]::OrdinalIgnoreCase)
    $found = [Collections.ArrayList]::new()
    foreach ($folder in $folders) {
        [string]$file = [IO.Path]::Combine($folder, 'record.txt')
        if (($folder -eq $Room) -or (-not [IO.File]::Exists($file))) { continue }
        [string]$stamp = Get-Stamp $file
        [string[]]$lines = Read-Record $file
        [void]$found.Add(@{ 'room' = $folder; 'file' = $file; 'stamp' = $stamp; 'lines' = $lines; 'places' = (Get-Places $lines) })
    }
    return ,$found.ToArray()
}

# What every package of the office places is there already: it is needed by one more. What is only taken away again, a
# command's work or an entry, is that of another package, or not to be removed.
function Add-Found {
    if (-not $script:Everybodys) { return }
    [bool]$known = 'FV'.IndexOf($args[0]) -ge 0
    [string]$place = Get-Place (Join-Record $args)
    if (-not $known) { foreach ($other in (Get-Neighbours)) { if ($other['places'].ContainsKey($place)) { $known = $true } } }
    if ($known) { Add-Record @args }
}

# Nobody else's run may change that record meanwhile, but one that has started this one and waits for it.
function Save-Neighbour($Other) {
    if ($Above.IndexOf(';' + $Other['room'] + ';', [StringComparison]::OrdinalIgnoreCase) -ge 0) { Write-Neighbour $Other; return }
    [IO.FileStream]$held = $null
    [DateTime]$patience = [DateTime]::UtcNow.AddSeconds(60)
    while ($null -eq $held) {
        try { $held = [IO.File]::Open([IO.Path]::Combine($Other['room'], 'lock'), 'OpenOrCreate', 'ReadWrite', 'None') } catch {
            if ([DateTime]::UtcNow -ge $patience) { throw ('a package that needs the same is at work: ' + [IO.Path]::GetFileName($Other['room'])) }
            [Threading.Thread]::Sleep(500)
        }
    }
    try { Write-Neighbour $Other } finally { $held.Dispose() }
}

function Get-Stamp([string]$File) { return '' + [IO.FileInfo]::new($File).Length + ' ' + [IO.File]::GetLastWriteTimeUtc($File).Ticks }

function Write-Neighbour($Other) {
    if ((Get-Stamp $Other['file']) -ne $Other['stamp']) { throw ('a package that needs the same has changed meanwhile: ' + [IO.Path]::GetFileName($Other['room'])) }
    [string]$beside = $Other['file'] + '.new'
    [IO.File]::WriteAllText($beside, [string]::Join("`r`n", $Other['lines']) + "`r`n", $Utf8)
    [void](Get-Native)::MoveFileExW($beside, $Other['file'], 9)
    $Other['stamp'] = Get-Stamp $Other['file']
}

# Whether another package needs what a line placed; its record has the line's "before" then.
function Move-Claim($Neighbours, [string]$Line, [string[]]$Parts) {
    if ($Neighbours.Length -eq 0) { return $false }
    [string]$place = Get-Place $Line
    if ($place -eq '') { return $false }
    foreach ($other in $Neighbours) {
        if (-not $other['places'].ContainsKey($place)) { continue }
        if ('FV'.IndexOf($Parts[0]) -lt 0) { return $true }
        foreach ($at in $other['places'][$place]) {
            [string[]]$theirs = Split-Record $other['lines'][$at]
            if ($theirs[2] -cne $Parts[1]) { continue }
            if (($Parts[0] -eq 'F') -and ($Parts[2] -ne '-')) { Copy-Aside $Parts[2] $other['room'] }
            $theirs[2] = $Parts[2]
            $other['lines'][$at] = Join-Record $theirs
            Save-Neighbour $other
            break
        }
        return $true
    }
    return $false
}

function Copy-Aside([string]$Name, [string]$To) {
    [string]$from = [IO.Path]::Combine($Room, 'kept', $Name)
    [string]$aside = [IO.Path]::Combine($To, 'kept')
    if (-not [IO.File]::Exists($from)) { return }
    [void][IO.Directory]::CreateDirectory($aside)
    [IO.File]::Copy($from, [IO.Path]::Combine($aside, $Name), $true)
}

# Whether a line is about something in a folder or key that another line says was made.
function Test-Within([string[]]$Made, [string[]]$Other) {
    if ($Made[0] -eq 'D') {
        [int]$at = switch ($Other[0]) { 'D' { 1 } 'F' { 3 } default { 0 } }
        return ($at -gt 0) -and ($Other[$at] + '\').StartsWith($Made[1] + '\', 'OrdinalIgnoreCase')
    }
    [int]$at = switch ($Other[0]) { 'K' { 1 } 'V' { 3 } 'P' { 2 } default { 0 } }
    if (($at -eq 0) -or ($Other[$at] -cne $Made[1]) -or ($Other[$at + 1] -cne $Made[2])) { return $false }
    return ($Other[$at + 2] + '\').StartsWith($Made[3] + '\', 'OrdinalIgnoreCase')
}

# The same of a folder or key that was made, and that is not empty.
function Move-MadeClaim($Neighbours, [string[]]$Parts) {
    [string]$line = Join-Record $Parts
    foreach ($other in $Neighbours) {
        [bool]$inside = $false
        foreach ($text in $other['lines']) { if (Test-Within $Parts (Split-Record $text)) { $inside = $true; break } }
        if (-not $inside) { continue }
        if ([Array]::IndexOf($other['lines'], $line) -lt 0) {
            [int]$first = [Array]::IndexOf($other['lines'], 'B') + 1
            [Collections.ArrayList]$lines = [Collections.ArrayList]::new($other['lines'])
            $lines.Insert($first, $line)
            $other['lines'] = [string[]]$lines.ToArray([string])
            $other['places'] = Get-Places $other['lines']
            Save-Neighbour $other
        }
        return $true
    }
    return $false
}

# --- changes, each written down before it is made, go on ----------------------------------------------------------

function Save-Old([string]$Path) {
    [string]$name = Get-Digest $Path
    [string]$aside = [IO.Path]::Combine($Room, 'kept')
    [string]$to = [IO.Path]::Combine($aside, $name)
    if ([IO.File]::Exists($to)) { return $name }
    [void][IO.Directory]::CreateDirectory($aside)
    [IO.File]::Copy($Path, $to + '.new', $true)
    [IO.File]::SetAttributes($to + '.new', 'Normal')
    [void](Get-Native)::MoveFileExW($to + '.new', $to, 9)
    return $name
}

function New-Folders([string]$Path) {
    if ([string]::IsNullOrEmpty($Path) -or [IO.Directory]::Exists($Path)) { return }
    Assert-Plain $Path
    New-Folders ([IO.Path]::GetDirectoryName($Path))
    Add-Record 'D' $Path
    [void][IO.Directory]::CreateDirectory($Path)
}

function Start-Placing([string]$Path, [string]$Digest) {
    Assert-Plain $Path
    New-Folders ([IO.Path]::GetDirectoryName($Path))
    [string]$old = '-'
    if ([IO.File]::Exists($Path)) { $old = Save-Old $Path }
    Add-Record 'F' $Digest $old $Path
    return $Path + '.yendo-new'
}

function Complete-Placing([string]$Beside, [string]$Path) {
    [IO.File]::SetAttributes($Beside, 'Normal')
    if (-not [IO.File]::Exists($Path)) { [IO.File]::Move($Beside, $Path); return }
    # replacing keeps the rights of the file that was there. The system puts that one aside for a moment, under a random
    # name where it is not given one, and a run that is cut off just then could not tidy up what it cannot name.
    [string]$aside = $Path + '.yendo-old'
    [IO.File]::SetAttributes($Path, 'Normal')
    [IO.File]::Replace($Beside, $Path, $aside)
    [IO.File]::Delete($aside)
}

# What a run that was cut off has left beside a file; a replacement that was half done is taken back first.
function Clear-Beside([string]$Path) {
    Remove-Half ($Path + '.yendo-new')
    [string]$aside = $Path + '.yendo-old'
    if (-not [IO.File]::Exists($aside)) { return }
    if ([IO.File]::Exists($Path)) { [IO.File]::Delete($aside) } else { [IO.File]::Move($aside, $Path) }
}

# Before a run goes on: its steps see the files as they were before, or as they are to be, and nothing beside them.
function Clear-HalfPlaced {
    foreach ($line in (Get-Record)) { if ($line[0] -ceq 'F') { Clear-Beside (Read-Field $line.Split([char]9)[3]) } }
}

# Makes a file this one; false where it was so.
function Set-FileFrom([string]$Path, [string]$From, [string]$Digest) {
    if ([IO.File]::Exists($Path) -and ((Get-Digest $Path) -eq $Digest)) { Add-Found 'F' $Digest $Digest $Path; return $false }
    [string]$beside = Start-Placing $Path $Digest
    try { [IO.File]::Copy($From, $beside, $true); Complete-Placing $beside $Path } catch { Remove-Half $beside; throw }
    return $true
}

# Where a disk is full, nothing half stays beside the file.
function Remove-Half([string]$Beside) { if ([IO.File]::Exists($Beside)) { [IO.File]::SetAttributes($Beside, 'Normal'); [IO.File]::Delete($Beside) } }

function Set-FileBytes([string]$Path, [byte[]]$Data) {
    [string]$sum = Get-BytesDigest $Data
    if ([IO.File]::Exists($Path) -and ((Get-Digest $Path) -eq $sum)) { Add-Found 'F' $sum $sum $Path; return $false }
    [string]$beside = Start-Placing $Path $sum
    try { [IO.File]::WriteAllBytes($beside, $Data); Complete-Placing $beside $Path } catch { Remove-Half $beside; throw }
    return $true
}

function Remove-Recorded([string]$Path, [bool]$Keep) {
    if (-not [IO.File]::Exists($Path)) { return $false }
    Assert-Plain $Path
    if ($Keep) { Add-Record 'X' (Save-Old $Path) $Path }
    [IO.File]::SetAttributes($Path, 'Normal')
    [IO.File]::Delete($Path)
    return $true
}

# Takes an empty folder away; whether it did.
function Remove-Folder([string]$Path) {
    if ((-not [IO.Directory]::Exists($Path)) -or ([IO.Directory]::GetFileSystemEntries($Path).Length -gt 0)) { return $false }
    Assert-Plain $Path
    [IO.Directory]::Delete($Path)
    return $true
}

# --- the registry -------------------------------------------------------------------------------------------------------------------

function Get-Hive([string]$Hive, [string]$View) {
    [string]$root = switch ($Hive) { 'HKCU' { 'CurrentUser' } 'HKU' { 'Users' } default { 'LocalMachine' } }
    return [Microsoft.Win32.RegistryKey]::OpenBaseKey($root, 'Registry' + $View)
}

function Join-Value([string]$Kind, $Data) {
    if ($Kind -eq 'multi') { return 'multi=' + [string]::Join("`0", @($Data)) }
    return $Kind + '=' + $Data
}

function Get-Value([string]$Hive, [string]$View, [string]$Key, [string]$Name) {
    [Microsoft.Win32.RegistryKey]$opened = (Get-Hive $Hive $View).OpenSubKey($Key)
    if ($null -eq $opened) { return '-' }
    $found = $opened.GetValue($Name, $null, 'DoNotExpandEnvironmentNames')
    if ($null -eq $found) { return '-' }
    switch ($opened.GetValueKind($Name)) {
        'DWord' { return 'dword=' + ([long]$found -band 4294967295) }
        'QWord' { return 'qword=' + $found }
        'ExpandString' { return 'expand=' + $found }
        'MultiString' { return 'multi=' + [string]::Join("`0", $found) }
        'Binary' { return 'binary=' + [BitConverter]::ToString($found).Replace('-', '').ToLowerInvariant() }
    }
    return 'sz=' + $found
}

function Set-Value([string]$Hive, [string]$View, [string]$Key, [string]$Name, [string]$Value) {
    if ($Value -eq '-') {
        [Microsoft.Win32.RegistryKey]$opened = (Get-Hive $Hive $View).OpenSubKey($Key, $true)
        if ($null -ne $opened) { $opened.DeleteValue($Name, $false); $script:Unsaved = $opened }
        return
    }
    [Microsoft.Win32.RegistryKey]$made = (Get-Hive $Hive $View).CreateSubKey($Key)
    $script:Unsaved = $made
    [string]$data = $Value.Substring($Value.IndexOf('=') + 1)
    switch ($Value.Substring(0, $Value.IndexOf('='))) {
        'dword' { $made.SetValue($Name, [BitConverter]::ToInt32([BitConverter]::GetBytes([long]$data), 0), 'DWord') }
        'qword' { $made.SetValue($Name, [long]$data, 'QWord') }
        'expand' { $made.SetValue($Name, $data, 'ExpandString') }
        'multi' { [string[]]$items = @(); if ($data -ne '') { $items = $data.Split([char]0) }; $made.SetValue($Name, $items, 'MultiString') }
        'binary' {
            [byte[]]$bytes = [byte[]]::new($data.Length / 2)
            for ([int]$at = 0; $at -lt $bytes.Length; $at++) { $bytes[$at] = [Convert]::ToByte($data.Substring(2 * $at, 2), 16) }
            $made.SetValue($Name, $bytes, 'Binary')
        }
        default { $made.SetValue($Name, $data, 'String') }
    }
}

function New-Keys([string]$Hive, [string]$View, [string]$Key) {
    if ($Key -eq '') { return }
    if ($null -ne (Get-Hive $Hive $View).OpenSubKey($Key)) { return }
    [int]$cut = $Key.LastIndexOf('\')
    if ($cut -gt 0) { New-Keys $Hive $View $Key.Substring(0, $cut) }
    Add-Record 'K' $Hive $View $Key
    [void](Get-Hive $Hive $View).CreateSubKey($Key)
}

# Sets a value ("type=data"), or takes it away ("-"); false where it was so.
function Set-Recorded([string]$Hive, [string]$View, [string]$Key, [string]$Name, [string]$Value) {
    [string]$before = Get-Value $Hive $View $Key $Name
    if ($before -ceq $Value) { Add-Found 'V' $Value $Value $Hive $View $Key $Name; return $false }
    if ($Value -ne '-') { New-Keys $Hive $View $Key }
    Add-Record 'V' $Value $before $Hive $View $Key $Name
    Set-Value $Hive $View $Key $Name $Value
    return $true
}

# Sets a list of entries to one that has this too; others may change the rest of it meanwhile.
function Add-Entry([string]$Entry, [string]$Hive, [string]$View, [string]$Key, [string]$Name, [string]$Whole) {
    if ((Get-Value $Hive $View $Key $Name) -ceq $Whole) { Add-Found 'P' $Entry $Hive $View $Key $Name; return }
    New-Keys $Hive $View $Key
    Add-Record 'P' $Entry $Hive $View $Key $Name
    Set-Value $Hive $View $Key $Name $Whole
}

# The entries of a list that are not this one; they compare without regard to case and a last backslash.
function Get-OtherEntries([string]$List, [string]$Entry) {
    [string]$wanted = $Entry.TrimEnd([char]'\').ToLowerInvariant()
    return ,[string[]]@($List.Split([char]';') | Where-Object { ($_ -ne '') -and ($_.TrimEnd([char]'\').ToLowerInvariant() -ne $wanted) })
}

function Remove-Entry([string]$Entry, [string]$Hive, [string]$View, [string]$Key, [string]$Name) {
    [string]$found = Get-Value $Hive $View $Key $Name
    if ($found -eq '-') { return }
    [int]$cut = $found.IndexOf('=') + 1
    [string]$text = [string]::Join(';', (Get-OtherEntries $found.Substring($cut) $Entry))
    [string[]]$all = @($found.Substring($cut).Split([char]';') | Where-Object { $_ -ne '' })
    if ([string]::Join(';', $all) -ceq $text) { return }
    if ($text -eq '') { Set-Value $Hive $View $Key $Name '-' } else { Set-Value $Hive $View $Key $Name ($found.Substring(0, $cut) + $text) }
    Tell changed 'removed' ($Hive + '\' + $Key + '\' + $Name + ': ' + $Entry)
}

function Remove-Tree([string]$Hive, [string]$View, [string]$Key) {
    [Microsoft.Win32.RegistryKey]$opened = (Get-Hive $Hive $View).OpenSubKey($Key)
    if ($null -eq $opened) { return }
    foreach ($inner in $opened.GetSubKeyNames()) { Remove-Tree $Hive $View ($Key + '\' + $inner) }
    foreach ($name in $opened.GetValueNames()) { [void](Set-Recorded $Hive $View $Key $name '-') }
    $opened.Dispose()
    (Get-Hive $Hive $View).DeleteSubKey($Key, $false)
}

# Takes an empty key away; whether it did.
function Remove-Key([string]$Hive, [string]$View, [string]$Key) {
    [Microsoft.Win32.RegistryKey]$opened = (Get-Hive $Hive $View).OpenSubKey($Key)
    if ($null -eq $opened) { return $false }
    [bool]$empty = ($opened.SubKeyCount -eq 0) -and ($opened.ValueCount -eq 0)
    $opened.Dispose()
    if ($empty) { (Get-Hive $Hive $View).DeleteSubKey($Key, $false) }
    return $empty
}

function Send-EnvironmentChanged { [void](Get-Native)::SendMessageTimeoutW([IntPtr]65535, 26, [IntPtr]::Zero, 'Environment', 2, 2000, [IntPtr]::Zero) }

# --- taking back --------------------------------------------------------------------------------------------------------------------------

function Undo-Lines([string[]]$Lines, [bool]$RunOnly) {
    $called = @{}
    [object[]]$neighbours = Get-Neighbours
    for ([int]$at = $Lines.Length - 1; $at -ge 0; $at--) {
        [string[]]$parts = Split-Record $Lines[$at]
        if (Move-Claim $neighbours $Lines[$at] $parts) {
            [string]$what = switch ($parts[0]) {
                'F' { $parts[3] } 'V' { $parts[3] + '\' + $parts[5] + '\' + $parts[6] }
                'P' { $parts[2] + '\' + $parts[4] + '\' + $parts[5] + ': ' + $parts[1] } default { $parts[1] }
            }
            Tell left 'another package needs it' $what
            continue
        }
        switch ($parts[0]) {
            'F' { Undo-File $parts[1] $parts[2] $parts[3] }
            'X' { if (-not [IO.File]::Exists($parts[2])) { Assert-Plain $parts[2]; New-Folders ([IO.Path]::GetDirectoryName($parts[2])); Restore-Old $parts[1] $parts[2] } }
            'D' {
                if ([IO.Directory]::Exists($parts[1])) {
                    Assert-Plain $parts[1]
                    if ([IO.Directory]::GetFileSystemEntries($parts[1]).Length -eq 0) { [IO.Directory]::Delete($parts[1]); Tell changed 'removed' $parts[1] }
                    elseif (Move-MadeClaim $neighbours $parts) { Tell left 'another package needs it' $parts[1] }
                    else { Tell left 'it is not empty' $parts[1] }
                }
            }
            'V' {
                [string]$found = Get-Value $parts[3] $parts[4] $parts[5] $parts[6]
                [string]$label = $parts[3] + '\' + $parts[5] + '\' + $parts[6]
                if ($found -ceq $parts[2]) { continue }
                if ($found -cne $parts[1]) { Tell left 'it was changed since' $label; continue }
                Set-Value $parts[3] $parts[4] $parts[5] $parts[6] $parts[2]
                if ($parts[2] -eq '-') { Tell changed 'removed' $label } else { Tell changed 'put back' $label }
            }
            'P' { Remove-Entry $parts[1] $parts[2] $parts[3] $parts[4] $parts[5] }
            'K' {
                [Microsoft.Win32.RegistryKey]$opened = (Get-Hive $parts[1] $parts[2]).OpenSubKey($parts[3])
                if ($null -eq $opened) { continue }
                [bool]$empty = ($opened.SubKeyCount -eq 0) -and ($opened.ValueCount -eq 0)
                $opened.Dispose()
                if ($empty) { (Get-Hive $parts[1] $parts[2]).DeleteSubKey($parts[3], $false); Tell changed 'removed' ($parts[1] + '\' + $parts[3]) }
                elseif (Move-MadeClaim $neighbours $parts) { Tell left 'another package needs it' ($parts[1] + '\' + $parts[3]) }
                else { Tell left 'it is not empty' ($parts[1] + '\' + $parts[3]) }
            }
            { ($_ -eq 'U') -or (($_ -eq 'R') -and $RunOnly) } {
                # a command that several runs wrote down is needed once
                if ($called.ContainsKey($parts[1])) { continue }
                $called[$parts[1]] = $true
                [string]$line = [Environment]::ExpandEnvironmentVariables($parts[1].Replace('{package}', $Here).Replace('{logs}', $VendorLogs))
                Tell command-taken-back (Invoke-Call $line $false)[0]
            }
        }
    }
}

function Undo-File([string]$New, [string]$Old, [string]$Path) {
    Assert-Plain $Path
    Clear-Beside $Path
    [string]$found = '-'
    if ([IO.File]::Exists($Path)) { $found = Get-Digest $Path }
    if ($found -eq $Old) { return }
    if ($found -ne $New) { if ($found -ne '-') { Tell left 'it was changed since' $Path }; return }
    [IO.File]::SetAttributes($Path, 'Normal')
    if ($Old -eq '-') { [IO.File]::Delete($Path); Tell changed 'removed' $Path } else { Restore-Old $Old $Path }
}

function Restore-Old([string]$Name, [string]$Path) {
    [string]$beside = $Path + '.yendo-new'
    [IO.File]::Copy([IO.Path]::Combine($Room, 'kept', $Name), $beside, $true)
    Complete-Placing $beside $Path
    Tell changed 'put back' $Path
}

# Where nothing was begun, nothing of ours stays either.
function Remove-Idle {
    if ($null -ne $Lock) { $Lock.Dispose() }
    [string]$file = [IO.Path]::Combine($Room, 'lock')
    if ([IO.File]::Exists($file)) { [IO.File]::Delete($file) }
    foreach ($folder in @($VendorLogs, $Room, [IO.Path]::GetDirectoryName($Room), [IO.Path]::GetDirectoryName($Kept), $Yendo)) { Remove-Empty $folder }
}
