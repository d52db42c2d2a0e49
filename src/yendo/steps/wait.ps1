function Step-Wait($Step) {
    if (-not $Step.ContainsKey('until')) {
        [Threading.Thread]::Sleep([int]($Step['time'] * 1000))
        Tell waited $Step['time']
        return @('done', 0)
    }
    [DateTime]$until = [DateTime]::UtcNow.AddSeconds($Step['timeout'])
    while ($true) {
        $found = Test-Nodes $Step['until']
        if ($found[0]) { Tell condition-met $found[2]; return @('done', 0) }
        if ([DateTime]::UtcNow -gt $until) { Tell condition-unmet $Step['timeout'] $found[2]; return @('failed', #STEP_FAILED#) }
        [Threading.Thread]::Sleep(500)
    }
}
