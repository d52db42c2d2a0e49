# --- the system's own functions, the person, programs in the way -----------------------------------------------------------------

$script:Native = $null
$script:Showing = $false

#NATIVE#

function Get-Native {
    if ($null -ne $script:Native) { return $script:Native }
    $script:Native = New-Native 'YendoNative' @(
            @('MoveFileExW', 'kernel32.dll', [int], @([string], [string], [int])),
            @('FindFirstFileW', 'kernel32.dll', [IntPtr], @([string], [IntPtr])),
            @('FindClose', 'kernel32.dll', [int], @([IntPtr])),
            @('GlobalMemoryStatusEx', 'kernel32.dll', [int], @([IntPtr])),
            @('GetSystemPowerStatus', 'kernel32.dll', [int], @([IntPtr])),
            @('CreateJobObjectW', 'kernel32.dll', [IntPtr], @([IntPtr], [IntPtr])),
            @('AssignProcessToJobObject', 'kernel32.dll', [int], @([IntPtr], [IntPtr])),
            @('QueryInformationJobObject', 'kernel32.dll', [int], @([IntPtr], [int], [IntPtr], [int], [IntPtr])),
            @('GetProcessIoCounters', 'kernel32.dll', [int], @([IntPtr], [IntPtr])),
            @('SendMessageTimeoutW', 'user32.dll', [IntPtr], @([IntPtr], [int], [IntPtr], [string], [int], [int], [IntPtr])),
            @('MessageBoxTimeoutW', 'user32.dll', [int], @([IntPtr], [string], [string], [int], [int16], [int])),
            @('WTSSendMessageW', 'wtsapi32.dll', [int], @([IntPtr], [int], [string], [int], [string], [int], [int], [int], [IntPtr], [int])),
            @('SHQueryUserNotificationState', 'shell32.dll', [int], @([IntPtr])),
            @('RegLoadKeyW', 'advapi32.dll', [int], @([IntPtr], [string], [string])),
            @('RegUnLoadKeyW', 'advapi32.dll', [int], @([IntPtr], [string])),
            @('RtlAdjustPrivilege', 'ntdll.dll', [int], @([int], [byte], [byte], [IntPtr])),
            @('RmStartSession', 'rstrtmgr.dll', [int], @([IntPtr], [int], [IntPtr])),
            @('RmRegisterResources', 'rstrtmgr.dll', [int], @([int], [int], [IntPtr], [int], [IntPtr], [int], [IntPtr])),
            @('RmGetList', 'rstrtmgr.dll', [int], @([int], [IntPtr], [IntPtr], [IntPtr], [IntPtr])),
            @('RmEndSession', 'rstrtmgr.dll', [int], @([int])),
            @('MsiSetInternalUI', 'msi.dll', [int], @([int], [IntPtr])),
            @('MsiEnableLogW', 'msi.dll', [int], @([int], [string], [int])),
            @('MsiInstallProductW', 'msi.dll', [int], @([string], [string])))
    return $script:Native
}

# The runner and everything it starts in one job, whose processes and their work can be counted.
function Enter-Job {
    try {
        [IntPtr]$made = (Get-Native)::CreateJobObjectW([IntPtr]::Zero, [IntPtr]::Zero)
        if ((Get-Native)::AssignProcessToJobObject($made, [IntPtr]-1) -ne 0) { $script:Job = $made }
    } catch { $script:Job = $null }
}

function Get-JobProcesses {
    if ($null -eq $script:Job) { return ,[int[]]@() }
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(8200)
    try {
        if ((Get-Native)::QueryInformationJobObject($script:Job, 3, $room, 8200, [IntPtr]::Zero) -eq 0) { return ,[int[]]@() }
        [int]$count = [Runtime.InteropServices.Marshal]::ReadInt32($room, 4)
        [int[]]$found = [int[]]::new($count)
        for ([int]$at = 0; $at -lt $count; $at++) { $found[$at] = [int][Runtime.InteropServices.Marshal]::ReadInt64($room, 8 + 8 * $at) }
        return ,$found
    } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
}

