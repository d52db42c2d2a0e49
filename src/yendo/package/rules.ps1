function Get-Number([string]$Text) {
    [string[]]$parts = $Text.Trim().Split([char]'.')
    if ($parts.Length -gt 4) { return $null }
    [int[]]$fields = @(0, 0, 0, 0)
    for ([int]$at = 0; $at -lt $parts.Length; $at++) {
        [int]$number = 0
        if ($parts[$at] -notmatch '^[0-9]{1,5}$') { return $null }
        $number = [int]$parts[$at]
        if ($number -gt 65535) { return $null }
        $fields[$at] = $number
    }
    return [Version]::new($fields[0], $fields[1], $fields[2], $fields[3])
}

function Test-Range([string]$Text, $Bounds) {
    if ($Bounds.Length -eq 0) { return $true }
    $version = Get-Number $Text
    if ($null -eq $version) { return $false }
    foreach ($bound in $Bounds) {
        [Version]$mine = $version
        [int]$order = $mine.CompareTo([Version]::new($bound['version']))
        [bool]$fits = switch ($bound['sign']) { '>=' { $order -ge 0 } '<=' { $order -le 0 } '>' { $order -gt 0 } '<' { $order -lt 0 } default { $order -eq 0 } }
        if (-not $fits) { return $false }
    }
    return $true
}

function Get-Key([string]$Hive, [string]$View, [string]$Path) {
    [string]$root = switch ($Hive) { 'HKCU' { 'CurrentUser' } default { 'LocalMachine' } }
    [Microsoft.Win32.RegistryKey]$base = [Microsoft.Win32.RegistryKey]::OpenBaseKey($root, 'Registry' + $View)
    return $base.OpenSubKey($Path)
}

function Get-Names([string]$Path) {
    [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' $Path
    if ($null -eq $key) { return @() }
    return $key.GetSubKeyNames()
}

# The keys of the devices that the machine knows, in the order of their paths.
function Get-Devices {
    [Collections.SortedList]$found = [Collections.SortedList]::new([StringComparer]::Ordinal)
    [string]$top = 'System\CurrentControlSet\Enum'
    foreach ($bus in (Get-Names $top)) {
        foreach ($kind in (Get-Names ($top + '\' + $bus))) {
            foreach ($one in (Get-Names ($top + '\' + $bus + '\' + $kind))) {
                [string]$path = $top + '\' + $bus + '\' + $kind + '\' + $one
                $key = $null
                try { $key = Get-Key 'HKLM' '64' $path } catch { continue }  # one that is closed to us
                if ($null -ne $key) { $found[$path] = $key }
            }
        }
    }
    return , @($found.Values)
}

# Whether a device has any of these identifiers.
function Test-Identifier($Device, [string[]]$Any) {
    foreach ($name in @('HardwareID', 'CompatibleIDs')) {
        foreach ($text in @($Device.GetValue($name, @()))) {
            foreach ($wanted in $Any) { if ([string]::Equals('' + $text, $wanted, 'OrdinalIgnoreCase')) { return $true } }
        }
    }
    return $false
}

function Get-Answer([string]$Name, [string]$Arguments) {
    [Diagnostics.ProcessStartInfo]$start = [Diagnostics.ProcessStartInfo]::new([IO.Path]::Combine([Environment]::SystemDirectory, $Name), $Arguments)
    $start.UseShellExecute = $false
    $start.RedirectStandardOutput = $true
    $start.CreateNoWindow = $true
    try {
        [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start)
        [string]$text = $process.StandardOutput.ReadToEnd()
        $process.WaitForExit()
        return @($process.ExitCode, $text)
    } catch { return @(-1, '') }
}

function Get-DriverVersion([string]$Folder, [string]$Inf) {
    # the store keeps the file of the driver itself: DriverVer = date, version
    [string]$path = [IO.Path]::Combine([Environment]::ExpandEnvironmentVariables('%SystemRoot%\System32\DriverStore\FileRepository'), $Folder, $Inf)
    if (-not [IO.File]::Exists($path)) { return '' }
    if (([IO.FileInfo]::new($path)).Length -gt 16777216) { return '' }
    [Text.RegularExpressions.Match]$match = [regex]::Match([IO.File]::ReadAllText($path), '(?im)^\s*DriverVer\s*=[^,\r\n]*,\s*([0-9.]+)')
    return $match.Groups[1].Value
}
