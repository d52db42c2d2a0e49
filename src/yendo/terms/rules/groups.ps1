function Test-Group($Rule) {
    [int]$count = 0
    [string[]]$facts = @()
    foreach ($inner in $Rule['of']) {
        $verdict = Test-Rule $inner
        if ($verdict[0]) { $count++ }
        $facts += $verdict[1]
    }
    return @((($count -ge $Rule['least']) -and ($count -le $Rule['most'])), ('' + $count + ' of ' + $Rule['of'].Length + ' hold: ' + [string]::Join('; ', $facts)))
}
