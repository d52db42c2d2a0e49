function Step-Environment($Step) {
    $before = Get-Value $Step['hive'] '64' $Step['key'] $Step['name']
    [string]$value = $Step['value']
    if ($Step['change'] -eq 'delete') { [void](Set-Recorded $Step['hive'] '64' $Step['key'] $Step['name'] '-') }
    else {
        [string]$kind = 'sz'
        [string]$old = ''
        if ($before -ne '-') { $kind = $before.Substring(0, $before.IndexOf('=')); $old = $before.Substring($before.IndexOf('=') + 1) }
        elseif ($value.IndexOf('%') -ge 0) { $kind = 'expand' }
        [string]$text = $value
        if ($Step['change'] -ne 'set') {
            [string[]]$entries = @($old.Split([char]';') | Where-Object { $_ -ne '' })
            [string[]]$rest = Get-OtherEntries $old $value
            if ($Step['change'] -eq 'remove') { $text = [string]::Join(';', $rest) }
            elseif ($rest.Length -ne $entries.Length) { $text = $old }
            elseif ($Step['change'] -eq 'append') { $text = [string]::Join(';', @($rest + $value)) }
            else { $text = [string]::Join(';', @(@($value) + $rest)) }
        }
        if (($Step['change'] -eq 'append') -or ($Step['change'] -eq 'prepend')) { Add-Entry $value $Step['hive'] '64' $Step['key'] $Step['name'] ($kind + '=' + $text) }
        elseif (($text -ne '') -or ($before -ne '-')) { [void](Set-Recorded $Step['hive'] '64' $Step['key'] $Step['name'] ($kind + '=' + $text)) }
    }
    Send-EnvironmentChanged
    Tell variable-changed $Step['name'] $Step['change']
    return @('done', 0)
}
