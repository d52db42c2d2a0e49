function Test-Registry($Rule) {
    [Microsoft.Win32.RegistryKey]$key = Get-Key $Rule['hive'] $Rule['view'] $Rule['key']
    # as a rule that is judged on a state says it, which does not know keys without a value
    if ($null -eq $key) { return @($false, 'no such value') }
    $value = $key.GetValue($Rule['name'], $null, 'DoNotExpandEnvironmentNames')
    if ($null -eq $value) { return @($false, 'no such value') }
    [string]$text = '' + $value
    [bool]$same = (-not $Rule['compare']) -or ($text -ceq $Rule['equals'])
    if ($Rule['numbers'].Length -gt 0) {
        if ($text -notmatch '\A-?[0-9]{1,15}\z') { return @($false, ('is ' + $text)) }
        [long]$number = [long]$text
        foreach ($bound in $Rule['numbers']) {
            [int]$order = $number.CompareTo([long]$bound['number'])
            [bool]$fits = switch ($bound['sign']) { '>=' { $order -ge 0 } '<=' { $order -le 0 } '>' { $order -gt 0 } '<' { $order -lt 0 } default { $order -eq 0 } }
            if (-not $fits) { $same = $false }
        }
    }
    return @(($same -and (Test-Range $text $Rule['version'])), ('is ' + $text))
}

function Test-RegistryKey($Rule) {
    if ($null -eq (Get-Key $Rule['hive'] $Rule['view'] $Rule['key'])) { return @($false, 'no such key') }
    return @($true, 'is there')
}
