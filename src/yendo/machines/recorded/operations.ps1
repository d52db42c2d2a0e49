# --- what a script does on this computer when it is asked: run, watch, look, write, fetch, ... ---------------------------
# Whoever includes it has $Here, $Work, $First, $Utf8 and the functions Send-Answer and Get-AnswerPath, the parts
# that look and start programs, and those of the runner that make files private.

# A command line as the system itself takes it apart: the program, then the rest as it stands.
function Split-Asked([string]$Line) {
    [string]$text = $Line.Trim()
    if ($text.StartsWith('"', 'Ordinal')) {
        [int]$end = $text.IndexOf('"', 1)
        if ($end -lt 0) { return @($text.Substring(1), '') }
        return @($text.Substring(1, $end - 1), $text.Substring($end + 1).Trim())
    }
    [int]$end = $text.IndexOf(' ')
    if ($end -lt 0) { return @($text, '') }
    return @($text.Substring(0, $end), $text.Substring($end + 1).Trim())
}

function New-AskedStart([string]$Folder, [string]$Line) {
    $words = Split-Asked $Line
    [Diagnostics.ProcessStartInfo]$start = [Diagnostics.ProcessStartInfo]::new()
    $start.FileName = $words[0]
    $start.Arguments = $words[1]
    $start.UseShellExecute = $false
    if ($Folder -eq '') { $start.WorkingDirectory = [Environment]::SystemDirectory } else { $start.WorkingDirectory = $Folder }
    return $start
}

# Runs a command line; what it has started goes with it when it is stopped for time.
function Invoke-Asked([string]$Number, [double]$Seconds, [string]$Folder, [string]$Line) {
    [Diagnostics.ProcessStartInfo]$start = New-AskedStart $Folder $Line
    $start.RedirectStandardOutput = $true
    $start.RedirectStandardError = $true
    $start.RedirectStandardInput = $true
    $start.CreateNoWindow = $true
    [DateTime]$begun = [DateTime]::UtcNow
    try { [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start) } catch {
        Send-Answer $Number @("R`t" + 9009 + "`t0", ("O`t" + (ConvertTo-Base64 $Utf8.GetBytes($_.Exception.GetBaseException().Message))))
        return
    }
    $process.StandardInput.Dispose()
    $out = $process.StandardOutput.ReadToEndAsync()
    $err = $process.StandardError.ReadToEndAsync()
    [string]$code = '-'
    if ($process.WaitForExit([int]([Math]::Min($Seconds * 1000, 2147483000)))) { $code = '' + $process.ExitCode } else {
        [void](Invoke-Program 'taskkill.exe' ('/t /f /pid ' + $process.Id))
        if (-not $process.WaitForExit(5000)) { $process.Kill() }
    }
    [string]$took = ([DateTime]::UtcNow - $begun).TotalSeconds.ToString('0.###', [Globalization.CultureInfo]::InvariantCulture)
    # what a setup has left running may hold the pipes open
    [string]$said = ''
    foreach ($one in @($out, $err)) { if ($one.Wait(5000)) { $said = $said + $one.Result } }
    Send-Answer $Number @(("R`t" + $code + "`t" + $took), ("O`t" + (ConvertTo-Base64 $Utf8.GetBytes($said))))
}

# The processes by their parents, where the system tells; else nothing.
function Get-Parents {
    $found = @{}
    try {
        foreach ($one in [Management.ManagementObjectSearcher]::new('select ProcessId, ParentProcessId from Win32_Process').Get()) {
            $found[[int]$one['ProcessId']] = [int]$one['ParentProcessId']
        }
    } catch { }
    return $found
}

function ConvertTo-Moment([double]$Value) { return $Value.ToString('0.##', [Globalization.CultureInfo]::InvariantCulture) }

