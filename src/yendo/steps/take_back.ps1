function Step-TakeBack($Step) {
    [string[]]$lines = Get-Record
    [int]$own = 0
    foreach ($line in $lines) { if ('BR'.IndexOf($line[0]) -lt 0) { $own = $own + 1 } }
    if ($own -eq 0) { Tell nothing-recorded; return @('not needed', 0) }
    Undo-Lines $lines $false
    Clear-Record 0
    return @('done', 0)
}
