function Step-Record($Step) {
    [Collections.ArrayList]$lines = [Collections.ArrayList]::new()
    foreach ($name in $Step['facts']) {
        $value = Get-Fact $name
        [string]$text = 'not known'
        if ($null -ne $value) { $text = Format-Fact $value }
        Tell fact-recorded $name $text
        [void]$lines.Add(' ' + (Format-Json $name) + ': ' + (Format-Json $text))
    }
    foreach ($item in $Step['rules']) {
        $verdict = Test-Rule $item['rule']
        [string]$text = (Format-Fact $verdict[0]) + ', ' + $verdict[1]
        Tell fact-recorded $item['title'] $text
        [void]$lines.Add(' ' + (Format-Json $item['title']) + ': ' + (Format-Json $text))
    }
    [string]$facts = [IO.Path]::Combine($Room, 'facts')
    [void][IO.Directory]::CreateDirectory($facts)
    [IO.File]::WriteAllText([IO.Path]::Combine($facts, $Step['file']), "{`n" + [string]::Join(",`n", $lines.ToArray()) + "`n}", $Utf8)
    return @('done', 0)
}
