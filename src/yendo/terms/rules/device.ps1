function Test-Device($Rule) {
    [string]$fact = 'no device ' + $Rule['device'] + ' is known here'
    [bool]$holds = $Rule['missing']
    foreach ($key in (Get-Devices)) {
        if (-not (Test-Identifier $key @(, $Rule['device']))) { continue }
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
