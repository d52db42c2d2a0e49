function Step-Restart($Step) {
    if (($Step['where'] -eq 'asked') -and (-not $script:RestartAsked)) { Say 'no step asked for a restart'; return @('not needed', 0) }
    return @('restart now', 1641)
}
