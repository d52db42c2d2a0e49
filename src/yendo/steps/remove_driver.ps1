function Step-RemoveDriver($Step) {
    [Collections.SortedList]$found = [Collections.SortedList]::new([StringComparer]::Ordinal)
    [Microsoft.Win32.RegistryKey]$names = Get-Key 'HKLM' '64' 'System\DriverDatabase\DriverInfFiles'
    if ($null -ne $names) {
        foreach ($name in $names.GetSubKeyNames()) {
            [Microsoft.Win32.RegistryKey]$key = $names.OpenSubKey($name)
            foreach ($folder in @($key.GetValue('', @()))) {
                if (-not ('' + $folder).StartsWith($Step['inf'] + '_', [StringComparison]::OrdinalIgnoreCase)) { continue }
                [string]$version = Get-DriverVersion $folder $Step['inf']
                if (Test-Range $version $Step['version']) { $found[$name] = $version }
            }
        }
    }
    if ($found.Count -eq 0) { Tell no-entry-found; return @('not needed', 0) }
    [string]$final = 'done'
    foreach ($name in @($found.Keys)) {
        Tell entry-found $Step['inf'] $found[$name]
        [string]$line = 'pnputil.exe /delete-driver ' + $name + ' /uninstall'
        Tell command-began $line
        [int]$code = (Invoke-Call $line $true)[0]
        [string]$meaning = 'failed'
        if ($Step['codes'].ContainsKey('' + $code)) { $meaning = $Step['codes']['' + $code] }
        Tell command-ended $code $meaning
        if ($meaning -eq 'failed') { return @($meaning, $code) }
        if ($meaning -eq 'restart') { $final = $meaning }
    }
    return @($final, 0)
}
