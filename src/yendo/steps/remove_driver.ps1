# What the driver's own file says of itself under a name of its section Version, strings put in.
function Get-DriverWord([string]$Path, [string]$Name) {
    if ((-not [IO.File]::Exists($Path)) -or (([IO.FileInfo]::new($Path)).Length -gt 16777216)) { return '' }
    [string]$text = [IO.File]::ReadAllText($Path)
    [string]$found = [regex]::Match($text, '(?im)^\s*' + $Name + '\s*=\s*([^;\r\n]*)').Groups[1].Value.Trim().Trim([char]'"')
    if (($found.Length -gt 2) -and ($found[0] -eq [char]'%') -and $found.EndsWith('%')) {
        $found = [regex]::Match($text, '(?im)^\s*' + [regex]::Escape($found.Trim([char]'%')) + '\s*=\s*"?([^"\r\n]*)"?').Groups[1].Value.Trim()
    }
    return $found
}

# Whether a device that is none of these uses the driver that the store calls so.
function Test-OtherDevice([string]$Name, [string[]]$Mine) {
    foreach ($key in (Get-Devices)) {
        [string]$place = '' + $key.GetValue('Driver', '')
        if ($place -eq '') { continue }
        $class = Get-Key 'HKLM' '64' ('System\CurrentControlSet\Control\Class\' + $place)
        if (($null -eq $class) -or (-not [string]::Equals('' + $class.GetValue('InfPath', ''), $Name, 'OrdinalIgnoreCase'))) { continue }
        if (-not (Test-Identifier $key $Mine)) { return $true }
    }
    return $false
}

function Step-RemoveDriver($Step) {
    [Collections.SortedList]$found = [Collections.SortedList]::new([StringComparer]::Ordinal)
    [string]$store = [Environment]::ExpandEnvironmentVariables('%SystemRoot%\System32\DriverStore\FileRepository')
    [Microsoft.Win32.RegistryKey]$names = Get-Key 'HKLM' '64' 'System\DriverDatabase\DriverInfFiles'
    if ($null -ne $names) {
        foreach ($name in $names.GetSubKeyNames()) {
            if ($name -notmatch '^oem[0-9]+\.inf$') { continue }  # the system's own
            [Microsoft.Win32.RegistryKey]$key = $names.OpenSubKey($name)
            foreach ($folder in @($key.GetValue('', @()))) {
                [int]$cut = ('' + $folder).ToLowerInvariant().IndexOf('.inf_')
                if ($cut -lt 1) { continue }
                [string]$own = ('' + $folder).Substring(0, $cut + 4)
                if (($Step['inf'] -ne '') -and (-not [string]::Equals($own, $Step['inf'], 'OrdinalIgnoreCase'))) { continue }
                [string]$version = Get-DriverVersion $folder $own
                [bool]$fits = Test-Range $version $Step['version']
                foreach ($word in $Step['says'].Keys) { if (-not [string]::Equals((Get-DriverWord ([IO.Path]::Combine($store, $folder, $own)) $word), $Step['says'][$word], 'OrdinalIgnoreCase')) { $fits = $false } }
                if ($fits) { $found[$name] = @($own, $version) }
            }
        }
    }
    if ($found.Count -eq 0) { Tell no-entry-found; return @('not needed', 0) }
    [string]$final = 'not needed'
    foreach ($name in @($found.Keys)) {
        Tell entry-found $found[$name][0] $found[$name][1]
        if (($Step['devices'].Length -gt 0) -and (Test-OtherDevice $name $Step['devices'])) { Tell left 'another device uses it' $name; continue }
        [string]$line = 'pnputil.exe /delete-driver ' + $name + ' /uninstall'
        Tell command-began $line
        [int]$code = (Invoke-Call $line $true)[0]
        [string]$meaning = 'failed'
        if ($Step['codes'].ContainsKey('' + $code)) { $meaning = $Step['codes']['' + $code] }
        Tell command-ended $code $meaning
        if ($meaning -eq 'failed') { return @($meaning, $code) }
        if ($final -ne 'restart') { $final = $meaning }
    }
    return @($final, 0)
}
