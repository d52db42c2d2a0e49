# --- texts as fields and in JSON, bytes by their hash ----------------------------------------------------------------------

function Format-Field([string]$Text) { return [regex]::Replace($Text, '[%\x00-\x1f]', [Text.RegularExpressions.MatchEvaluator]{ param($match) '%' + ([int][char]$match.Value).ToString('X2') }) }

function Read-Field([string]$Text) { return [regex]::Replace($Text, '%([0-9A-F]{2})', [Text.RegularExpressions.MatchEvaluator]{ param($match) '' + [char][Convert]::ToInt32($match.Groups[1].Value, 16) }) }

function Format-Hex([byte[]]$Bytes) { return [BitConverter]::ToString($Bytes).Replace('-', '').ToLowerInvariant() }

function Format-Json([string]$Text) {
    [string]$plain = $Text.Replace('\', '\\').Replace('"', '\"')
    if ([regex]::IsMatch($plain, '[\x00-\x1f]')) { $plain = [regex]::Replace($plain, '[\x00-\x1f]', [Text.RegularExpressions.MatchEvaluator]{ param($match) '\u' + ([int][char]$match.Value).ToString('x4') }) }
    return '"' + $plain + '"'
}

function Get-Digest([string]$Path) {
    [IO.FileStream]$stream = [IO.File]::OpenRead($Path)
    try {
        [Security.Cryptography.SHA256]$hash = [Security.Cryptography.SHA256]::Create()
        try { return Format-Hex $hash.ComputeHash($stream) } finally { $hash.Dispose() }
    } finally { $stream.Dispose() }
}

function Get-BytesDigest([byte[]]$Data) {
    [Security.Cryptography.SHA256]$hash = [Security.Cryptography.SHA256]::Create()
    try { return Format-Hex $hash.ComputeHash($Data) } finally { $hash.Dispose() }
}
