function Get-Machine([string]$Path) {
    [IO.FileStream]$stream = [IO.File]::Open($Path, 'Open', 'Read', 'ReadWrite')
    try {
        [byte[]]$head = [byte[]]::new(4096)
        [int]$count = $stream.Read($head, 0, 4096)
        if (($count -lt 64) -or ($head[0] -ne 77) -or ($head[1] -ne 90)) { return 0 }
        [int]$at = [BitConverter]::ToInt32($head, 60)
        if (($at -lt 0) -or (($at + 6) -gt $count)) { return 0 }
        return [BitConverter]::ToUInt16($head, $at + 4)
    } finally { $stream.Dispose() }
}

function Get-Signer([string]$Path) {
    try {
        [Security.Cryptography.X509Certificates.X509Certificate]$found = [Security.Cryptography.X509Certificates.X509Certificate]::CreateFromSignedFile($Path)
        foreach ($part in @('O', 'CN')) {
            [Text.RegularExpressions.Match]$match = [regex]::Match($found.Subject, '(?:^|, )' + $part + '=("(?<name>[^"]*)"|(?<name>[^,]*))')
            if ($match.Success) { return $match.Groups['name'].Value }
        }
    } catch { return '' }
    return ''
}

function Test-File($Rule) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Rule['path'])
    if (-not [IO.File]::Exists($path)) { return @($false, ($path + ' does not exist')) }
    if ($Rule['version'].Length -gt 0) {
        [Diagnostics.FileVersionInfo]$info = [Diagnostics.FileVersionInfo]::GetVersionInfo($path)
        [string]$version = '' + $info.FileMajorPart + '.' + $info.FileMinorPart + '.' + $info.FileBuildPart + '.' + $info.FilePrivatePart
        if ([string]::IsNullOrEmpty($info.FileVersion)) { $version = '' }
        if (-not (Test-Range $version $Rule['version'])) { return @($false, ('its version is ' + $version)) }
    }
    [IO.FileInfo]$file = [IO.FileInfo]::new($path)
    if (($Rule['size'] -ge 0) -and ($file.Length -ne $Rule['size'])) { return @($false, ('its size is ' + $file.Length)) }
    if (($Rule['least'] -ge 0) -and ($file.Length -lt $Rule['least'])) { return @($false, ('its size is ' + $file.Length)) }
    if ($Rule['sha256'] -ne '') {
        [IO.FileStream]$stream = [IO.File]::Open($path, 'Open', 'Read', 'ReadWrite')
        [Security.Cryptography.SHA256]$hash = [Security.Cryptography.SHA256]::Create()
        [string]$digest = [BitConverter]::ToString($hash.ComputeHash($stream)).Replace('-', '').ToLowerInvariant()
        $stream.Dispose()
        $hash.Dispose()
        if ($digest -ne $Rule['sha256']) { return @($false, ('its hash is ' + $digest.Substring(0, 12))) }
    }
    if (($Rule['machine'] -ne 0) -and ((Get-Machine $path) -ne $Rule['machine'])) { return @($false, 'it is for another architecture, or no program') }
    if ($Rule['signer'] -ne '') {
        [string]$signer = Get-Signer $path
        if ($signer -ne $Rule['signer']) { return @($false, ('it is signed by ' + $signer)) }
    }
    foreach ($bound in $Rule['days']) {
        [string]$day = $file.LastWriteTimeUtc.ToString('yyyy-MM-dd', [Globalization.CultureInfo]::InvariantCulture)
        [int]$order = [string]::CompareOrdinal($day, $bound['day'])
        [bool]$fits = switch ($bound['sign']) { '>=' { $order -ge 0 } '<=' { $order -le 0 } '>' { $order -gt 0 } '<' { $order -lt 0 } default { $order -eq 0 } }
        if (-not $fits) { return @($false, ('it was changed on ' + $day)) }
    }
    return @($true, ($path + ' is there'))
}
