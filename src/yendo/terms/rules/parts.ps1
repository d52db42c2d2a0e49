function Test-Task($Rule) {
    [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' ('Software\Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache\Tree\' + $Rule['name'])
    if (($null -eq $key) -or ($null -eq $key.GetValue('Id', $null))) { return @($false, ('task ' + $Rule['name'] + ' does not exist')) }
    return @($true, ('task ' + $Rule['name'] + ' is there'))
}

function Test-Driver($Rule) {
    [string]$fact = $Rule['inf'] + ' is not in the store'
    foreach ($name in (Get-Names 'System\DriverDatabase\DriverPackages')) {
        if (-not $name.StartsWith($Rule['inf'] + '_', [StringComparison]::OrdinalIgnoreCase)) { continue }
        [string]$version = Get-DriverVersion $name $Rule['inf']
        $fact = ($Rule['inf'] + ' ' + $version).TrimEnd() + ' is in the store'
        if (Test-Range $version $Rule['version']) { return @($true, $fact) }
    }
    return @($false, $fact)
}

function Test-Feature($Rule) {
    $answer = Get-Answer 'dism.exe' ('/english /online /get-featureinfo /featurename:"' + $Rule['name'] + '"')
    if ([regex]::IsMatch($answer[1], '(?m)^State : Enabled\s*$')) { return @($true, ($Rule['name'] + ' is on')) }
    return @($false, ($Rule['name'] + ' is off'))
}

function Test-Capability($Rule) {
    $answer = Get-Answer 'dism.exe' ('/english /online /get-capabilityinfo /capabilityname:"' + $Rule['name'] + '"')
    if ([regex]::IsMatch($answer[1], '(?m)^State : Installed\s*$')) { return @($true, ($Rule['name'] + ' is there')) }
    return @($false, ($Rule['name'] + ' is not there'))
}

function Test-SystemPackage($Rule) {
    $answer = Get-Answer 'dism.exe' '/english /online /get-packages'
    [string]$fact = $Rule['name'] + ' is not installed'
    foreach ($match in [regex]::Matches($answer[1], '(?m)^Package Identity : (\S+)\s*\r?\n\s*State : Installed\s*$')) {
        [string[]]$parts = $match.Groups[1].Value.Split([char]'~')
        if (-not [string]::Equals($parts[0], $Rule['name'], 'OrdinalIgnoreCase')) { continue }
        [string]$version = $parts[$parts.Length - 1]
        $fact = $Rule['name'] + ' ' + $version + ' is installed'
        if (Test-Range $version $Rule['version']) { return @($true, $fact) }
    }
    return @($false, $fact)
}

function Test-App($Rule) {
    [string]$fact = 'app ' + $Rule['name'] + ' is not provided'
    foreach ($name in (Get-Names 'Software\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Applications')) {
        if (-not $name.StartsWith($Rule['name'] + '_', [StringComparison]::OrdinalIgnoreCase)) { continue }
        [string]$version = $name.Substring($Rule['name'].Length + 1).Split([char]'_')[0]
        $fact = 'app ' + $Rule['name'] + ' ' + $version + ' is provided'
        if (Test-Range $version $Rule['version']) { return @($true, $fact) }
    }
    return @($false, $fact)
}
