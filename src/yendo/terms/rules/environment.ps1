function Test-Environment($Rule) {
    [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' 'System\CurrentControlSet\Control\Session Manager\Environment'
    $value = $key.GetValue($Rule['name'], $null, 'DoNotExpandEnvironmentNames')
    if ($null -eq $value) { return @($false, ($Rule['name'] + ' is not set')) }
    return @(((-not $Rule['compare']) -or (('' + $value) -ceq $Rule['equals'])), ($Rule['name'] + ' is ' + $value))
}
