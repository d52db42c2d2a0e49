function Find-Previous($Step) {
    [string[]]$related = @()
    if ($Step['upgrade'] -ne '') {
        foreach ($place in @(@('HKLM', 'Software\Microsoft\Windows\CurrentVersion\Installer\UpgradeCodes\'), @('HKLM', 'Software\Classes\Installer\UpgradeCodes\'), @('HKCU', 'Software\Microsoft\Installer\UpgradeCodes\'))) {
            [Microsoft.Win32.RegistryKey]$codes = Get-Key $place[0] '64' ($place[1] + $Step['upgrade'])
            if ($null -ne $codes) { $related = @($related + $codes.GetValueNames()) }
        }
    }
    [Collections.SortedList]$found = [Collections.SortedList]::new([StringComparer]::Ordinal)
    foreach ($hive in @('HKLM', 'HKCU')) {
        foreach ($view in @('64', '32')) {
            if (($hive -eq 'HKCU') -and ($view -eq '32')) { continue }
            [Microsoft.Win32.RegistryKey]$list = Get-Key $hive $view 'Software\Microsoft\Windows\CurrentVersion\Uninstall'
            if ($null -eq $list) { continue }
            foreach ($key in $list.GetSubKeyNames()) {
                [Microsoft.Win32.RegistryKey]$entry = $list.OpenSubKey($key)
                [string]$name = $entry.GetValue('DisplayName', '')
                [string]$version = $entry.GetValue('DisplayVersion', '')
                if (($name -eq '') -and (('' + $entry.GetValue('UninstallString', '')) -eq '')) { continue }
                if (($Step['product'] -ne '') -and ($key.ToUpperInvariant() -ne $Step['product'])) { continue }
                if (($Step['upgrade'] -ne '') -and ([Array]::IndexOf($related, (Join-Code $key)) -lt 0)) { continue }
                if ($Step['name'] -ne '') {
                    [string]$pattern = '^' + [regex]::Escape($Step['name']).Replace('\*', '.*') + '$'
                    if (-not [regex]::IsMatch($name, $pattern, 'IgnoreCase, Singleline')) { continue }
                }
                if (($Step['publisher'] -ne '') -and (('' + $entry.GetValue('Publisher', '')) -ne $Step['publisher'])) { continue }
                if (-not (Test-Range $version $Step['version'])) { continue }
                $found[($hive + '/' + $view + '\' + $key).ToLowerInvariant()] = @($key, $name, $version, ('' + $entry.GetValue('QuietUninstallString', '')), ('' + $entry.GetValue('UninstallString', '')))
            }
        }
    }
    return ,@($found.Values)
}

function Join-Code([string]$Code) {
    if ($Code -notmatch '^\{[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}$') { return '' }
    [string[]]$parts = $Code.Trim([char[]]'{}').ToUpperInvariant().Split([char]'-')
    [Text.StringBuilder]$out = [Text.StringBuilder]::new()
    for ([int]$part = 0; $part -lt 3; $part++) { for ([int]$at = $parts[$part].Length - 1; $at -ge 0; $at--) { [void]$out.Append($parts[$part][$at]) } }
    [string]$rest = $parts[3] + $parts[4]
    for ([int]$at = 0; $at -lt 16; $at = $at + 2) { [void]$out.Append($rest[$at + 1]); [void]$out.Append($rest[$at]) }
    return $out.ToString()
}

function Format-Started([string]$Line) {
    [Text.RegularExpressions.Match]$match = [regex]::Match($Line, '^([^"]*?\.exe)(\s|$)', 'IgnoreCase')
    if ($match.Success -and ($match.Groups[1].Value.IndexOf(' ') -ge 0)) { return '"' + $match.Groups[1].Value + '"' + $Line.Substring($match.Groups[1].Length) }
    return $Line
}

function Step-RemovePrevious($Step) {
    $found = Find-Previous $Step
    if ($found.Length -eq 0) { Tell no-entry-found; return @('not needed', 0) }
    [string]$final = 'done'
    foreach ($entry in $found) {
        [string]$name = $entry[1]
        if ($name -eq '') { $name = $entry[0] }
        Tell entry-found $name $entry[2]
        [string]$line = ''
        if (((Join-Code $entry[0]) -ne '') -and (($entry[4] -eq '') -or ($entry[4] -match '\bmsiexec'))) { $line = 'msiexec.exe /x ' + $entry[0] + ' /qn /norestart' }
        elseif ($entry[3] -ne '') { $line = Format-Started $entry[3] }
        elseif (($entry[4] -ne '') -and ($Step['arguments'] -ne '')) { $line = (Format-Started $entry[4]) + ' ' + $Step['arguments'] }
        if ($line -eq '') { Tell no-quiet-uninstall; return @('failed', #STEP_FAILED#) }
        [int]$code = (Invoke-Call ([Environment]::ExpandEnvironmentVariables($line)) $false)[0]
        [string]$meaning = 'failed'
        if ($Step['codes'].ContainsKey('' + $code)) { $meaning = $Step['codes']['' + $code] }
        Tell command-ended $code $meaning
        if (($meaning -eq 'failed') -or ($meaning -eq 'again later')) { return @($meaning, $code) }
        if (($meaning -eq 'restart') -or ($meaning -eq 'restarting')) { $final = $meaning }
    }
    return @($final, 0)
}
