# Says what this computer is: facts, programs, devices with the drivers that they use. It only reads; as administrator it
# sees everybody's programs that are logged on. Prints one JSON text, or writes it: inventory.ps1 [-To FILE]
# Made by Yendo. Windows PowerShell 5.1 or later, 64 bits.
param([string]$To = '')

#DATA#

$ErrorActionPreference = 'Stop'
[Text.UTF8Encoding]$Utf8 = [Text.UTF8Encoding]::new($false)
$Native = $null

#TEXTS#
#NATIVE#
function Get-Native {
    if ($null -eq $script:Native) {
        $script:Native = New-Native 'YendoInventory' @(
            @('GlobalMemoryStatusEx', 'kernel32.dll', [int], @([IntPtr])),
            @('GetSystemPowerStatus', 'kernel32.dll', [int], @([IntPtr])),
            @('GetSystemFirmwareTable', 'kernel32.dll', [int], @([int], [int], [IntPtr], [int])),
            @('MoveFileExW', 'kernel32.dll', [int], @([string], [string], [int])),
            @('SetupDiGetClassDevsW', 'setupapi.dll', [IntPtr], @([IntPtr], [IntPtr], [IntPtr], [int])),
            @('SetupDiEnumDeviceInfo', 'setupapi.dll', [int], @([IntPtr], [int], [IntPtr])),
            @('SetupDiGetDeviceRegistryPropertyW', 'setupapi.dll', [int], @([IntPtr], [IntPtr], [int], [IntPtr], [IntPtr], [int], [IntPtr])),
            @('SetupDiGetDevicePropertyW', 'setupapi.dll', [int], @([IntPtr], [IntPtr], [IntPtr], [IntPtr], [IntPtr], [int], [IntPtr], [int])),
            @('SetupDiDestroyDeviceInfoList', 'setupapi.dll', [int], @([IntPtr])))
    }
    return $script:Native
}

#FACTS#
# --- what it is -------------------------------------------------------------------------------------------------------------

# The identifier that its maker gave the computer, out of the firmware's tables; nothing where that is no real one.
function Get-Identity {
    [int]$size = (Get-Native)::GetSystemFirmwareTable(1381190978, 0, [IntPtr]::Zero, 0)  # 'RSMB'
    if (($size -le 8) -or ($size -gt 1048576)) { return '' }
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal($size)
    try {
        if ((Get-Native)::GetSystemFirmwareTable(1381190978, 0, $room, $size) -ne $size) { return '' }
        [byte[]]$table = [byte[]]::new($size)
        [Runtime.InteropServices.Marshal]::Copy($room, $table, 0, $size)
    } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
    [int]$at = 8
    while ($at + 4 -lt $size) {
        [int]$length = $table[$at + 1]
        if ($length -lt 4) { return '' }
        if (($table[$at] -eq 1) -and ($length -ge 25) -and ($at + 24 -le $size)) {
            [byte[]]$bytes = [byte[]]::new(16)
            [Array]::Copy($table, $at + 8, $bytes, 0, 16)
            [string]$text = [Guid]::new($bytes).ToString()
            # what boards carry whose maker has put nothing there
            if (($text -match '^[0-]+$') -or ($text -match '^[f-]+$') -or ($text -eq '03000200-0400-0500-0006-000700080009')) { return '' }
            return $text
        }
        # behind each entry stand its texts, up to two zeros
        $at = $at + $length
        while (($at + 1 -lt $size) -and (($table[$at] -ne 0) -or ($table[$at + 1] -ne 0))) { $at = $at + 1 }
        $at = $at + 2
    }
    return ''
}

function Format-Pair([string]$Name, [string]$Text) { if ($Text -eq '') { return '' } return (Format-Json $Name) + ': ' + (Format-Json $Text) }

function Format-Object([string[]]$Pairs) { return '{' + [string]::Join(', ', [string[]]@($Pairs | Where-Object { $_ -ne '' })) + '}' }

function Format-List([string[]]$Texts) { return '[' + [string]::Join(', ', [string[]]@($Texts | ForEach-Object { Format-Json $_ })) + ']' }

# --- programs ---------------------------------------------------------------------------------------------------------------

