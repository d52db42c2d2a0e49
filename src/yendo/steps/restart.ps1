function Step-Restart($Step) {
    if (($Step['where'] -eq 'asked') -and (-not $script:RestartAsked)) { Tell restart-not-asked; return @('not needed', 0) }
    return @('restart now', 1641)
}
