function Step-Copy($Step) {
    $wanted = @{}
    foreach ($item in $Step['items']) {
        [string]$to = [Environment]::ExpandEnvironmentVariables($item['to'])
        $wanted[$to.ToLowerInvariant()] = $true
        [string]$from = [IO.Path]::Combine($Here, $item['source'].Replace('/', '\'))
        [string]$sum = $item['sha256']
        [byte[]]$new = $null
        if ($Step.ContainsKey('fill')) { $new = Get-FilledFile $from $Step['fill']; $sum = Get-BytesDigest $new }
        if ([IO.File]::Exists($to)) {
            if ($Step['keep']) { Tell changed 'kept' $to; continue }
            if ((Get-Digest $to) -eq $sum) { Add-Found 'F' $sum $sum $to; Tell changed 'already there' $to; continue }
        }
        if ($null -ne $new) { Set-FileBytes $to $new } else { Set-FileFrom $to $from $sum }
        Tell changed 'placed' $to
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