# Runs a command line and follows what it starts: every process to its end, every window that has a title, with what its
# controls say and its picture where there is a screen. Without the
# system's word on parents, whatever began since counts as its.
function Watch-Asked([string]$Number, [double]$Seconds, [string]$Folder, [string]$Line, [bool]$ByHand) {
    [Diagnostics.ProcessStartInfo]$start = New-AskedStart $Folder $Line
    $old = @{}
    foreach ($one in [Diagnostics.Process]::GetProcesses()) { $old[$one.Id] = $true }
    [Diagnostics.Stopwatch]$watch = [Diagnostics.Stopwatch]::StartNew()
    try { [Diagnostics.Process]$first = [Diagnostics.Process]::Start($start) } catch {
        [int]$error_code = 2
        if ($_.Exception.GetBaseException() -is [ComponentModel.Win32Exception]) { $error_code = $_.Exception.GetBaseException().NativeErrorCode }
        Send-Answer $Number @("R`t-`t-`t0`t-`t" + $error_code)
        return
    }
    $ours = @{}     # number -> parent, name, begun, ended
    $windows = @{}  # handle -> program, title, shown, gone, place, texts, picture
    $order = [Collections.ArrayList]::new()
    [int]$pictures = 0
    [string]$ended = '-'
    [string]$stopped = '-'
    [double]$work = 0
    [double]$quiet = 0
    [double]$last = 0
    while ($true) {
        [double]$now = $watch.Elapsed.TotalSeconds
        $there = @{}
        [double]$sum = 0
        [bool]$shown = $false
        $names = @{}
        $parents = $null
        foreach ($one in [Diagnostics.Process]::GetProcesses()) {
            try {
                if ($old.ContainsKey($one.Id) -or ($one.Id -eq $PID)) { continue }
                if (-not $ours.ContainsKey($one.Id)) {
                    if ($null -eq $parents) { $parents = Get-Parents }
                    [int]$parent = 0
                    if ($parents.ContainsKey($one.Id)) { $parent = $parents[$one.Id] }
                    if (($parents.Count -gt 0) -and ($one.Id -ne $first.Id) -and (-not $ours.ContainsKey($parent)) -and ($one.ProcessName -ne 'msiexec')) { continue }
                    $ours[$one.Id] = @($parent, ($one.ProcessName + '.exe'), $now, '-')
                }
                $there[$one.Id] = $true
                # the API layer gives every process the time of whoever asks, which says nothing
                [double]$took = $one.TotalProcessorTime.TotalSeconds
                [double]$mine = [Diagnostics.Process]::GetCurrentProcess().TotalProcessorTime.TotalSeconds
                if ([Math]::Abs($mine - $took) -gt 0.05) { $sum = $sum + $took }
                $names[$one.Id] = $one.ProcessName + '.exe'
            } catch { continue }
        }
        foreach ($one in (Get-Shown)) {
            # one without a title is a program's own helper, not what a person would answer
            if (($one[2] -eq '') -or (-not $names.ContainsKey($one[0]))) { continue }
            $shown = $true
            $key = $one[1]
            if (-not $windows.ContainsKey($key)) {
                $windows[$key] = @($names[$one[0]], $one[2], $now, $now, @(), @(), '', 0)
                [void]$order.Add($key)
            }
            $held = $windows[$key]
            $held[3] = $now
            $held[4] = @($one[3], $one[4], $one[5], $one[6])
            # one as it comes, since it may be gone soon, one when it has been drawn, and one now and then
            if (($held[7] -le $now) -and ($pictures -lt 40)) {
                $pictures++
                [string[]]$says = Get-ControlTexts $key
                if ($says.Length -gt 0) { $held[5] = $says }
                [string]$picture = Get-PackedPicture $one[3] $one[4] $one[5] $one[6]
                if ($picture -ne '') { $held[6] = $picture }
                $held[7] = $now + $(if ($now -lt ($held[2] + 0.5)) { 0.6 } else { 5 })
            }
        }
        foreach ($id in @($ours.Keys)) { if ((-not $there.ContainsKey($id)) -and ($ours[$id][3] -eq '-')) { $ours[$id][3] = ConvertTo-Moment $now } }
        if (($ended -eq '-') -and $first.HasExited) { $ended = ConvertTo-Moment $now }
        if (($ended -ne '-') -and $ours.ContainsKey($first.Id)) { $ours[$first.Id][3] = $ended }
        if (($ended -ne '-') -and ($there.Count -eq 0)) { break }
        # a person's work ends with the last window; what still runs then is left to run
        if ($shown -or ($ended -eq '-')) { $last = $now }
        if ($ByHand -and (($now - $last) -gt 5)) { break }
        if (($sum - $work) -gt 0.03) { $work = $sum; $quiet = $now }
        if ($shown -and (-not $ByHand) -and (($now - $quiet) -gt 6)) { $stopped = 'waits' }
        if ($now -gt $Seconds) { $stopped = 'time' }
        if ($stopped -ne '-') {
            foreach ($id in @($there.Keys)) { [void](Invoke-Program 'taskkill.exe' ('/t /f /pid ' + $id)) }
            break
        }
        [Threading.Thread]::Sleep(150)
    }
    [double]$end = $watch.Elapsed.TotalSeconds
    [string]$code = '-'
    if (($stopped -eq '-') -and $first.HasExited) { $code = '' + $first.ExitCode }
    [string[]]$lines = @("R`t" + $code + "`t" + $ended + "`t" + (ConvertTo-Moment $end) + "`t" + $stopped + "`t0")
    foreach ($id in @($ours.Keys)) { $lines = @($lines + ("P`t" + $id + "`t" + $ours[$id][0] + "`t" + (ConvertTo-Field $ours[$id][1]) + "`t" + (ConvertTo-Moment $ours[$id][2]) + "`t" + $ours[$id][3])) }
    # each window, then what its controls say and its picture
    foreach ($key in $order) {
        $held = $windows[$key]
        $lines = @($lines + ("W`t" + (ConvertTo-Field $held[0]) + "`t" + (ConvertTo-Field $held[1]) + "`t" + (ConvertTo-Moment $held[2]) + "`t" + (ConvertTo-Moment $held[3]) + "`t" + [string]::Join("`t", $held[4])))
        foreach ($text in $held[5]) { $lines = @($lines + ("T`t" + (ConvertTo-Field $text))) }
        if ($held[6] -ne '') { $lines = @($lines + ("I`t" + $held[6])) }
    }
    Send-Answer $Number $lines
}

