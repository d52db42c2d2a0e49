# --- a picture of this machine: files with their hashes, registry, programs that run ------------------------------

# What is never looked into, below the drive of the system: it changes by itself all the time, and no package puts
# anything there by hand.
[string[]]$Unseen = @(
    '\$Recycle.Bin', '\System Volume Information', '\Windows\WinSxS', '\Windows\servicing', '\Windows\SoftwareDistribution',
    '\Windows\Prefetch', '\Windows\Logs', '\Windows\CSC', '\Windows\System32\winevt', '\Windows\System32\LogFiles',
    '\Windows\System32\sru', '\Windows\System32\config\TxR', '\ProgramData\Microsoft\Windows Defender',
    '\ProgramData\Microsoft\Search', '\pagefile.sys', '\hiberfil.sys', '\swapfile.sys'
)
# Keys of the registry with the same reason; below HKLM.
[string[]]$UnseenKeys = @(
    'Software\Microsoft\Windows\CurrentVersion\Component Based Servicing', 'Software\Microsoft\Windows\CurrentVersion\SideBySide',
    'Software\Microsoft\Windows Defender', 'System\CurrentControlSet\Enum', 'System\CurrentControlSet\Control\WMI',
    'System\CurrentControlSet\Control\DeviceClasses', 'System\CurrentControlSet\Hardware Profiles\Current'
)
$Known = @{}  # a path -> its line in the first picture: what has kept size and time is not hashed again
[long]$Small = 65536
$Odd = [regex]::new('[%\x00-\x1f]', 'Compiled')

function ConvertTo-Field([string]$Text) {
    if (-not $Odd.IsMatch($Text)) { return $Text }
    return $Odd.Replace($Text, [Text.RegularExpressions.MatchEvaluator]{
            param($match) '%' + ([int][char]$match.Value).ToString('X2') })
}

# Of a program: hash, version and processor.
function Get-ProgramFacts([string]$Path, [bool]$Hash) {
    [string]$sum = '-'
    [string]$version = '-'
    [string]$machine = '-'
    try {
        # of one that is not hashed, its head alone is read
        [IO.FileStream]$stream = [IO.FileStream]::new($Path, 'Open', 'Read', 'ReadWrite, Delete', $(if ($Hash) { 65536 } else { 1 }))
        try {
            [byte[]]$head = [byte[]]::new(4096)
            [int]$count = $stream.Read($head, 0, 4096)
            if (($count -gt 64) -and ($head[0] -eq 77) -and ($head[1] -eq 90)) {
                [int]$at = [BitConverter]::ToInt32($head, 60)
                if (($at -gt 0) -and ($at -lt $count - 6)) { $machine = '' + [BitConverter]::ToUInt16($head, $at + 4) }
            }
            [void]$stream.Seek(0, 'Begin')
            if ($Hash) { $sum = [BitConverter]::ToString($Hasher.ComputeHash($stream)).Replace('-', '') }
        } finally { $stream.Dispose() }
        if ($machine -ne '-') {
            $words = [Diagnostics.FileVersionInfo]::GetVersionInfo($Path)
            [int[]]$numbers = @($words.FileMajorPart, $words.FileMinorPart, $words.FileBuildPart, $words.FilePrivatePart)
            if (($null -ne $words.FileVersion) -or ($numbers[0] + $numbers[1] + $numbers[2] + $numbers[3] -gt 0)) {
                $version = [string]::Join('.', $numbers)
            }
        }
    } catch { }
    return $sum + "`t" + $version + "`t" + $machine
}

