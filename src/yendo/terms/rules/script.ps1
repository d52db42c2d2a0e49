function Test-Script($Rule) {
    [string]$text = [Text.Encoding]::UTF8.GetString([Convert]::FromBase64String($Rule['text']))
    try {
        $said = @(& ([ScriptBlock]::Create($text)))
    } catch { return @($false, ('the script failed: ' + $_.Exception.Message)) }
    [bool]$holds = ($said.Length -gt 0) -and ($said[$said.Length - 1] -is [bool]) -and $said[$said.Length - 1]
    if ($holds) { return @($true, 'the script says yes') }
    return @($false, 'the script says no')
}
