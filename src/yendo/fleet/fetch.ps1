# Takes what an office's delivery folder has for this computer, and carries it out. As administrator:
#   fetch.cmd -Install -From FOLDER-OR-URL -Root THUMBPRINT   puts it on this computer, with a task of the system account
#   now.cmd, beside this script where it is installed         looks at once, whatever the hours are
#   fetch.cmd -Remove                                         takes it away again
# It believes an index that is signed, not older than the last one and not out of date, and carries out the packages of it
# and nothing else. Made by Yendo. Windows PowerShell 5.1 or later.
param([switch]$Install, [switch]$Remove, [switch]$Now, [switch]$Begin, [string]$From = '', [string]$Root = '', [string]$Reports = '', [string]$Pace = '')

#DATA#

$ErrorActionPreference = 'Stop'
[Text.UTF8Encoding]$Utf8 = [Text.UTF8Encoding]::new($false)
[string]$Yendo = [Environment]::ExpandEnvironmentVariables('%ProgramFiles%\Yendo')
[string]$Base = [IO.Path]::Combine($Yendo, 'fetch')
[string]$TaskName = 'Yendo\fetch'
[string]$Computer = [Environment]::MachineName.ToLowerInvariant()
[long]$MostIndex = 8388608
[string]$Library = 'System.Security, Version=4.0.0.0, Culture=neutral, PublicKeyToken=b03f5f7f11d50a3a'
if ($PSVersionTable['PSVersion'].Major -ge 6) { $Library = 'System.Security.Cryptography.Pkcs' }
$Native = $null

#TEXTS#
#PROGRAM#
#OWN#
#NATIVE#
function Get-Native {
    if ($null -eq $script:Native) {
        $script:Native = New-Native 'YendoFetch' @(
            @('MoveFileExW', 'kernel32.dll', [int], @([string], [string], [int])),
            @('FindFirstFileW', 'kernel32.dll', [IntPtr], @([string], [IntPtr])),
            @('FindClose', 'kernel32.dll', [int], @([IntPtr])))
    }
    return $script:Native
}

# --- small things -----------------------------------------------------------------------------------------------------------

function Get-Own([string]$Name) { return [IO.Path]::Combine($Base, $Name) }

# A file of our own is there whole or not at all, also after a power cut; a private one is read by administrators only.
function Write-Own([string]$Path, [byte[]]$Bytes, [bool]$Private = $false) {
    [string]$beside = $Path + '.new'
    if ($Private) { New-PrivateFile $beside }
    [IO.FileStream]$out = [IO.FileStream]::new($beside, 'Create', 'Write')
    try { $out.Write($Bytes, 0, $Bytes.Length); $out.Flush($true) } finally { $out.Dispose() }
    Move-Own $beside $Path
}

function Move-Own([string]$From, [string]$To) { if ((Get-Native)::MoveFileExW($From, $To, 9) -eq 0) { throw ($To + ' cannot be put in place') } }

function Write-Table([string]$Name, $Table, [bool]$Private = $false) {
    [string[]]$lines = @($Table.Keys | ForEach-Object { $_ + "`t" + (Format-Field ('' + $Table[$_])) })
    [Array]::Sort($lines, [StringComparer]::Ordinal)
    Write-Own (Get-Own $Name) ($Utf8.GetBytes([string]::Join("`n", $lines) + "`n")) $Private
}

function Read-Table([string]$Name) {
    $found = @{}
    if (-not [IO.File]::Exists((Get-Own $Name))) { return $found }
    foreach ($line in [IO.File]::ReadAllText((Get-Own $Name), $Utf8).Split([char]10)) {
        [int]$cut = $line.IndexOf([char]9)
        if ($cut -gt 0) { $found[$line.Substring(0, $cut)] = Read-Field $line.Substring($cut + 1) }
    }
    return $found
}

