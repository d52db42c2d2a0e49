function Test-UninstallEntry($Rule) {
    [string]$fact = 'no such entry'
    foreach ($hive in @('HKLM', 'HKCU')) {
        foreach ($view in $Rule['views']) {
            [Microsoft.Win32.RegistryKey]$list = Get-Key $hive $view 'Software\Microsoft\Windows\CurrentVersion\Uninstall'
            if ($null -eq $list) { continue }
            foreach ($name in $list.GetSubKeyNames()) {
                [Microsoft.Win32.RegistryKey]$entry = $list.OpenSubKey($name)
                if ($null -eq $entry) { continue }
                [string]$shown = $entry.GetValue('DisplayName', '')
                if ($shown -eq '') { continue }
                if ($Rule['like'] -ne '') { if (-not [regex]::IsMatch($shown, $Rule['like'], 'IgnoreCase, CultureInvariant, Singleline')) { continue } }
                elseif ($shown -cne $Rule['name']) { continue }
                [string]$publisher = $entry.GetValue('Publisher', '')
                if (($Rule['publisher'] -ne '') -and ($publisher -cne $Rule['publisher'])) { $fact = $shown + ' is of ' + $publisher; continue }
                [string]$version = $entry.GetValue('DisplayVersion', '')
                $fact = 'version ' + $version + ' is listed'
                if (Test-Range $version $Rule['version']) { return @($true, $fact) }
            }
        }
    }
    return @($false, $fact)
}
