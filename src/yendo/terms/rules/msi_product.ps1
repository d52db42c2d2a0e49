function Test-MsiProduct($Rule) {
    [string]$root = 'Software\Microsoft\Windows\CurrentVersion\Installer\'
    [string[]]$codes = @(,$Rule['product'])
    if ($Rule['line'] -ne '') {
        [Microsoft.Win32.RegistryKey]$line = Get-Key 'HKLM' '64' ($root + 'UpgradeCodes\' + $Rule['line'])
        if ($null -eq $line) { return @($false, 'the Windows Installer has no such product') }
        $codes = $line.GetValueNames()
    }
    [Microsoft.Win32.RegistryKey]$accounts = Get-Key 'HKLM' '64' ($root + 'UserData')
    if ($null -eq $accounts) { return @($false, 'the Windows Installer has no such product') }
    [string]$fact = 'the Windows Installer has no such product'
    foreach ($code in $codes) {
        foreach ($account in $accounts.GetSubKeyNames()) {
            [Microsoft.Win32.RegistryKey]$key = $accounts.OpenSubKey($account + '\Products\' + $code + '\InstallProperties')
            if ($null -eq $key) { continue }
            [string]$version = $key.GetValue('DisplayVersion', '')
            if (Test-Range $version $Rule['version']) { return @($true, ('version ' + $version + ' is on record')) }
            $fact = 'version ' + $version + ' is on record'
        }
    }
    return @($false, $fact)
}
