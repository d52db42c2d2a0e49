function Test-Service($Rule) {
    [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' ('System\CurrentControlSet\Services\' + $Rule['name'])
    if (($null -eq $key) -or ($null -eq $key.GetValue('ImagePath', $null))) { return @($false, ('there is no service ' + $Rule['name'])) }
    if ($Rule['start'] -ne '') {
        [string]$start = switch ($key.GetValue('Start', 3)) { 2 { 'auto' } 3 { 'demand' } 4 { 'disabled' } default { 'in another way' } }
        if ($start -ne $Rule['start']) { return @($false, ('it starts ' + $start)) }
    }
    if ($Rule['running'] -ne '') {
        [bool]$runs = [regex]::IsMatch((Get-Answer 'sc.exe' ('query "' + $Rule['name'] + '"'))[1], ':\s+4\s')
        if ($runs -and ($Rule['running'] -eq 'no')) { return @($false, 'it runs') }
        if ((-not $runs) -and ($Rule['running'] -eq 'yes')) { return @($false, 'it does not run') }
    }
    return @($true, ('service ' + $Rule['name'] + ' is there'))
}