function Get-Named([string]$Name) {
    return @([Diagnostics.Process]::GetProcesses() | Where-Object { $_.ProcessName -eq $Name })
}

# Carries out one operation, and answers it.
function Invoke-Operation([string]$Number, [string]$Name, [string[]]$text) {
    if ($Name -eq 'run') { Invoke-Asked $Number ([double]::Parse($text[0], [Globalization.CultureInfo]::InvariantCulture)) $text[1] $text[2]; return }
    if ($Name -eq 'watch') { Watch-Asked $Number ([double]::Parse($text[0], [Globalization.CultureInfo]::InvariantCulture)) $text[1] $text[2] (($text.Length -gt 3) -and ($text[3] -eq 'hand')); return }
    [string[]]$told = @('yes')
    switch ($Name) {
        'about' { $told = Get-About }
        'look' {
            [string]$to = Get-AnswerPath $Number 'look'
            if ([IO.File]::Exists($First)) { Read-Known $First }
            Write-Picture $to (@($Here, $Work) + $text)
            if (-not [IO.File]::Exists($First)) { [IO.File]::Copy($to, $First) }
        }
        'copy' { Copy-Tree $text[0] $text[1] }
        'place' {
            if ($text[2] -eq 'private') {
                if ([IO.File]::Exists($text[1])) { [IO.File]::Delete($text[1]) }
                New-PrivateFile $text[1]
            }
            [IO.File]::WriteAllBytes($text[1], [IO.File]::ReadAllBytes($text[0]))
        }
        'append' {
            [IO.FileStream]$stream = [IO.FileStream]::new($text[1], 'Append')
            [byte[]]$data = [IO.File]::ReadAllBytes($text[0])
            try { $stream.Write($data, 0, $data.Length) } finally { $stream.Dispose() }
        }
        'fetch' { if ([IO.File]::Exists($text[0])) { [IO.File]::Copy($text[0], (Get-AnswerPath $Number 'data'), $true) } else { $told = @('no') } }
        'digest' {
            if ([IO.File]::Exists($text[0])) {
                [IO.FileStream]$stream = [IO.FileStream]::new($text[0], 'Open', 'Read', 'ReadWrite, Delete', 65536)
                try { $told = @('yes', [BitConverter]::ToString([Security.Cryptography.SHA256]::Create().ComputeHash($stream)).Replace('-', '').ToLowerInvariant()) } finally { $stream.Dispose() }
            } else { $told = @('no') }
        }
        'remove' { if ([IO.File]::Exists($text[0])) { [IO.File]::SetAttributes($text[0], 'Normal'); [IO.File]::Delete($text[0]) } else { $told = @('no') } }
        'remove-tree' { if ([IO.Directory]::Exists($text[0])) { [IO.Directory]::Delete($text[0], $true) } else { $told = @('no') } }
        'make-folder' { if ([IO.Directory]::Exists($text[0])) { $told = @('no') } else { [void][IO.Directory]::CreateDirectory($text[0]) } }
        'remove-folder' {
            if (-not [IO.Directory]::Exists($text[0])) { $told = @('no') } else {
                if ([IO.Directory]::GetFileSystemEntries($text[0]).Length -gt 0) { $told = @('no') } else { [IO.Directory]::Delete($text[0]) }
            }
        }
        'has-folder' { if (-not [IO.Directory]::Exists($text[0])) { $told = @('no') } }
        'files' { if ([IO.Directory]::Exists($text[0])) { $told = @($told + @([IO.Directory]::GetFiles($text[0], '*', 'AllDirectories') | ForEach-Object { ConvertTo-Field $_ })) } }
        'running' { if ((Get-Named $text[0]).Length -eq 0) { $told = @('no') } }
        'end' { foreach ($one in [Diagnostics.Process]::GetProcesses()) { if ($one.ProcessName.StartsWith($text[0], 'OrdinalIgnoreCase')) { try { $one.Kill() } catch { } } } }
        'close' {
            $some = Get-Named $text[0]
            if ($some.Length -eq 0) { $told = @('no') }
            foreach ($one in $some) { [void]$one.CloseMainWindow() }
        }
        default { throw ('an operation that is not known here: ' + $Name) }
    }
    Send-Answer $Number $told
}
