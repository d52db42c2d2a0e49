function Step-Copy($Step) {
    $wanted = @{}
    foreach ($item in $Step['items']) {
        [string]$to = [Environment]::ExpandEnvironmentVariables($item['to'])
        $wanted[$to.ToLowerInvariant()] = $true
        [string]$from = [IO.Path]::Combine($Here, $item['source'].Replace('/', '\'))
        if ($Step['keep'] -and [IO.File]::Exists($to)) { Tell changed 'kept' $to; continue }
        [bool]$placed = $false
        if ($Step.ContainsKey('fill')) { $placed = Set-FileBytes $to (Get-FilledFile $from $Step['fill']) } else { $placed = Set-FileFrom $to $from $item['sha256'] }
        if ($placed) { Tell changed 'placed' $to } else { Tell changed 'already there' $to }
    }
    foreach ($folder in $Step['folders']) { New-Folders ([Environment]::ExpandEnvironmentVariables($folder)) }
    if ($Step['mirror'] -ne '') {
        [string]$root = [Environment]::ExpandEnvironmentVariables($Step['mirror'])
        $tree = Get-Tree $root
        foreach ($path in $tree[2]) { Tell left 'it is a link' $path }
        foreach ($path in $tree[0]) {
            if (-not $wanted.ContainsKey($path.ToLowerInvariant())) { [void](Remove-Recorded $path $true); Tell changed 'taken away' $path }
        }
    }
    return @('done', 0)
}

# The bytes of a text file with its places filled, in the encoding that it has.
function Get-FilledFile([string]$File, $Fill) {
    [byte[]]$bytes = [IO.File]::ReadAllBytes($File)
    $encoding = $Utf8
    if (($bytes.Length -ge 2) -and ($bytes[0] -eq 255) -and ($bytes[1] -eq 254)) { $encoding = [Text.Encoding]::Unicode }
    if (($bytes.Length -ge 2) -and ($bytes[0] -eq 254) -and ($bytes[1] -eq 255)) { $encoding = [Text.Encoding]::BigEndianUnicode }
    [string]$text = $encoding.GetString($bytes)
    foreach ($name in @($Fill.Keys)) { $text = $text.Replace('{setting.' + $name + '}', $Fill[$name]) }
    return ,$encoding.GetBytes($text)
}