# Everything below the drive of the system, but links and what is named above. What lies below Windows is hashed once it
# has changed, the rest from the beginning. Written without a call of a function for each file: there are very many.
function Write-Files([IO.StreamWriter]$Out, [string[]]$Own) {
    [string]$drive = [IO.Path]::GetPathRoot([Environment]::SystemDirectory).TrimEnd([char]'\')
    $skip = [Collections.Generic.HashSet[string]]::new([StringComparer]::OrdinalIgnoreCase)
    foreach ($name in $Unseen) { [void]$skip.Add($drive + $name) }
    foreach ($name in $Own) { [void]$skip.Add($name) }
    $programs = [Collections.Generic.HashSet[string]]::new([StringComparer]::OrdinalIgnoreCase)
    foreach ($name in @('.exe', '.dll', '.sys', '.ocx')) { [void]$programs.Add($name) }
    [string]$system = $drive + '\Windows\'
    [bool]$again = $Known.Count -gt 0
    $hasher = $Hasher
    $todo = [Collections.Generic.Stack[IO.DirectoryInfo]]::new()
    $todo.Push([IO.DirectoryInfo]::new($drive + '\'))
    while ($todo.Count -gt 0) {
        $folder = $todo.Pop()
        [bool]$hash = $again -or (-not ($folder.FullName + '\').StartsWith($system, 'OrdinalIgnoreCase'))
        try { $entries = $folder.GetFileSystemInfos() } catch { continue }
        foreach ($entry in $entries) {
            # a path that is too long for this framework is passed over
            try {
                $path = $entry.FullName
                if ($skip.Contains($path) -or (([int]$entry.Attributes -band 1024) -ne 0)) { continue }
                $shown = $path
                if ($Odd.IsMatch($path)) { $shown = ConvertTo-Field $path }
                if ($entry -is [IO.DirectoryInfo]) { $Out.WriteLine("D`t$shown"); $todo.Push($entry); continue }
                $size = $entry.Length
                $head = "F`t$shown`t$size`t" + $entry.LastWriteTimeUtc.Ticks + "`t"
                $kind = $entry.Extension
                $before = $null
                if ($again) { $before = $Known[$shown] }
                if (($null -ne $before) -and $before.StartsWith($head, 'Ordinal')) { $Out.WriteLine($before) }
                elseif ($programs.Contains($kind)) { $Out.WriteLine($head + (Get-ProgramFacts $path $hash)) }
                elseif ($hash) {
                    $sum = '-'
                    try {
                        # a buffer for each of very many small files costs more than reading them
                        $stream = [IO.FileStream]::new($path, 'Open', 'Read', 'ReadWrite, Delete', [Math]::Min($size + 1, 65536))
                        $sum = [BitConverter]::ToString($hasher.ComputeHash($stream)).Replace('-', '')
                        $stream.Dispose()
                    } catch { }
                    $Out.WriteLine("$head$sum`t-`t-")
                } else { $Out.WriteLine("$head-`t-`t-") }
                if ((($kind -eq '.lnk') -or ($kind -eq '.ini')) -and ($size -le $Small)) {
                    $Out.WriteLine("B`t$shown`t" + [Convert]::ToBase64String([IO.File]::ReadAllBytes($path)))
                }
            } catch { continue }
        }
    }
}

# Written without a call of a function for each value: there are hundreds of thousands.
function Write-Key([IO.StreamWriter]$Out, [string]$Hive, [Microsoft.Win32.RegistryKey]$Root, [string]$Top, [string]$As) {
    $todo = [Collections.Generic.Stack[string]]::new()
    $todo.Push($Top)
    $skip = [Collections.Generic.HashSet[string]]::new([StringComparer]::OrdinalIgnoreCase)
    if ($Hive -eq 'HKLM') { foreach ($name in $UnseenKeys) { [void]$skip.Add($name) } }
    [int]$cut = $Top.Length
    while ($todo.Count -gt 0) {
        $path = $todo.Pop()
        if ($skip.Contains($path)) { continue }
        try {
            $key = $Root.OpenSubKey($path)
            if ($null -eq $key) { continue }
            $inner = $key.GetSubKeyNames()
            $shown = ($As + $path.Substring($cut)).TrimStart([char]'\')
            if ($Odd.IsMatch($shown)) { $shown = ConvertTo-Field $shown }
            $Out.WriteLine("K`t$Hive`t$shown`t" + $inner.Length)
            foreach ($name in $key.GetValueNames()) {
                $data = $key.GetValue($name, $null, 'DoNotExpandEnvironmentNames')
                if ($data -is [string]) { if ([int]$key.GetValueKind($name) -eq 2) { $text = 'expand=' + $data } else { $text = 'sz=' + $data } }
                elseif ($data -is [int]) { $text = 'dword=' + ([long]$data -band 4294967295) }
                elseif ($data -is [byte[]]) { $text = 'binary=' + [BitConverter]::ToString($data).Replace('-', '') }
                elseif ($data -is [long]) { $text = 'qword=' + $data }
                elseif ($data -is [string[]]) { $text = 'multi=' + [string]::Join("`0", $data) }
                else { $text = 'binary=' }
                if ($Odd.IsMatch($name) -or $Odd.IsMatch($text)) { $Out.WriteLine("V`t" + (ConvertTo-Field $name) + "`t" + (ConvertTo-Field $text)) }
                else { $Out.WriteLine("V`t$name`t$text") }
            }
            $key.Dispose()
            foreach ($name in $inner) { if ($path -eq '') { $todo.Push($name) } else { $todo.Push("$path\$name") } }
        } catch { continue }
    }
}

function Write-Registry([IO.StreamWriter]$Out) {
    [Microsoft.Win32.RegistryKey]$machine = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64')
    Write-Key $Out 'HKLM' $machine 'Software' 'Software'
    Write-Key $Out 'HKLM' $machine 'System\CurrentControlSet' 'System\CurrentControlSet'
    # whoever runs this sees an own hive; everybody else's by its identifier, also where it has to be loaded first
    [Microsoft.Win32.RegistryKey]$users = [Microsoft.Win32.RegistryKey]::OpenBaseKey('Users', 'Registry64')
    [string]$own = [Security.Principal.WindowsIdentity]::GetCurrent().User.Value
    [string[]]$seen = @($own, ($own + '_Classes'))
    if ($own -eq 'S-1-5-18') { $seen = @($seen + '.DEFAULT') }
    Write-Key $Out 'HKCU' ([Microsoft.Win32.RegistryKey]::OpenBaseKey('CurrentUser', 'Registry64')) '' ''
    try { [void](Open-UserHives) } catch { }
    foreach ($name in $users.GetSubKeyNames()) {
        if (($seen -contains $name) -or $name.EndsWith('_Classes', 'Ordinal') -or ($name -eq 'S-1-5-18')) { continue }
        Write-Key $Out 'HKU' $users $name $name.Replace('yendo-default', 'default')
    }
    $users.Dispose()
    try { Close-UserHives } catch { }
}

# The picture as lines; `Own` are folders that belong to whoever looks.
function Write-Picture([string]$Path, [string[]]$Own) {
    $script:Hasher = [Security.Cryptography.SHA256]::Create()
    [IO.StreamWriter]$out = [IO.StreamWriter]::new($Path, $false, [Text.UTF8Encoding]::new($false), 65536)
    $out.NewLine = "`n"
    try {
        Write-Files $out $Own
        Write-Registry $out
        foreach ($one in [Diagnostics.Process]::GetProcesses()) { $out.WriteLine("P`t" + (ConvertTo-Field $one.ProcessName)) }
    } finally { $out.Dispose() }
}

# What the first picture said of each file.
function Read-Known([string]$Path) {
    if ($Known.Count -gt 0) { return }
    foreach ($line in [IO.File]::ReadLines($Path)) {
        if ($line[0] -ceq 'F') { $Known[$line.Substring(2, $line.IndexOf([char]9, 2) - 2)] = $line }
    }
}