# What the steps' processes have used so far: milliseconds of processor time, bytes read and written, and which they are.
function Get-Activity {
    [double]$time = 0
    [long]$bytes = 0
    [string]$who = ''
    [int]$count = 0
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(48)
    try {
        foreach ($id in (Get-JobProcesses)) {
            if ($id -eq $PID) { continue }
            try {
                [Diagnostics.Process]$one = [Diagnostics.Process]::GetProcessById($id)
                $time = $time + $one.TotalProcessorTime.TotalMilliseconds
                if ((Get-Native)::GetProcessIoCounters($one.Handle, $room) -ne 0) {
                    $bytes = $bytes + [Runtime.InteropServices.Marshal]::ReadInt64($room, 24) + [Runtime.InteropServices.Marshal]::ReadInt64($room, 32)
                }
            } catch { continue }
            $who = $who + ' ' + $id
            $count = $count + 1
        }
    } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
    return @([long]$time, $bytes, $who, $count)
}

function Test-System { return [Security.Principal.WindowsIdentity]::GetCurrent().IsSystem }

# Carries a command line out as whoever is logged on, in that person's own session: by a task, which is gone afterwards.
function Invoke-AsPerson([string]$Line, [double]$Limit) {
    [string]$name = 'Yendo\' + $Plan['id'] + '-person'
    [string]$batch = [IO.Path]::Combine($Room, 'person.cmd')
    [string]$share = [IO.Path]::Combine($Room, 'person')
    [string]$result = [IO.Path]::Combine($share, 'person.txt')
    [string]$xml = [IO.Path]::Combine($Room, 'person.xml')
    if ([IO.Directory]::Exists($share)) { [IO.Directory]::Delete($share, $true) }
    [void][IO.Directory]::CreateDirectory($share)
    [void](Invoke-Call ('icacls.exe "' + $share + '" /grant *S-1-5-4:(OI)(CI)M /q') $true)  # whoever is logged on leaves the exit code there
    [IO.File]::WriteAllText($batch, "@echo off`r`n" + $Line.Replace('%', '%%') + "`r`n>" + '"' + $result + '"' + " echo %errorlevel%`r`n", $Utf8)
    [string]$text = '<?xml version="1.0" encoding="UTF-16"?><Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers/>' +
        '<Principals><Principal id="who"><GroupId>S-1-5-32-545</GroupId><RunLevel>LeastPrivilege</RunLevel></Principal></Principals>' +
        '<Settings><DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries></Settings>' +
        '<Actions Context="who"><Exec><Command>cmd.exe</Command><Arguments>/d /c "' + $batch + '"</Arguments></Exec></Actions></Task>'
    [IO.File]::WriteAllText($xml, $text, [Text.Encoding]::Unicode)
    if ((Invoke-Call ('schtasks.exe /create /tn "' + $name + '" /xml "' + $xml + '" /f') $false)[0] -ne 0) { throw 'no task could be made for the person' }
    [void](Invoke-Call ('schtasks.exe /run /tn "' + $name + '"') $false)
    [DateTime]$until = [DateTime]::UtcNow.AddSeconds($Limit)
    [string]$said = ''
    while (($said -eq '') -and ([DateTime]::UtcNow -lt $until)) {
        [Threading.Thread]::Sleep(200)
        if ([IO.File]::Exists($result)) { try { $said = [IO.File]::ReadAllText($result).Trim() } catch { continue } }
    }
    [void](Invoke-Call ('schtasks.exe /delete /tn "' + $name + '" /f') $false)
    foreach ($file in @($batch, $xml)) { if ([IO.File]::Exists($file)) { [IO.File]::Delete($file) } }
    [IO.Directory]::Delete($share, $true)
    if ($said -eq '') { throw ('the person''s program did not end within ' + $Limit + ' seconds') }
    return [int]$said
}

# Sessions in which a person works: those with a shell.
function Get-Sessions {
    [int[]]$found = @()
    foreach ($shell in [Diagnostics.Process]::GetProcessesByName('explorer')) {
        [Diagnostics.Process]$one = $shell
        if ([Array]::IndexOf($found, $one.SessionId) -lt 0) { $found = @($found + $one.SessionId) }
    }
    return ,$found
}

function Get-People { return (Get-Sessions).Length }

