function Test-Certificate($Rule) {
    [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' ('Software\Microsoft\SystemCertificates\' + $Rule['store'] + '\Certificates\' + $Rule['thumbprint'])
    if ($null -eq $key) { return @($false, ($Rule['thumbprint'].Substring(0, 12) + ' is not in ' + $Rule['store'])) }
    return @($true, ($Rule['thumbprint'].Substring(0, 12) + ' is in ' + $Rule['store']))
}
