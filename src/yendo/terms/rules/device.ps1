# The keys of the devices that have an identifier, by the system's own list.
function Get-DeviceKeys([string]$Identifier) {
    [Collections.Generic.List[string]]$found = [Collections.Generic.List[string]]::new()
    [string]$top = 'System\CurrentControlSet\Enum'
    foreach ($bus in (Get-Names $top)) {
        foreach ($kind in (Get-Names ($top + '\' + $bus))) {
            foreach ($one in (Get-Names ($top + '\' + $bus + '\' + $kind))) {
                [string]$path = $top + '\' + $bus + '\' + $kind + '\' + $one
                $key = $null
                try { $key = Get-Key 'HKLM' '64' $path } catch { continue }  # one that is closed to us
                if ($null -eq $key) { continue }
                foreach ($name in @('HardwareID', 'CompatibleIDs')) {
                    foreach ($text in @($key.GetValue($name, @()))) {
                        if ([string]::Equals('' + $text, $Identifier, 'OrdinalIgnoreCase') -and (-not $found.Contains($path))) { $found.Add($path) }
                    }
                }
            }
        }
    }
    $found.Sort([StringComparer]::Ordinal)
    return , [string[]]$found.ToArray()
}

function Test-Device($Rule) {
    [string]$fact = 'no device ' + $Rule['device'] + ' is known here'
    [bool]$holds = $Rule['missing']
    foreach ($path in (Get-DeviceKeys $Rule['device'])) {
        [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' $path
        [string]$named = '' + $key.GetValue('Driver', '')
        if ($named -eq '') { $holds = $false; $fact = $Rule['device'] + ' has no driver'; continue }
        [string]$provider = ''
        [string]$version = ''
        [Microsoft.Win32.RegistryKey]$place = Get-Key 'HKLM' '64' ('System\CurrentControlSet\Control\Class\' + $named)
        if ($null -ne $place) { $provider = '' + $place.GetValue('ProviderName', ''); $version = '' + $place.GetValue('DriverVersion', '') }
        $fact = $Rule['device'] + ' uses ' + $(if ($version -ne '') { $version } else { 'no version' }) + ' by ' + $(if ($provider -ne '') { $provider } else { 'nobody named' })
        $same = ($Rule['provider'] -eq '') -or [string]::Equals($provider, $Rule['provider'], 'OrdinalIgnoreCase')
        if ($same -and (Test-Range $version $Rule['version'])) { return @($true, $fact) }
        $holds = $false
    }
    return @($holds, $fact)
}