function Get-Text($Texts) {
    [string]$language = [Globalization.CultureInfo]::InstalledUICulture.Name.ToLowerInvariant()
    foreach ($wanted in @($language, $language.Split([char]'-')[0])) {
        foreach ($name in $Texts.Keys) { if ($name.ToLowerInvariant() -eq $wanted) { return $Texts[$name] } }
    }
    foreach ($name in $Plan['first_language']) { if ($Texts.ContainsKey($name)) { return $Texts[$name] } }
    foreach ($name in $Texts.Keys) { return $Texts[$name] }
    return ''
}

# A message to everybody who is logged on. Kind 0 has one button, 1 two; gives back the button (1 agrees, 2 does not), 0 where none was pressed.
function Show-Message([string]$Title, [string]$Text, [int]$Kind, [int]$Seconds, [bool]$Wait) {
    [int]$style = $Kind + 64 + 262144
    [int]$button = 0
    [bool]$shown = $false
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(4)
    try {
        foreach ($session in (Get-Sessions)) {
            [Runtime.InteropServices.Marshal]::WriteInt32($room, 0)
            [int]$waits = 0
            if ($Wait) { $waits = 1 }
            if ((Get-Native)::WTSSendMessageW([IntPtr]::Zero, $session, $Title, 2 * $Title.Length, $Text, 2 * $Text.Length, $style, $Seconds, $room, $waits) -eq 0) { continue }
            [int]$answer = [Runtime.InteropServices.Marshal]::ReadInt32($room)
            if ($Wait -and ($answer -eq 0)) { continue }
            $shown = $true
            if (($answer -eq 1) -or ($answer -eq 2)) { $button = $answer }
        }
        if ((-not $shown) -and (-not (Test-System))) {
            # in the person's own session: on a thread of its own, so that the work never waits longer than it should
            $bare = [Management.Automation.Runspaces.InitialSessionState]::Create()
            $bare.LanguageMode = 'FullLanguage'
            $box = [Management.Automation.PowerShell]::Create($bare)
            [void]$box.AddScript('param($native, $text, $title, $style, $limit) $native::MessageBoxTimeoutW([IntPtr]::Zero, $text, $title, $style, 0, $limit)')
            foreach ($item in @((Get-Native), $Text, $Title, $style, ([Math]::Max(60, $Seconds) * 1000))) { [void]$box.AddArgument($item) }
            $waiting = $box.BeginInvoke()
            $script:Showing = $true
            if ($Wait -and $waiting.AsyncWaitHandle.WaitOne([int]([Math]::Max(1, $Seconds) * 1000))) {
                $answers = $box.EndInvoke($waiting)
                if ($answers.Count -gt 0) { [int]$answer = $answers[0]; if (($answer -eq 1) -or ($answer -eq 2)) { $button = $answer } }
            }
        }
    } catch { Tell message-failed $_.Exception.GetBaseException().Message } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
    return $button
}

# Who has files of the package open, by the system's own list; the programs' names.
function Get-Holders([string[]]$Files) {
    [string[]]$names = @()
    [Collections.ArrayList]$texts = [Collections.ArrayList]::new()
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(70000)
    [int]$session = -1
    try {
        if ((Get-Native)::RmStartSession($room, 0, [IntPtr]::Add($room, 8)) -ne 0) { return ,$names }
        $session = [Runtime.InteropServices.Marshal]::ReadInt32($room)
        [IntPtr]$list = [Runtime.InteropServices.Marshal]::AllocHGlobal(8 * [Math]::Max(1, $Files.Length))
        for ([int]$at = 0; $at -lt $Files.Length; $at++) {
            [IntPtr]$text = [Runtime.InteropServices.Marshal]::StringToHGlobalUni($Files[$at])
            [void]$texts.Add($text)
            [Runtime.InteropServices.Marshal]::WriteIntPtr($list, 8 * $at, $text)
        }
        [void]$texts.Add($list)
        if ((Get-Native)::RmRegisterResources($session, $Files.Length, $list, 0, [IntPtr]::Zero, 0, [IntPtr]::Zero) -ne 0) { return ,$names }
        [Runtime.InteropServices.Marshal]::WriteInt32($room, 0, 0)
        [Runtime.InteropServices.Marshal]::WriteInt32($room, 4, 100)
        if ((Get-Native)::RmGetList($session, $room, [IntPtr]::Add($room, 4), [IntPtr]::Add($room, 16), [IntPtr]::Add($room, 8)) -ne 0) { return ,$names }
        [int]$count = [Runtime.InteropServices.Marshal]::ReadInt32($room, 4)
        for ([int]$at = 0; $at -lt $count; $at++) {
            try { $names = @($names + [Diagnostics.Process]::GetProcessById([Runtime.InteropServices.Marshal]::ReadInt32($room, 16 + 668 * $at)).ProcessName) } catch { continue }
        }
    } catch { Tell holders-unknown $_.Exception.GetBaseException().Message } finally {
        if ($session -ge 0) { [void](Get-Native)::RmEndSession($session) }
        foreach ($text in $texts) { [Runtime.InteropServices.Marshal]::FreeHGlobal($text) }
        [Runtime.InteropServices.Marshal]::FreeHGlobal($room)
    }
    return ,$names
}

