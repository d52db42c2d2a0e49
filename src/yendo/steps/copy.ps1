function Step-Copy($Step) {
    $wanted = @{}
    foreach ($item in $Step['items']) {
        [string]$to = [Environment]::ExpandEnvironmentVariables($item['to'])
        $wanted[$to.ToLowerInvariant()] = $true
        if ([IO.File]::Exists($to)) {
            if ($Step['keep']) { Say ('kept: ' + $to); continue }
            if ((Get-Digest $to) -eq $item['sha256']) { Say ('already there: ' + $to); continue }
        }
        Set-FileFrom $to ([IO.Path]::Combine($Here, $item['source'].Replace('/', '\'))) $item['sha256']
        Say ('placed: ' + $to)
    }
    if ($Step['mirror'] -ne '') {
        [string]$root = [Environment]::ExpandEnvironmentVariables($Step['mirror'])
        if ([IO.Directory]::Exists($root)) {
            [string[]]$paths = [IO.Directory]::GetFiles($root, '*', 'AllDirectories')
            [Array]::Sort($paths)
            foreach ($path in $paths) {
                if (-not $wanted.ContainsKey($path.ToLowerInvariant())) { [void](Remove-Recorded $path $true); Say ('taken away: ' + $path) }
            }
        }
    }
    return @('done', 0)
}