function Get-Stamp { return [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ssZ') }
function ConvertTo-Time([string]$Text) { return [DateTimeOffset]::Parse($Text, [Globalization.CultureInfo]::InvariantCulture).UtcDateTime }

function Write-Log([string]$Text) {
    [string]$line = (Get-Stamp) + ' ' + [regex]::Replace($Text, '[\x00-\x1f\x7f]+', ' ')
    [Console]::WriteLine($line)
    [string]$path = Get-Own 'fetch.log'
    if ([IO.File]::Exists($path) -and ([IO.FileInfo]::new($path).Length -gt 1048576)) { [void](Get-Native)::MoveFileExW($path, (Get-Own 'fetch.1.log'), 9) }
    [IO.File]::AppendAllText($path, $line + "`r`n", $Utf8)
}

# --- what is fetched --------------------------------------------------------------------------------------------------------

# Puts a file of the delivery folder into a stream, from where that ends on: never more than was said, and with pauses.
function Copy-Remote([string]$Name, [IO.Stream]$To, [long]$Most) {
    [long]$have = $To.Length
    [void]$To.Seek(0, 'End')
    [int]$pace = 0
    if ($Settings['pace']) { $pace = [int]$Settings['pace'] }
    $answer = $null
    if ($Settings['from'] -match '^https?://') {
        $request = [Net.WebRequest]::CreateHttp($Settings['from'].TrimEnd([char]'/') + '/' + $Name)
        $request.Timeout = 30000
        $request.ReadWriteTimeout = 30000
        $request.AllowAutoRedirect = $false
        $request.KeepAlive = $false
        if ($have -gt 0) { $request.AddRange($have) }
        $answer = $request.GetResponse()
        if (($have -gt 0) -and ([int]$answer.StatusCode -ne 206)) { $To.SetLength(0); $have = 0 }
        if (([int]$answer.StatusCode -ne 200) -and ([int]$answer.StatusCode -ne 206)) { throw ('the server answers ' + [int]$answer.StatusCode) }
        [IO.Stream]$in = $answer.GetResponseStream()
    } else {
        [IO.Stream]$in = [IO.FileStream]::new([IO.Path]::Combine($Settings['from'], $Name.Replace('/', '\')), 'Open', 'Read', 'Read')
        if ($have -gt $in.Length) { $To.SetLength(0); $have = 0 }
        [void]$in.Seek($have, 'Begin')
    }
    try {
        [byte[]]$part = [byte[]]::new(65536)
        while (($count = $in.Read($part, 0, $part.Length)) -gt 0) {
            $have = $have + $count
            if ($have -gt $Most) { throw ($Name + ' is longer than the ' + $Most + ' bytes that were said') }
            $To.Write($part, 0, $count)
            if ($pace -gt 0) { [Threading.Thread]::Sleep([int]($count / $pace)) }
        }
    } finally { $in.Dispose(); if ($null -ne $answer) { $answer.Dispose() } }
}

# A file of the folder by its content, fetched once; a part that was fetched before is gone on with.
function Get-Content-Of([string]$Hash, [long]$Size) {
    if ($Hash -notmatch '^[0-9a-f]{64}$') { throw ('no name of a content: ' + $Hash) }
    [string]$path = Get-Own ('content\' + $Hash)
    if ([IO.File]::Exists($path)) { return $path }
    [string]$beside = $path + '.part'
    for ([int]$try = 0; $try -lt 2; $try++) {
        [IO.FileStream]$to = [IO.FileStream]::new($beside, 'OpenOrCreate', 'ReadWrite')
        try { if ($to.Length -lt $Size) { Copy-Remote ('content/' + $Hash.Substring(0, 2) + '/' + $Hash) $to $Size } } catch { if ($to.Length -ge $Size) { $to.SetLength(0) }; throw } finally { $to.Dispose() }
        if (([IO.FileInfo]::new($beside).Length -eq $Size) -and ((Get-Digest $beside) -eq $Hash)) { Move-Own $beside $path; return $path }
        [IO.File]::Delete($beside)
    }
    throw ('what the folder gives for ' + $Hash + ' is something else')
}

# A signed text: its lines. Throws unless it is signed by one of the stated certificates, no older than the last one, and not out of date.
function Get-Signed([string]$Name, [string]$Kind, [string[]]$By) {
    [IO.MemoryStream]$room = [IO.MemoryStream]::new()
    Copy-Remote $Name $room $MostIndex
    [byte[]]$bytes = $room.ToArray()
    [string]$text = $Utf8.GetString($bytes)
    [int]$cut = $text.LastIndexOf("signature`t", [StringComparison]::Ordinal)
    if (($cut -lt 1) -or ($text[$cut - 1] -ne [char]10)) { throw ($Name + ' is not signed') }
    [byte[]]$signed = $Utf8.GetBytes($text.Substring(0, $cut))
    [void][Reflection.Assembly]::Load($Library)
    $message = [Security.Cryptography.Pkcs.SignedCms]::new([Security.Cryptography.Pkcs.ContentInfo]::new($signed), $true)
    $message.Decode([Convert]::FromBase64String($text.Substring($cut + 10).Trim()))
    $message.CheckSignature($true)
    if ($message.SignerInfos.Count -ne 1) { throw ($Name + ' is signed ' + $message.SignerInfos.Count + ' times') }
    [string]$who = (Get-BytesDigest $message.SignerInfos[0].Certificate.RawData).ToUpperInvariant()
    if ([Array]::IndexOf($By, $who) -lt 0) { throw ($Name + ' is signed by a certificate that nobody vouched for here: ' + $who) }
    $found = @{ 'by' = $who; 'lines' = [string[]]@($Utf8.GetString($signed).Split([char]10) | Where-Object { $_ -ne '' }) }
    foreach ($line in $found['lines']) { [string[]]$parts = $line.Split([char]9); if ($parts.Length -eq 2) { $found[$parts[0]] = Read-Field $parts[1] } }
    if ($found['lines'][0] -ne ('yendo-' + $Kind + "`t1")) { throw ($Name + ' is none, or of a later form: ' + $found['lines'][0]) }
    $state = Read-Table 'state.txt'
    if ($state[$Kind] -and ([long]$found['version'] -lt [long]$state[$Kind])) { throw ($Name + ' is older than one that was here: ' + $found['version'] + ' after ' + $state[$Kind]) }
    # a clock that is behind is put right by the newest time that somebody signed; nothing is ever believed for longer because of it
    [DateTime]$time = [DateTime]::UtcNow
    [DateTime]$made = ConvertTo-Time $found['made']
    if ($made.AddDays(-1) -gt $time) { throw ('the clock of this computer is behind: it says ' + (Get-Stamp) + ', and ' + $Name + ' was made ' + $found['made']) }
    if ($state['time'] -and ((ConvertTo-Time $state['time']) -gt $time)) { $time = ConvertTo-Time $state['time'] }
    if ((ConvertTo-Time $found['expires']) -lt $time) { throw ($Name + ' is out of date since ' + $found['expires'] + ', or the clock of this computer is ahead: it says ' + (Get-Stamp)) }
    if (($state[$Kind] -ne $found['version']) -or (-not $state['time']) -or ((ConvertTo-Time $state['time']) -lt $made)) {
        $state[$Kind] = $found['version']
        if ((-not $state['time']) -or ((ConvertTo-Time $state['time']) -lt $made)) { $state['time'] = $found['made'] }
        Write-Table 'state.txt' $state
    }
    return $found
}

# Who may sign an index, as the root says; then the index. A root may name others that come after it: they count beside it
# until one of them has signed, and from then on it is itself and whom it names.
function Get-Index {
    $stated = Get-Signed 'signers.txt' 'signers' @($Settings['root'].Split([char]','))
    [string[]]$may = @($stated['lines'] | Where-Object { $_.StartsWith("signer`t", 'Ordinal') } | ForEach-Object { $_.Split([char]9)[1] })
    [string]$roots = [string]::Join(',', @($stated['by']) + @($stated['lines'] | Where-Object { $_.StartsWith("root`t", 'Ordinal') } | ForEach-Object { $_.Split([char]9)[1] }))
    if ($roots -ne $Settings['root']) { $Settings['root'] = $roots; Write-Settings $Settings }
    $index = Get-Signed 'index.txt' 'index' $may
    $index['signers'] = [string]::Join(',', $may)
    return $index
}

# The orders of an index that are for this computer now, in their order: @{ number; verb; ... }.
function Get-Orders($Index) {
    [Collections.ArrayList]$found = [Collections.ArrayList]::new()
    $windows = @{}
    foreach ($line in $Index['lines']) { [string[]]$parts = $line.Split([char]9); if (($parts[0] -eq 'window') -and ($parts.Length -ge 5)) { $windows[$parts[1]] = $parts } }
    foreach ($line in $Index['lines']) {
        [string[]]$parts = $line.Split([char]9)
        if (($parts[0] -ne 'order') -or ($parts.Length -lt 14)) { continue }
        $order = @{ 'number' = $parts[1]; 'verb' = $parts[2]; 'id' = $parts[3]; 'version' = $parts[4]; 'revision' = $parts[5]; 'run' = $parts[6]; 'offered' = ($parts[7] -eq 'offered'); 'files' = $parts[10]; 'size' = [long]$parts[11]; 'after' = $parts[12]; 'name' = Read-Field $parts[13]; 'waits' = ''; 'until' = ''; 'put_offs' = '' }
        if (($order['number'] -notmatch '^\d{1,9}$') -or ($order['id'] -notmatch '^[a-z0-9][a-z0-9.-]{0,99}$') -or ([Array]::IndexOf(@('install', 'uninstall', 'repair'), $order['verb']) -lt 0)) { continue }
        foreach ($entry in [IO.File]::ReadAllText((Get-Content-Of $parts[8] ([long]$parts[9])), $Utf8).Split([char]10)) {
            [string[]]$mine = $entry.Split([char]9)
            if (($mine.Length -lt 3) -or ($mine[0] -ne $Computer)) { continue }
            if ($mine.Length -ge 5) { if ($mine[3] -match '^[0-9T:-]{16}$') { $order['until'] = $mine[3] }; if ($mine[4] -match '^\d{1,2}$') { $order['put_offs'] = $mine[4] } }
            if (($mine[1] -ne '') -and ((ConvertTo-Time $mine[1]) -gt [DateTime]::UtcNow)) { $order['waits'] = 'its turn comes at ' + $mine[1] }
            if ((-not $Now) -and (-not (Test-Window $windows[$mine[2]] ([DateTime]::Now)))) { $order['waits'] = 'nothing is done at this hour' }
            [void]$found.Add($order)
            break
        }
    }
    return ,$found.ToArray()
}

# Whether a computer may be touched at a time: window, its number, hours, days, days on which nothing is done. A night belongs to the day on which it began.
function Test-Window($Window, [DateTime]$Time) {
    if ($null -eq $Window) { return $true }
    [DateTime]$day = $Time.Date
    if ($Window[2] -ne '') {
        [string[]]$ends = $Window[2].Split([char]'-')
        [string]$clock = $Time.ToString('HH:mm', [Globalization.CultureInfo]::InvariantCulture)
        [bool]$over = [string]::CompareOrdinal($ends[0], $ends[1]) -gt 0
        [bool]$late = [string]::CompareOrdinal($clock, $ends[0]) -ge 0
        [bool]$early = [string]::CompareOrdinal($clock, $ends[1]) -lt 0
        if ($over -and (-not ($late -or $early))) { return $false }
        if ((-not $over) -and (-not ($late -and $early))) { return $false }
        if ($over -and $early) { $day = $day.AddDays(-1) }
    }
    if (($Window[3] -ne '') -and ([Array]::IndexOf($Window[3].Split([char]','), @('sun', 'mon', 'tue', 'wed', 'thu', 'fri', 'sat')[[int]$day.DayOfWeek]) -lt 0)) { return $false }
    return ([Array]::IndexOf($Window[4].Split([char]','), $day.ToString('yyyy-MM-dd', [Globalization.CultureInfo]::InvariantCulture)) -lt 0)
}

# --- what is told -----------------------------------------------------------------------------------------------------------

# A report waits in a file until somebody has taken it. Its id is made before anything is done, so that it counts once.
function Add-Report([string]$Id, [string]$Sort, $Order, [string]$More) {
    [string]$about = ''
    if ($null -ne $Order) { $about = ', "order": ' + $Order['number'] + ', "package": ' + (Format-Json $Order['id']) + ', "version": ' + (Format-Json $Order['version']) + ', "revision": ' + [int]$Order['revision'] + ', "verb": "' + $Order['verb'] + '"' }
    $state = Read-Table 'state.txt'
    [string]$text = '{"v": 1, "id": "' + $Id + '", "sort": "' + $Sort + '", "computer": ' + (Format-Json $Computer) + ', "told": "' + (Get-Stamp) + '", "index": ' + [long]('0' + $state['index']) + $about + $More + '}'
    Write-Own (Get-Own ('out\' + [DateTime]::UtcNow.ToString('yyyyMMddHHmmss') + '-' + $Id + '.txt')) ($Utf8.GetBytes($text))
}

function New-Id { return [Guid]::NewGuid().ToString('N') }

# The same trouble is told once a day.
function Add-Trouble([string]$Text) {
    Write-Log $Text
    $known = Read-Table 'troubles.txt'
    [string]$today = [DateTime]::UtcNow.ToString('yyyy-MM-dd')
    [string]$key = (Get-BytesDigest $Utf8.GetBytes([regex]::Replace($Text, '[\d:.]+', '#'))).Substring(0, 16)
    if (($known[$key] -eq $today) -or ([IO.Directory]::GetFiles((Get-Own 'out')).Length -gt 200)) { return }
    $kept = @{ $key = $today }
    foreach ($one in @($known.Keys)) { if ($known[$one] -eq $today) { $kept[$one] = $today } }
    Write-Table 'troubles.txt' $kept
    Add-Report (New-Id) 'trouble' $null (', "text": ' + (Format-Json $Text))
}

# Each report with the key of this computer behind it: nobody else can speak for it.
function Send-Reports {
    [string]$where = $Settings['reports']
    if ($where -eq '') { return }
    [Security.Cryptography.HMACSHA256]$mac = [Security.Cryptography.HMACSHA256]::new($Utf8.GetBytes($Settings['key']))
    [string[]]$waiting = [IO.Directory]::GetFiles((Get-Own 'out'), '*.txt')
    [Array]::Sort($waiting, [StringComparer]::Ordinal)
    foreach ($path in $waiting) {
        [byte[]]$bytes = [IO.File]::ReadAllBytes($path)
        [byte[]]$sealed = $Utf8.GetBytes("`n" + (Format-Hex $mac.ComputeHash($bytes)) + "`n")
        try {
            if ($where -match '^https?://') {
                $request = [Net.WebRequest]::CreateHttp($where)
                $request.Method = 'POST'
                $request.Timeout = 30000
                $request.KeepAlive = $false
                $request.AllowAutoRedirect = $false
                $request.ContentType = 'application/x-yendo-report'
                $request.ContentLength = $bytes.Length + $sealed.Length
                [IO.Stream]$out = $request.GetRequestStream()
                try { $out.Write($bytes, 0, $bytes.Length); $out.Write($sealed, 0, $sealed.Length) } finally { $out.Dispose() }
                [int]$code = 0
                try { $answer = $request.GetResponse(); $code = [int]$answer.StatusCode; $answer.Dispose() } catch {
                    # what the engine throws holds the answer, perhaps within another error
                    for ($inner = $_.Exception; $null -ne $inner; $inner = $inner.InnerException) { if (($inner -is [Net.WebException]) -and ($null -ne $inner.Response)) { $code = [int]$inner.Response.StatusCode; break } }
                    if ($code -eq 0) { throw }
                }
                # it does not know this computer: that may change. It cannot read the report: that does not
                if ($code -eq 403) { Write-Log 'the server does not know this computer by its key'; continue }
                if ($code -eq 400) { Write-Log ('the server cannot read ' + $path); [IO.File]::Delete($path); continue }
                if ($code -ne 200) { throw ('the server answers ' + $code) }
            } else {
                [string]$to = [IO.Path]::Combine($where, $Computer + '-' + [IO.Path]::GetFileName($path))
                [IO.FileStream]$file = [IO.FileStream]::new($to + '.new', 'Create', 'Write')
                try { $file.Write($bytes, 0, $bytes.Length); $file.Write($sealed, 0, $sealed.Length); $file.Flush($true) } finally { $file.Dispose() }
                if ([IO.File]::Exists($to)) { [IO.File]::Delete($to + '.new') } else { [IO.File]::Move($to + '.new', $to) }
            }
        } catch { Write-Log ('a report could not be left: ' + $_.Exception.GetBaseException().Message); return }
        [IO.File]::Delete($path)
    }
}

# --- what is done -----------------------------------------------------------------------------------------------------------

# What the runner's own journal says of this package: @(whether it is about this content, its verb, over, code). Only administrators write it.
function Get-Journal($Order) {
    [string]$path = [IO.Path]::Combine($Yendo, 'state', $Order['id'], 'journal.txt')
    if ((-not [IO.File]::Exists($path)) -or ((Get-Distrust $path) -ne '')) { return @($false, $false, 0, '') }
    [bool]$ours = $false
    [bool]$over = $false
    [int]$code = 0
    [string]$text = [IO.File]::ReadAllText($path, $Utf8)
    foreach ($line in $text.Split([char]10)) {
        [string[]]$parts = $line.TrimEnd([char]13).Split([char]9)
        if ($parts[0] -eq 'begin') { $ours = ($parts.Length -eq 3) -and ($parts[1] -eq $Order['verb']) -and ($parts[2] -eq $Order['run']); $over = $false }
        if (($parts[0] -eq 'end') -and ($parts.Length -eq 2)) { $over = $true; $code = [int]$parts[1] }
    }
    return @($ours, $over, $code, (Get-BytesDigest $Utf8.GetBytes($text)))
}

# The files of a package, each by its content, laid out where only administrators write.
function Initialize-Package($Order, [string]$Folder) {
    foreach ($line in [IO.File]::ReadAllText((Get-Content-Of $Order['files'] $Order['size']), $Utf8).Split([char]10)) {
        [string[]]$parts = $line.Split([char]9)
        if ($parts.Length -lt 3) { continue }
        [string]$name = (Read-Field $parts[2]).Replace('/', '\')
        [string]$to = [IO.Path]::GetFullPath([IO.Path]::Combine($Folder, $name))
        if (($name.IndexOf([char]':') -ge 0) -or (-not $to.StartsWith($Folder + '\', 'OrdinalIgnoreCase'))) { throw ('a file of the package lies outside of it: ' + $name) }
        [string]$content = Get-Content-Of $parts[0] ([long]$parts[1])
        [void][IO.Directory]::CreateDirectory([IO.Path]::GetDirectoryName($to))
        if (-not ([IO.File]::Exists($to) -and ((Get-Digest $to) -eq $parts[0]))) { [IO.File]::Copy($content, $to, $true) }
    }
}

# The runner's own account of its last run, for the report only.
function Get-Events($Order, [string]$Since) {
    [string]$path = [Environment]::ExpandEnvironmentVariables('%ProgramData%\Yendo\logs\' + $Order['id'] + '\' + $Order['verb'] + '.jsonl')
    try {
        [IO.FileStream]$in = [IO.FileStream]::new($path, 'Open', 'Read', 'ReadWrite')
        try {
            if ($in.Length -gt 262144) { [void]$in.Seek(-262144, 'End') }
            [byte[]]$bytes = [byte[]]::new([Math]::Min($in.Length, 262144))
            [int]$have = 0
            while (($have -lt $bytes.Length) -and (($count = $in.Read($bytes, $have, $bytes.Length - $have)) -gt 0)) { $have = $have + $count }
        } finally { $in.Dispose() }
        return $Utf8.GetString($bytes, 0, $have)
    } catch { return '' }
}

function Complete-Order($Order, $Mark, [int]$Code, [string]$How) {
    [string]$meaning = 'failed'
    if ($Code -eq 0) { $meaning = 'done' }
    if ($Kit['outcomes'].ContainsKey('' + $Code)) { $meaning = $Kit['outcomes']['' + $Code] }
    Write-Log ('order ' + $Order['number'] + ', ' + $Order['id'] + ' ' + $Order['verb'] + ': ' + $Code + ', ' + $meaning + $How)
    [string]$more = ', "code": ' + $Code + ', "began": "' + $Mark['began'] + '", "ended": "' + (Get-Stamp) + '", "events": ' + (Format-Json (Get-Events $Order $Mark['began']))
    if ($Code -eq 1641) {
        $journal = Get-Journal $Order
        if ($journal[0] -and (-not $journal[1])) { return }  # it goes on after the restart; what it came to is told then
    }
    if ($meaning -eq 'later') { if ($Mark['later'] -ne '' + $Code) { Add-Report (New-Id) 'later' $Order $more; $Mark['later'] = '' + $Code }; Write-Table ('marks\' + $Order['number'] + '.txt') $Mark; return }
    Add-Report $Mark['id'] 'ended' $Order $more
    $Mark['over'] = $meaning
    $Mark['code'] = '' + $Code
    Write-Table ('marks\' + $Order['number'] + '.txt') $Mark
    if ([IO.Directory]::Exists((Get-Own ('packages\' + $Order['number'])))) { Remove-Own (Get-Own ('packages\' + $Order['number'])) }
}

# One order, up to its end or to where it has to wait. It is never carried out twice: its mark is written before it begins.
function Invoke-Order($Order) {
    $mark = Read-Table ('marks\' + $Order['number'] + '.txt')
    if ($mark['over']) { return }
    if ($Order['waits'] -ne '') { Write-Log ('order ' + $Order['number'] + ' waits: ' + $Order['waits']); return }
    if ($Order['after'] -ne '') {
        $first = Read-Table ('marks\' + $Order['after'] + '.txt')
        if (($first['over'] -ne 'done')) { Write-Log ('order ' + $Order['number'] + ' waits for order ' + $Order['after']); return }
    }
    if ($Order['offered'] -and (-not $mark['id']) -and (-not (Test-Wish $Order))) { return }
    $journal = Get-Journal $Order
    if ($mark['id'] -and ($journal[3] -ne $mark['journal'])) {
        # it was begun here, and the runner has gone on since: it is over, or goes on behind its last step
        if ($journal[0] -and $journal[1]) { Complete-Order $Order $mark $journal[2] ', as the runner''s journal says'; return }
        if (($journal[3] -eq '') -and ($Order['verb'] -eq 'uninstall')) { Complete-Order $Order $mark 0 ', nothing of it is left'; return }
    }
    [string]$folder = Get-Own ('packages\' + $Order['number'])
    Initialize-Package $Order $folder
    if (-not $mark['id']) { $mark['id'] = New-Id; $mark['began'] = Get-Stamp; $mark['journal'] = $journal[3] }
    # asked again right before: what was stopped in the meantime does not begin
    [bool]$still = $false
    $index = Get-Index
    foreach ($one in (Get-Orders $index)) { if (($one['number'] -eq $Order['number']) -and ($one['files'] -eq $Order['files']) -and ($one['waits'] -eq '')) { $still = $true } }
    if (-not $still) { Write-Log ('order ' + $Order['number'] + ' was taken back before it began'); return }
    Write-Table ('marks\' + $Order['number'] + '.txt') $mark
    Write-Log ('order ' + $Order['number'] + ' begins: ' + $Order['id'] + ' ' + $Order['version'] + ', ' + $Order['verb'])
    [string]$more = ''
    if ($order['put_offs'] -ne '') { $more = ' -PutOffs ' + $order['put_offs'] }
    if ($order['until'] -ne '') { $more = $more + ' -Until ' + $order['until'] }
    if ([IO.File]::Exists([IO.Path]::Combine($folder, 'files.sha256.p7s'))) { $more = $more + ' -Signer ' + $index['signers'] }
    $ran = Invoke-Program 'cmd.exe' ('/d /s /c ""' + $folder + '\apply.cmd" ' + $Order['verb'] + $more + '"') $folder
    Complete-Order $Order $mark $ran[0] ''
}

# Somebody who works here wants it: a shortcut leaves a file, of which only the name counts, and it is taken away.
function Test-Wish($Order) {
    [string]$path = [Environment]::ExpandEnvironmentVariables('%ProgramData%\Yendo\wishes\' + $Order['number'])
    try { Assert-Plain $path } catch { Write-Log $_.Exception.Message; return $false }
    [void][IO.Directory]::CreateDirectory([IO.Path]::GetDirectoryName($path))
    if ([IO.File]::Exists($path)) { [IO.File]::Delete($path); return $true }
    [string]$link = Get-OfferPath $Order
    if (-not [IO.File]::Exists($link)) {
        [void][IO.Directory]::CreateDirectory([IO.Path]::GetDirectoryName($link))
        $made = [Activator]::CreateInstance([Type]::GetTypeFromProgID('WScript.Shell')).CreateShortcut($link)
        $made.TargetPath = [IO.Path]::Combine([Environment]::SystemDirectory, 'cmd.exe')
        $made.Arguments = '/d /c "echo.>"' + $path + '""'
        $made.Description = $Order['name'] + ' ' + $Order['version']
        $made.WindowStyle = 7
        $made.Save()
    }
    return $false
}

function Get-OfferPath($Order) { return [IO.Path]::Combine([Environment]::GetFolderPath('CommonPrograms'), 'On offer', ([regex]::Replace($Order['name'], '[<>:"/\\|?*\x00-\x1f]', '_') + ', order ' + $Order['number'] + '.lnk')) }

# What is offered no longer, or was taken, is in the menu no longer.
function Clear-Offers($Orders) {
    [string]$folder = [IO.Path]::Combine([Environment]::GetFolderPath('CommonPrograms'), 'On offer')
    if ((-not [IO.Directory]::Exists($folder)) -or (Test-Link $folder)) { return }
    [string[]]$open = @($Orders | Where-Object { $_['offered'] -and (-not (Read-Table ('marks\' + $_['number'] + '.txt'))['id']) } | ForEach-Object { Get-OfferPath $_ })
    foreach ($path in [IO.Directory]::GetFiles($folder, '*, order *.lnk')) { if ([Array]::IndexOf($open, $path) -lt 0) { [IO.File]::Delete($path) } }
    if ([IO.Directory]::GetFileSystemEntries($folder).Length -eq 0) { [IO.Directory]::Delete($folder) }
}

# What is there of what was delivered, looked at once a day; a change is told.
function Show-Drift($Orders) {
    $known = Read-Table 'looked.txt'
    [string]$today = [DateTime]::UtcNow.ToString('yyyy-MM-dd')
    foreach ($order in $Orders) {
        $mark = Read-Table ('marks\' + $order['number'] + '.txt')
        [string]$doorway = [IO.Path]::Combine($Yendo, 'packages', $order['id'], 'apply.cmd')
        if (($mark['over'] -ne 'done') -or ($order['verb'] -ne 'install') -or ($known[$order['number']] -like ($today + '*'))) { continue }
        [string]$answer = 'gone'
        if ([IO.File]::Exists($doorway)) {
            if ((Get-Distrust $doorway) -ne '') { continue }
            if ((Invoke-Program 'cmd.exe' ('/d /s /c ""' + $doorway + '" detect"') $Base)[0] -eq 0) { $answer = 'there' }
        } elseif ([IO.File]::Exists([IO.Path]::Combine($Yendo, 'installed', $order['id'] + '.txt'))) { continue }
        if ($known[$order['number']] -notlike ('*' + $answer)) { Add-Report (New-Id) 'looked' $order (', "text": "' + $answer + '"') }
        $known[$order['number']] = $today + ' ' + $answer
        Write-Table 'looked.txt' $known
    }
}

# Its own next version is a content of the signed index like any other; it has to be a script, and runs at the next time.
function Update-Self($Index) {
    [string[]]$line = @($Index['lines'] | Where-Object { $_.StartsWith("fetcher`t", 'Ordinal') } | ForEach-Object { $_ })
    if ($line.Length -ne 1) { return }
    [string[]]$parts = $line[0].Split([char]9)
    [string]$own = Get-Own 'fetch.ps1'
    if ((Get-Digest $own) -eq $parts[1]) { return }
    [byte[]]$bytes = [IO.File]::ReadAllBytes((Get-Content-Of $parts[1] ([long]$parts[2])))
    [void][ScriptBlock]::Create($Utf8.GetString($bytes).TrimStart([char]0xfeff))
    Write-Own $own $bytes
    Write-Log ('this script is another version now: ' + $parts[1].Substring(0, 12))
}

# Content that nothing here needs any more goes; the lists of computers stay, so that they are fetched once.
function Clear-Content($Index, $Orders) {
    foreach ($order in $Orders) { if (-not (Read-Table ('marks\' + $order['number'] + '.txt'))['over']) { return } }
    $kept = @{}
    foreach ($line in $Index['lines']) { [string[]]$parts = $line.Split([char]9); if (($parts[0] -eq 'order') -and ($parts.Length -ge 14)) { $kept[$parts[8]] = $true } }
    foreach ($path in [IO.Directory]::GetFiles((Get-Own 'content'))) { if (-not $kept.ContainsKey([IO.Path]::GetFileName($path))) { [IO.File]::Delete($path) } }
}

function Invoke-Round {
    [IO.FileStream]$lock = $null
    try { $lock = [IO.FileStream]::new((Get-Own 'lock'), 'OpenOrCreate', 'ReadWrite', 'None') } catch { return }
    try {
        Join-Office $Settings
        try {
            $index = Get-Index
            if ($index['reports'] -and ($Settings['reports'] -ne $index['reports'])) { $Settings['reports'] = $index['reports']; Write-Settings $Settings }
            Update-Self $index
            $orders = Get-Orders $index
            Send-Reports
            foreach ($order in $orders) {
                try { Invoke-Order $order } catch { Add-Trouble ('order ' + $order['number'] + ': ' + $_.Exception.GetBaseException().Message) }
            }
            Clear-Offers $orders
            Show-Drift $orders
            Clear-Content $index $orders
        } catch { Add-Trouble $_.Exception.GetBaseException().Message }
        Send-Reports
    } finally { $lock.Dispose() }
}

# --- on this computer -------------------------------------------------------------------------------------------------------

function Set-Task([string]$When) {
    [string]$run = '"' + (Get-Shell) + '" -NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + (Get-Own 'fetch.ps1') + '"'
    return (Invoke-Program 'schtasks.exe' ('/create /tn "' + $TaskName + '" /tr "' + $run.Replace('"', '\"') + '" ' + $When + ' /ru SYSTEM /rl highest /f'))[0]
}

function Install-Self {
    if (($From -eq '') -or ($Root -notmatch '^[0-9A-Fa-f]{64}$')) { [Console]::WriteLine('fetch: -From says where the folder is, -Root the SHA-256 thumbprint of its root certificate'); exit 2 }
    Initialize-Chain $Base $true
    foreach ($name in @('content', 'marks', 'out', 'packages')) { Initialize-Chain (Get-Own $name) ($name -ne 'out') }
    $settings = Read-Table 'settings.txt'
    if (-not $settings['key']) {
        [byte[]]$bytes = [byte[]]::new(32)
        [Security.Cryptography.RandomNumberGenerator]$chance = [Security.Cryptography.RandomNumberGenerator]::Create()
        $chance.GetBytes($bytes)
        $settings['key'] = Format-Hex $bytes
    }
    $settings['from'] = $From
    $settings['root'] = $Root.ToUpperInvariant()
    $settings['reports'] = $Reports
    $settings['pace'] = $Pace
    Write-Settings $settings
    Write-Own (Get-Own 'now.cmd') ($Utf8.GetBytes('@"' + (Get-Shell) + '" -NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "%~dp0fetch.ps1" -Now' + "`r`n"))
    if ($PSCommandPath -ne (Get-Own 'fetch.ps1')) { Write-Own (Get-Own 'fetch.ps1') ([IO.File]::ReadAllBytes($PSCommandPath)) }
    Join-Office $settings
    if (-not $Begin) { if ((Set-Task ('/sc minute /mo ' + $Kit['every'])) -ne 0) { [Console]::WriteLine('fetch: the task for the system account could not be made'); exit 1 } }
    [Console]::WriteLine('fetch: looks at ' + $From + ' every ' + $Kit['every'] + ' minutes')
}

# The first report of a computer, or of one that was renamed, tells its key.
function Join-Office($Table) {
    [string]$path = Get-Own 'joined.txt'
    if ([IO.File]::Exists($path) -and ([IO.File]::ReadAllText($path, $Utf8) -eq $Computer)) { return }
    Add-Report (New-Id) 'joined' $null (', "key": "' + $Table['key'] + '"')
    Write-Own $path ($Utf8.GetBytes($Computer))
}

# The key of this computer lies in it: nobody but administrators reads it.
function Write-Settings($Table) { Write-Table 'settings.txt' $Table $true }

function Remove-Self {
    [void](Invoke-Program 'schtasks.exe' ('/delete /tn "' + $TaskName + '" /f'))
    if ([IO.Directory]::Exists($Base)) { Remove-Own $Base }
    if ([IO.Directory]::Exists($Yendo) -and ([IO.Directory]::GetFileSystemEntries($Yendo).Length -eq 0)) { [IO.Directory]::Delete($Yendo) }
}

if (-not [Security.Principal.WindowsPrincipal]::new([Security.Principal.WindowsIdentity]::GetCurrent()).IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)) { [Console]::WriteLine('fetch: an administrator is needed'); exit 5 }
if ($PSVersionTable['PSVersion'].Major -lt 6) { [Net.ServicePointManager]::SecurityProtocol = [Net.ServicePointManager]::SecurityProtocol -bor 3072 }
if ($Remove) { Remove-Self; exit 0 }
if ($Install) { Install-Self; if (-not $Begin) { exit 0 } }
if ($Begin) {
    if (((Set-Task ('/sc minute /mo ' + $Kit['every'])) -ne 0) -or ((Invoke-Program 'schtasks.exe' ('/run /tn "' + $TaskName + '"'))[0] -ne 0)) { [Console]::WriteLine('fetch: the task for the system account does not start'); exit 1 }
    exit 0
}
foreach ($folder in @($Yendo, $Base, (Get-Own 'settings.txt'), (Get-Own 'state.txt'), (Get-Own 'marks'))) {
    if (-not ([IO.File]::Exists($folder) -or [IO.Directory]::Exists($folder))) { continue }
    [string]$strange = Get-Distrust $folder
    if ($strange -ne '') { [Console]::WriteLine('fetch: ' + $folder + ' is not believed: ' + $strange); exit 35 }
}
$Settings = Read-Table 'settings.txt'
if (-not $Settings['root']) { [Console]::WriteLine('fetch: it is not installed on this computer; see -Install'); exit 2 }
Invoke-Round
exit 0