function Get-InTheWay($Way) {
    [string[]]$found = @()
    foreach ($name in $Way['programs']) { if ([Diagnostics.Process]::GetProcessesByName($name).Length -gt 0) { $found = @($found + $name) } }
    if ($Way['in_use'].Length -gt 0) {
        [string[]]$files = @($Way['in_use'] | ForEach-Object { [Environment]::ExpandEnvironmentVariables($_) } | Where-Object { [IO.File]::Exists($_) })
        foreach ($name in (Get-Holders $files)) { if (($found -notcontains $name) -and ($name -ne '')) { Tell holder-found $name; $found = @($found + $name) } }
    }
    return ,$found
}

# False where the person postpones.
function Close-Programs($Way) {
    [string[]]$running = Get-InTheWay $Way
    if (($running.Length -eq 0) -and (-not $Way['always'])) { return $true }
    if ($Way['ask'] -and ((Get-People) -gt 0)) { if (-not (Test-Agreed $Way $running)) { return $false } }
    foreach ($name in $running) {
        foreach ($found in [Diagnostics.Process]::GetProcessesByName($name)) {
            [Diagnostics.Process]$process = $found
            Tell close-asked $name
            try {
                [void]$process.CloseMainWindow()
                if (-not $process.WaitForExit([int]($Way['wait'] * 1000))) {
                    Tell program-ended $name
                    $process.Kill()
                    [void]$process.WaitForExit(5000)
                }
            } catch { Tell close-failed $name $_.Exception.Message }
        }
    }
    return $true
}

function Test-Agreed($Way, [string[]]$Running) {
    [string]$file = [IO.Path]::Combine($Room, 'postponed.txt')
    [DateTime]$first = [DateTime]::Now
    [int]$count = 0
    if ([IO.File]::Exists($file)) {
        [string[]]$parts = [IO.File]::ReadAllText($file).Split([char]9)
        [void][DateTime]::TryParse($parts[0], [Globalization.CultureInfo]::InvariantCulture, 'None', [ref]$first)
        if ($parts.Length -gt 1) { [void][int]::TryParse($parts[1], [ref]$count) }
    }
    [DateTime]$last = $first.AddSeconds($Way['postpone_for'])
    if ($LastMoment -lt $last) { $last = $LastMoment }
    [int]$most = $Way['postpone']
    if (($PutOffs -ne '') -and ([int]$PutOffs -lt $most)) { $most = [int]$PutOffs }
    [int]$left = $most - $count
    # a clock that was set back gives no more time than the whole
    if (($left -le 0) -or ([DateTime]::Now -gt $last) -or ($first -gt [DateTime]::Now.AddDays(1))) { Tell postponed-enough; return $true }
    [string]$text = $Plan['name'] + ' ' + $Plan['version']
    if ($Running.Length -gt 0) { $text = $text + ': ' + [string]::Join(', ', $Running) }
    if ($Way['text'].Count -gt 0) { $text = (Get-Text $Way['text']) + "`r`n`r`n" + $text }
    $text = $text + "`r`n" + (Get-Text $Plan['choice']).Replace('{left}', '' + $left).Replace('{last}', $last.ToString('yyyy-MM-dd HH:mm')).Replace('{wait}', '' + [int]($Way['wait'] / 60 + 0.5))
    [string]$title = $Plan['publisher']
    if ($title -eq '') { $title = $Plan['name'] }
    if ((Show-Message $title $text 1 ([int]$Way['wait']) $true) -ne 2) { Tell person-agreed; return $true }
    [void][IO.Directory]::CreateDirectory($Room)
    [IO.File]::WriteAllText($file, $first.ToString('yyyy-MM-ddTHH:mm') + "`t" + ($count + 1), $Utf8)
    Tell postponed ($left - 1)
    return $false
}

