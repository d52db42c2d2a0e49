function Step-Wait($Step) {
    if (-not $Step.ContainsKey('until')) {
        [Threading.Thread]::Sleep([int]($Step['time'] * 1000))
        Say ('waited ' + $Step['time'] + ' seconds')
        return @('done', 0)
    }
    [DateTime]$until = [DateTime]::UtcNow.AddSeconds($Step['timeout'])
    while ($true) {
        $found = Test-Nodes $Step['until']
        if ($found[0]) { Say ('it holds: ' + $found[2]); return @('done', 0) }
        if ([DateTime]::UtcNow -gt $until) { Say ('not so after ' + $Step['timeout'] + ' seconds: ' + $found[2]); return @('failed', #STEP_FAILED#) }
        [Threading.Thread]::Sleep(500)
    }
}
