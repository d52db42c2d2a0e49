function Step-SignOut($Step) {
    [int]$worst = 0
    [bool]$any = $false
    foreach ($id in (Get-Sessions)) {
        $any = $true
        $ran = Invoke-Call ('logoff.exe ' + $id) $false
        if ($ran[0] -ne 0) { $worst = $ran[0] }
    }
    if (-not $any) { Tell nobody-logged-on; return @('not needed', 0) }
    if ($worst -ne 0) { return @('failed', $worst) }
    return @('done', 0)
}