# --- the hives of users --------------------------------------------------------------------------------------------------------------

$script:Loaded = @()

# Every user's hive as a key of HKU: those that are loaded, those on the disk, and the one that new users begin with.
function Open-UserHives {
    [string[]]$found = @([Microsoft.Win32.Registry]::Users.GetSubKeyNames() | Where-Object { ($_ -match '^S-1-5-21-[0-9-]+$') -or ($_ -match '^S-1-12-1-[0-9-]+$') })
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(4)
    foreach ($privilege in @(17, 18)) { [void](Get-Native)::RtlAdjustPrivilege($privilege, 1, 0, $room) }
    [Runtime.InteropServices.Marshal]::FreeHGlobal($room)
    [Microsoft.Win32.RegistryKey]$list = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Microsoft\Windows NT\CurrentVersion\ProfileList')
    if ($null -ne $list) {
        foreach ($sid in @($list.GetSubKeyNames() | Where-Object { $_ -match '^S-1-(5-21|12-1)-' })) {
            if ($found -contains $sid) { continue }
            [string]$file = [IO.Path]::Combine(('' + $list.OpenSubKey($sid).GetValue('ProfileImagePath', '')), 'NTUSER.DAT')
            if ([IO.File]::Exists($file) -and ((Get-Native)::RegLoadKeyW([IntPtr]-2147483645, $sid, $file) -eq 0)) { $script:Loaded = @($script:Loaded + $sid); $found = @($found + $sid) }
        }
        [string]$default = [IO.Path]::Combine([Environment]::ExpandEnvironmentVariables('' + $list.GetValue('Default', '%SystemDrive%\Users\Default')), 'NTUSER.DAT')
        if ([IO.File]::Exists($default) -and ((Get-Native)::RegLoadKeyW([IntPtr]-2147483645, 'yendo-default', $default) -eq 0)) { $script:Loaded = @($script:Loaded + 'yendo-default'); $found = @($found + 'yendo-default') }
    }
    return ,@($found | ForEach-Object { $_ + '\' })
}

function Close-UserHives {
    [GC]::Collect()
    [GC]::WaitForPendingFinalizers()
    foreach ($name in $script:Loaded) { [void](Get-Native)::RegUnLoadKeyW([IntPtr]-2147483645, $name) }
    $script:Loaded = @()
}

# --- how far it is --------------------------------------------------------------------------------------------------------------------

$script:Dialog = $null
$script:DialogType = $null

# The system's own progress window, described on the spot: its methods in the order of its table.
function Open-Progress {
    [Reflection.AssemblyName]$name = [Reflection.AssemblyName]::new('YendoProgress')
    $module = ([Reflection.Emit.AssemblyBuilder]::DefineDynamicAssembly($name, 'Run')).DefineDynamicModule('YendoProgress')
    $type = $module.DefineType('IProgressDialog', 'Public, Interface, Abstract, Import')
    foreach ($pair in @(@([Runtime.InteropServices.GuidAttribute], [string], 'EBBC7C04-315E-11D2-B62F-006097DF5BD4'), @([Runtime.InteropServices.InterfaceTypeAttribute], [Runtime.InteropServices.ComInterfaceType], [Runtime.InteropServices.ComInterfaceType]::InterfaceIsIUnknown))) {
        $type.SetCustomAttribute([Reflection.Emit.CustomAttributeBuilder]::new($pair[0].GetConstructor([Type[]]@(,$pair[1])), [object[]]@(,$pair[2])))
    }
    foreach ($row in @(
            @('StartProgressDialog', @([IntPtr], [IntPtr], [int], [IntPtr])), @('StopProgressDialog', @()), @('SetTitle', @(,[IntPtr])),
            @('SetAnimation', @([IntPtr], [int])), @('HasUserCancelled', @()), @('SetProgress', @([int], [int])), @('SetProgress64', @([long], [long])),
            @('SetLine', @([int], [IntPtr], [int], [IntPtr])))) {
        $method = $type.DefineMethod($row[0], 'Public, Abstract, Virtual, HideBySig, NewSlot', [int], [Type[]]$row[1])
        $method.SetImplementationFlags('PreserveSig')
    }
    $script:DialogType = $type.CreateType()
    $script:Dialog = [Activator]::CreateInstance([Type]::GetTypeFromCLSID([Guid]::new('F8383852-FCD3-11D1-A6B9-006097DF5BD4')))
    Set-Dialog 'SetTitle' @(, (New-Text $Plan['name']))
    Set-Dialog 'StartProgressDialog' @([IntPtr]::Zero, [IntPtr]::Zero, 64, [IntPtr]::Zero)
}

function New-Text([string]$Text) { return [Runtime.InteropServices.Marshal]::StringToCoTaskMemUni($Text) }

function Set-Dialog([string]$Method, $Arguments) { [void]$script:DialogType.GetMethod($Method).Invoke($script:Dialog, [object[]]$Arguments) }

# Shown only where somebody is there to see it and the runner is in that session; a window that cannot be shown disturbs nothing.
function Show-Progress([string]$Title, [int]$Number, [int]$Count) {
    if ((-not $Plan['progress']) -or (Test-System) -or ((Get-People) -eq 0)) { return }
    try {
        if ($null -eq $script:Dialog) { Open-Progress; Tell progress-shown }
        Set-Dialog 'SetProgress' @(($Number - 1), $Count)
        Set-Dialog 'SetLine' @(1, (New-Text ($Plan['name'] + ' ' + $Plan['version'])), 0, [IntPtr]::Zero)
        Set-Dialog 'SetLine' @(2, (New-Text $Title), 0, [IntPtr]::Zero)
    } catch { $script:Dialog = $null; $Plan['progress'] = $false; Tell progress-failed $_.Exception.GetBaseException().Message }
}

function Hide-Progress {
    if ($null -eq $script:Dialog) { return }
    try { Set-Dialog 'StopProgressDialog' @() } catch { Tell progress-stuck }
}

# --- a host that many people share at once ------------------------------------------------------------------------

# Programs are installed in its install mode. A mark says so until it is out of it again, also where a run is cut off.
function Enter-InstallMode {
    if ((-not $Plan['install_mode']) -or ((Get-Fact 'multi-session') -ne $true)) { return }
    [IO.File]::WriteAllText([IO.Path]::Combine($Room, 'install-mode.txt'), '', $Utf8)
    Set-InstallMode 'install' 'on'
}

function Exit-InstallMode([string]$Of) {
    [string]$mark = [IO.Path]::Combine($Of, 'install-mode.txt')
    if (-not [IO.File]::Exists($mark)) { return }
    Set-InstallMode 'execute' 'off'
    [IO.File]::Delete($mark)
}

function Set-InstallMode([string]$Mode, [string]$Word) {
    [int]$code = 2
    try { $code = (Invoke-Call ('change.exe user /' + $Mode) $false)[0] } catch { }
    Tell install-mode $Word $code
}

# What another package's run has left on, that was cut off and is not at work any more.
function Exit-OthersMode {
    foreach ($folder in [IO.Directory]::GetDirectories([IO.Path]::GetDirectoryName($Room))) {
        if (($folder -eq $Room) -or (-not [IO.File]::Exists([IO.Path]::Combine($folder, 'install-mode.txt')))) { continue }
        try { [IO.FileStream]$held = [IO.File]::Open([IO.Path]::Combine($folder, 'lock'), 'OpenOrCreate', 'ReadWrite', 'None') } catch { continue }
        try { Exit-InstallMode $folder } finally { $held.Dispose() }
    }
}
