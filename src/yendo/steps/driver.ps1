function Get-StoreNames([string]$Kept) {
    # The names under which the store kept drivers before this step began, also where it is gone on with after a power cut.
    # What was there before belongs to somebody else, and stays.
    if ([IO.File]::Exists($Kept)) {
        [string[]]$lines = [IO.File]::ReadAllLines($Kept)
        if (($lines.Length -gt 0) -and ($lines[$lines.Length - 1] -eq 'end')) { return , $lines }
    }
    [string[]]$names = @()
    [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' 'System\DriverDatabase\DriverInfFiles'
    if ($null -ne $key) { $names = $key.GetSubKeyNames() }
    [IO.File]::WriteAllText($Kept, [string]::Join("`r`n", @($names + @('end', ''))), $Utf8)
    return , $names
}

function Step-Driver($Step) {
    [string]$line = [Environment]::ExpandEnvironmentVariables($Step['command'].Replace('{package}', $Here))
    Tell command-began $line
    [string]$kept = [IO.Path]::Combine($Room, 'drivers.txt')
    [string[]]$had = Get-StoreNames $kept
    $ran = Invoke-Call $line $true
    # the names under which the store keeps them are what takes them out again
    foreach ($match in [regex]::Matches($ran[1], '\boem[0-9]+\.inf\b', 'IgnoreCase')) {
        if ($had -notcontains $match.Value) { Add-Record 'U' ('pnputil.exe /delete-driver ' + $match.Value + ' /uninstall') }
    }
    [IO.File]::Delete($kept)
    [string]$meaning = 'failed'
    if ($Step['codes'].ContainsKey('' + $ran[0])) { $meaning = $Step['codes']['' + $ran[0]] }
    Tell command-ended $ran[0] $meaning
    return @($meaning, $ran[0])
}
