function Get-ServiceState([string]$Name) {
    [string]$said = (Invoke-Call ('sc.exe query "' + $Name + '"') $true)[1]
    if ([regex]::IsMatch($said, ':\s+4\s')) { return 'running' }
    if ([regex]::IsMatch($said, ':\s+[123567]\s+[A-Z]')) { return 'stopped' }
    return ''
}

function Step-Service($Step) {
    [string]$name = $Step['name']
    [string]$change = $Step['change']
    [string]$state = Get-ServiceState $name
    if (($change -eq 'create') -and ($state -ne '')) { Tell service-changed $name 'there already'; return @('not needed', 0) }
    if ((($change -eq 'stop') -or ($change -eq 'delete')) -and ($state -eq '')) { Tell service-changed $name 'not there'; return @('not needed', 0) }
    if ($change -eq 'set') { [void](Set-Recorded 'HKLM' '64' ('System\CurrentControlSet\Services\' + $name) 'Start' ('dword=' + $Step['start'])) }
    if (($change -eq 'create') -or (($change -eq 'start') -and ($state -eq 'stopped')) -or (($change -eq 'stop') -and ($state -eq 'running'))) { Add-Record 'U' $Step['reverse'] }
    if ($change -eq 'delete') { [void](Invoke-Call ('sc.exe stop "' + $name + '"') $false) }
    [int]$code = (Invoke-Call ([Environment]::ExpandEnvironmentVariables($Step['command'])) $false)[0]
    if (($change -eq 'set') -or (($change -eq 'start') -and ($code -eq 1056)) -or (($change -eq 'stop') -and ($code -eq 1062))) { $code = 0 }
    if ($code -ne 0) { Tell command-ended $code 'failed'; return @('failed', $code) }
    [string]$wanted = switch ($change) { 'start' { 'running' } 'stop' { 'stopped' } default { '' } }
    [DateTime]$until = [DateTime]::UtcNow.AddSeconds($Step['timeout'])
    while (($wanted -ne '') -and ((Get-ServiceState $name) -ne $wanted)) {
        if ([DateTime]::UtcNow -gt $until) { Tell service-late $name $wanted $Step['timeout']; return @('failed', #STEP_FAILED#) }
        [Threading.Thread]::Sleep(500)
    }
    Tell service-changed $name $change
    return @('done', 0)
}
