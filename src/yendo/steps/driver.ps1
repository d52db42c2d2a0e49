function Step-Driver($Step) {
    [string]$line = [Environment]::ExpandEnvironmentVariables($Step['command'].Replace('{package}', $Here))
    Tell command-began $line
    $ran = Invoke-Call $line $true
    # the names under which the store keeps them are what takes them out again
    foreach ($match in [regex]::Matches($ran[1], '\boem[0-9]+\.inf\b', 'IgnoreCase')) { Add-Record 'U' ('pnputil.exe /delete-driver ' + $match.Value + ' /uninstall') }
    [string]$meaning = 'failed'
    if ($Step['codes'].ContainsKey('' + $ran[0])) { $meaning = $Step['codes']['' + $ran[0]] }
    Tell command-ended $ran[0] $meaning
    return @($meaning, $ran[0])
}