function Get-Entries([Microsoft.Win32.RegistryKey]$Root, [string]$Above) {
    $key = $Root.OpenSubKey($Above + 'Software\Microsoft\Windows\CurrentVersion\Uninstall')
    if ($null -eq $key) { return }
    foreach ($name in $key.GetSubKeyNames()) {
        try {
            $entry = $key.OpenSubKey($name)
            [string]$title = '' + $entry.GetValue('DisplayName', '')
            if ($title -eq '') { continue }
            [string]$sort = ''
            if (('1' -eq ('' + $entry.GetValue('WindowsInstaller', ''))) -and ($name -match '^\{[0-9A-Fa-f-]{36}\}$')) { $sort = 'product' }
            Format-Object @((Format-Pair 'program' $title), (Format-Pair 'version' ('' + $entry.GetValue('DisplayVersion', ''))), (Format-Pair 'publisher' ('' + $entry.GetValue('Publisher', ''))), (Format-Pair 'code' $name), (Format-Pair 'sort' $sort))
        } catch { continue }  # a key that is closed to us
    }
}

function Get-Programs {
    foreach ($view in @('Registry64', 'Registry32')) { Get-Entries ([Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', $view)) '' }
    [Microsoft.Win32.RegistryKey]$users = [Microsoft.Win32.RegistryKey]::OpenBaseKey('Users', 'Registry64')
    foreach ($sid in @($users.GetSubKeyNames() | Where-Object { ($_ -match '^S-1-5-21-[0-9-]+$') -or ($_ -match '^S-1-12-1-[0-9-]+$') })) { Get-Entries $users ($sid + '\') }
    $apps = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Applications')
    if ($null -ne $apps) {
        foreach ($name in $apps.GetSubKeyNames()) { [string[]]$parts = $name.Split([char]'_'); if ($parts.Length -ge 2) { Format-Object @((Format-Pair 'program' $parts[0]), (Format-Pair 'version' $parts[1]), (Format-Pair 'sort' 'app')) } }
    }
    [string]$ours = [Environment]::ExpandEnvironmentVariables('%ProgramFiles%\Yendo\installed')
    if ([IO.Directory]::Exists($ours)) {
        foreach ($path in [IO.Directory]::GetFiles($ours, '*.txt')) { Format-Object @((Format-Pair 'program' ([IO.Path]::GetFileNameWithoutExtension($path))), (Format-Pair 'version' ([IO.File]::ReadAllText($path, $Utf8).Trim())), (Format-Pair 'sort' 'package')) }
    }
}

# --- devices ----------------------------------------------------------------------------------------------------------------

# A property of a device as the system's own call gives it: texts.
function Get-DeviceTexts([IntPtr]$All, [IntPtr]$One, [int]$Which, [IntPtr]$Room) {
    if ((Get-Native)::SetupDiGetDeviceRegistryPropertyW($All, $One, $Which, [IntPtr]::Zero, $Room, 16384, [IntPtr]::Zero) -eq 0) { return ,[string[]]@() }
    [Collections.ArrayList]$found = [Collections.ArrayList]::new()
    [int]$at = 0
    while ($at -lt 16384) {
        [string]$text = [Runtime.InteropServices.Marshal]::PtrToStringUni([IntPtr]::Add($Room, $at))
        if ($text -eq '') { break }
        [void]$found.Add($text)
        $at = $at + 2 * $text.Length + 2
        if (($Which -ne 1) -and ($Which -ne 2)) { break }  # identifiers are lists, all else is one text
    }
    return ,[string[]]$found.ToArray()
}

# How good the match is, as the system has reckoned it (DEVPKEY_Device_DriverRank); -1 where it does not say.
function Get-DriverRank([IntPtr]$All, [IntPtr]$One, [IntPtr]$Room) {
    [IntPtr]$key = [Runtime.InteropServices.Marshal]::AllocHGlobal(24)
    try {
        [Runtime.InteropServices.Marshal]::Copy([Guid]::new('a8b865dd-2e3d-4094-ad97-e593a70c75d6').ToByteArray(), 0, $key, 16)
        [Runtime.InteropServices.Marshal]::WriteInt32($key, 16, 14)
        if ((Get-Native)::SetupDiGetDevicePropertyW($All, $One, $key, [IntPtr]::Add($key, 20), $Room, 4, [IntPtr]::Zero, 0) -eq 0) { return [long]-1 }
        return [long]([Runtime.InteropServices.Marshal]::ReadInt32($Room)) -band 4294967295
    } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($key) }
}

# What the driver's key says of the driver that a device uses. Its date is month-day-year.
function Get-UsedDriver([string]$Key) {
    $found = @{ 'inf' = ''; 'provider' = ''; 'version' = ''; 'date' = ''; 'matching' = '' }
    if ($Key -eq '') { return $found }
    $opened = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('System\CurrentControlSet\Control\Class\' + $Key)
    if ($null -eq $opened) { return $found }
    foreach ($pair in @(@('inf', 'InfPath'), @('provider', 'ProviderName'), @('version', 'DriverVersion'), @('matching', 'MatchingDeviceId'))) { $found[$pair[0]] = '' + $opened.GetValue($pair[1], '') }
    [DateTime]$day = [DateTime]::MinValue
    if ([DateTime]::TryParseExact(('' + $opened.GetValue('DriverDate', '')), 'M-d-yyyy', [Globalization.CultureInfo]::InvariantCulture, 'None', [ref]$day)) { $found['date'] = $day.ToString('yyyy-MM-dd', [Globalization.CultureInfo]::InvariantCulture) }
    return $found
}

# The devices that are there now.
function Get-Devices {
    [IntPtr]$all = (Get-Native)::SetupDiGetClassDevsW([IntPtr]::Zero, [IntPtr]::Zero, [IntPtr]::Zero, 6)  # present, of all classes
    if ($all -eq [IntPtr]-1) { throw 'the devices cannot be listed' }
    [IntPtr]$one = [Runtime.InteropServices.Marshal]::AllocHGlobal(32)
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(16388)
    try {
        [Runtime.InteropServices.Marshal]::WriteInt32([IntPtr]::Add($room, 16384), 0)
        [int]$size = 28
        if ([IntPtr]::Size -eq 8) { $size = 32 }
        [Runtime.InteropServices.Marshal]::WriteInt32($one, $size)
        for ([int]$number = 0; (Get-Native)::SetupDiEnumDeviceInfo($all, $number, $one) -ne 0; $number++) {
            [string[]]$hardware = Get-DeviceTexts $all $one 1 $room
            [string[]]$compatible = Get-DeviceTexts $all $one 2 $room
            if ($hardware.Length + $compatible.Length -eq 0) { continue }
            [string]$words = ''
            foreach ($which in @(12, 0)) { if ($words -eq '') { $words = '' + (Get-DeviceTexts $all $one $which $room)[0] } }
            [string[]]$class = Get-DeviceTexts $all $one 7 $room
            [string[]]$key = Get-DeviceTexts $all $one 9 $room
            $used = Get-UsedDriver ('' + $key[0])
            [long]$rank = Get-DriverRank $all $one $room
            [string[]]$pairs = @((Format-Pair 'device' $words), ('"hardware": ' + (Format-List $hardware)), ('"compatible": ' + (Format-List $compatible)), (Format-Pair 'class' ('' + $class[0])))
            foreach ($name in @('inf', 'provider', 'date', 'version', 'matching')) { $pairs = @($pairs + (Format-Pair $name $used[$name])) }
            if ($rank -ge 0) { $pairs = @($pairs + ('"rank": ' + $rank)) }
            Format-Object $pairs
        }
    } finally {
        [void](Get-Native)::SetupDiDestroyDeviceInfoList($all)
        [Runtime.InteropServices.Marshal]::FreeHGlobal($one)
        [Runtime.InteropServices.Marshal]::FreeHGlobal($room)
    }
}

# --- all of it --------------------------------------------------------------------------------------------------------------

[string[]]$facts = @(@('windows', 'architecture', 'edition', 'language', 'memory', 'domain', 'shell', 'dotnet', 'multi-session', 'disk C') | ForEach-Object { $value = Get-Fact $_; if ($null -ne $value) { Format-Pair $_ (Format-Fact $value) } })
[string]$board = 'HARDWARE\DESCRIPTION\System\BIOS'
[string]$model = (('' + (Read-Machine $board 'SystemManufacturer')) + ' ' + ('' + (Read-Machine $board 'SystemProductName'))).Trim()
[string]$text = Format-Object @(
    (Format-Pair 'computer' ([Environment]::MachineName)), (Format-Pair 'identity' (Get-Identity)), (Format-Pair 'seen' ([DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ssZ'))), (Format-Pair 'model' $model),
    ('"facts": ' + (Format-Object $facts)), ('"programs": [' + [string]::Join(', ', [string[]]@(Get-Programs)) + ']'), ('"devices": [' + [string]::Join(', ', [string[]]@(Get-Devices)) + ']'))
if ($To -eq '') { [Console]::WriteLine($text); exit 0 }
# whoever reads it finds it whole or not at all
[IO.File]::WriteAllText($To + '.new', $text + "`n", $Utf8)
if ((Get-Native)::MoveFileExW($To + '.new', $To, 9) -eq 0) { throw ($To + ' cannot be put in place') }
exit 0
