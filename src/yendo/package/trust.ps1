#OWN#

# Before anything in the home is read: the home and all that this package will believe, or nothing.
function Initialize-Home {
    Initialize-Chain $Yendo $true
    foreach ($name in @('state', 'packages', 'installed', 'needed')) {
        [string]$folder = [IO.Path]::Combine($Yendo, $name)
        if ([IO.Directory]::Exists($folder) -or [IO.File]::Exists($folder)) { Initialize-Protected $folder $true }
    }
    foreach ($folder in @($Room, $Kept)) {
        if (-not ([IO.Directory]::Exists($folder) -or [IO.File]::Exists($folder))) { continue }
        [string]$why = Get-Distrust $folder
        $tree = Get-Tree $folder
        if (($why -eq '') -and ($tree[2].Length -gt 0)) { $why = $tree[2][0] + ' is a link' }
        foreach ($path in ($tree[1] + $tree[0])) { if ($why -eq '') { [string]$inner = Get-Distrust $path; if ($inner -ne '') { $why = $path + ': ' + $inner } } }
        if ($why -ne '') { Move-Aside $folder $why }
    }
    foreach ($name in @('installed', 'needed')) {
        foreach ($path in (Get-Tree ([IO.Path]::Combine($Yendo, $name)))[0]) {
            [string]$why = Get-Distrust $path
            if ($why -ne '') { Move-Aside $path $why }
        }
    }
}

# For verbs that change nothing: what is not sound is as if it were not there.
function Test-Home {
    foreach ($path in @($Yendo, [IO.Path]::GetDirectoryName($Room), $Room)) { if ([IO.Directory]::Exists($path) -and ((Get-Distrust $path) -ne '')) { return $path } }
    return ''
}

# --- whose package it is, where something outside the package asks -----------------------------------------------------------------

# Why the package is not taken; '' where nobody outside states signers, or its listing is signed by one of them and everything is as listed.
function Get-Unsigned {
    [string[]]$stated = @($Signer.Split([char]',') | Where-Object { $_ -ne '' })
    [Microsoft.Win32.RegistryKey]$policy = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Policies\Yendo')
    if ($null -ne $policy) { $stated = @($stated + @($policy.GetValue('Signers', @()))) }
    $stated = @($stated | ForEach-Object { [regex]::Replace($_, '[\s:]', '').ToUpperInvariant() } | Where-Object { $_ -ne '' })
    if ($stated.Length -eq 0) { return '' }
    [string]$listing = [IO.Path]::Combine($PSScriptRoot, 'files.sha256')
    if (-not [IO.File]::Exists($listing + '.p7s')) { return 'the package is not signed, and this machine takes signed ones only' }
    [string]$library = 'System.Security, Version=4.0.0.0, Culture=neutral, PublicKeyToken=b03f5f7f11d50a3a'
    if ($PSVersionTable['PSVersion'].Major -ge 6) { $library = 'System.Security.Cryptography.Pkcs' }
    [byte[]]$bytes = [IO.File]::ReadAllBytes($listing)
    try {
        [void][Reflection.Assembly]::Load($library)
        $message = [Security.Cryptography.Pkcs.SignedCms]::new([Security.Cryptography.Pkcs.ContentInfo]::new($bytes), $true)
        $message.Decode([IO.File]::ReadAllBytes($listing + '.p7s'))
        $message.CheckSignature($true)
        if ($message.SignerInfos.Count -ne 1) { return 'the package is signed ' + $message.SignerInfos.Count + ' times' }
        [string]$who = (Get-BytesDigest $message.SignerInfos[0].Certificate.RawData).ToUpperInvariant()
    } catch { return 'the signature of the package does not hold: ' + $_.Exception.GetBaseException().Message }
    if ([Array]::IndexOf($stated, $who) -lt 0) { return 'the package is signed by a certificate that nobody vouched for here: ' + $who }
    $listed = @{}
    foreach ($line in $Utf8.GetString($bytes).Split([char]10)) { if ($line.Length -gt 66) { $listed[$line.Substring(66).Replace('/', '\').ToLowerInvariant()] = $line.Substring(0, 64) } }
    if ($listed['apply.ps1'] -ne (Get-Digest $PSCommandPath)) { return 'this script is another one than was signed' }
    foreach ($file in $Plan['files']) { if ($listed[$file['path'].ToLowerInvariant()] -ne $file['sha256']) { return $file['path'] + ' is not as it was signed' } }
    return ''
}

# --- the package, where nobody can change it while it works ----------------------------------------------------------------------

# Brings files of the package into the home, hashed there. False, and told, where one is missing or another.
function Copy-Package([string]$For) {
    foreach ($file in $Plan['files']) {
        if ($file['for'].IndexOf($For, [StringComparison]::Ordinal) -lt 0) { continue }
        [string]$to = [IO.Path]::Combine($Kept, $file['path'])
        if ([IO.File]::Exists($to) -and ((Get-Digest $to) -eq $file['sha256'])) { continue }
        [string]$from = [IO.Path]::Combine($PSScriptRoot, $file['path'])
        if (-not [IO.File]::Exists($from)) { Tell package-damaged $file['path'] 'is missing'; return $false }
        [void][IO.Directory]::CreateDirectory([IO.Path]::GetDirectoryName($to))
        [string]$beside = $to + '.yendo-new'
        [IO.File]::Copy($from, $beside, $true)
        [IO.File]::SetAttributes($beside, 'Normal')
        if ((Get-Digest $beside) -ne $file['sha256']) { [IO.File]::Delete($beside); Tell package-damaged $file['path'] 'has changed'; return $false }
        [void](Get-Native)::MoveFileExW($beside, $to, 9)
    }
    return $true
}

# What still has to be brought, in bytes, against what is free; '' where there is room.
function Get-Shortage([string]$For) {
    [long]$wanted = 0
    foreach ($file in $Plan['files']) { if (($file['for'].IndexOf($For, [StringComparison]::Ordinal) -ge 0) -and (-not [IO.File]::Exists([IO.Path]::Combine($Kept, $file['path'])))) { $wanted = $wanted + $file['size'] } }
    try { [long]$free = [IO.DriveInfo]::new([IO.Path]::GetPathRoot($Yendo)).AvailableFreeSpace } catch { return '' }
    if (($wanted -eq 0) -or ($free -ge $wanted + 16777216)) { return '' }
    return 'the package itself takes ' + [Math]::Ceiling($wanted / 1048576) + ' MB in ' + $Yendo + ', ' + [Math]::Floor($free / 1048576) + ' MB are free'
}

# Nothing that is not listed comes along: a library beside a setup would be loaded by it.
function Show-Unlisted {
    $listed = @{}
    foreach ($file in $Plan['files']) { $listed[$file['path'].ToLowerInvariant()] = $true }
    [int]$more = 0
    foreach ($room in @('media', 'extras', 'transforms', 'made')) {
        $tree = Get-Tree ([IO.Path]::Combine($PSScriptRoot, $room))
        foreach ($path in ($tree[0] + $tree[2])) {
            [string]$name = $path.Substring($PSScriptRoot.TrimEnd([char]'\').Length + 1)
            if ($listed.ContainsKey($name.ToLowerInvariant())) { continue }
            $more = $more + 1
            if ($more -le 20) { Tell left-behind $name }
        }
    }
    if ($more -gt 20) { Tell more-left-behind ($more - 20) }
}

# The doorway and this script as it runs, so that what goes on later is what began.
function Copy-Runner {
    [void][IO.Directory]::CreateDirectory($Kept)
    if ($PSScriptRoot -eq $Kept) { return }
    [string]$text = $RunnerText
    if (-not $text.StartsWith([string][char]0xfeff, 'Ordinal')) { $text = [char]0xfeff + $text }
    [IO.File]::WriteAllText([IO.Path]::Combine($Kept, 'apply.ps1'), $text, $Utf8)
    foreach ($name in @('files.sha256', 'files.sha256.p7s')) { if ([IO.File]::Exists([IO.Path]::Combine($PSScriptRoot, $name))) { [IO.File]::Copy([IO.Path]::Combine($PSScriptRoot, $name), [IO.Path]::Combine($Kept, $name), $true) } }
    [IO.File]::WriteAllText([IO.Path]::Combine($Kept, 'apply.cmd'), [string]::Join("`r`n", $Plan['doorway']) + "`r`n", $Utf8)
}

# What stays of the package once a verb is over: what repair and uninstall need, or everything, or nothing.
function Clear-Package {
    if (-not [IO.Directory]::Exists($Kept)) { return }
    $stays = @{}
    foreach ($name in $Plan['kept']) { $stays[$name.ToLowerInvariant()] = $true }
    [bool]$used = [IO.File]::Exists([IO.Path]::Combine($Yendo, 'installed', $Plan['id'] + '.txt')) -or ((Get-Record).Length -gt 0)
    if (($stays.Count -eq 0) -or (-not $used)) { Remove-Kept; Remove-Empty ([IO.Path]::GetDirectoryName($Kept)); return }
    $tree = Get-Tree $Kept
    foreach ($path in $tree[0]) { if (-not $stays.ContainsKey($path.Substring($Kept.Length + 1).ToLowerInvariant())) { [IO.File]::SetAttributes($path, 'Normal'); [IO.File]::Delete($path) } }
    for ([int]$at = $tree[1].Length - 1; $at -ge 0; $at--) { Remove-Empty $tree[1][$at] }
}

function Remove-Kept {
    if (-not [IO.Directory]::Exists($Kept)) { return }
    if ($PSScriptRoot -ne $Kept) { Remove-Own $Kept; return }
    # the doorway that is being read right now can only go when the machine starts next
    $tree = Get-Tree $Kept
    foreach ($path in $tree[0]) {
        if ($path.EndsWith('\apply.cmd', 'OrdinalIgnoreCase')) { [void](Get-Native)::MoveFileExW($path, [NullString]::Value, 4); continue }
        [IO.File]::SetAttributes($path, 'Normal')
        [IO.File]::Delete($path)
    }
    for ([int]$at = $tree[1].Length - 1; $at -ge 0; $at--) { Remove-Empty $tree[1][$at] }
    [void](Get-Native)::MoveFileExW($Kept, [NullString]::Value, 4)
}

# --- logs of the vendor's programs: read by administrators only, until they are cleaned -----------------------------------------------

function Start-Vendor { if (-not [IO.Directory]::Exists($VendorLogs)) { New-Protected $VendorLogs $false } }

# Cleans what a step's programs have logged and puts it beside our own log; at every end of a step, and at the next start.
function Publish-Logs {
    foreach ($path in (Get-Tree $VendorLogs)[0]) {
        try {
            if ($Plan['secrets'].Length -gt 0) { Hide-InLog $path }
            [string]$to = [IO.Path]::Combine($Logs, $path.Substring($VendorLogs.Length + 1))
            [void][IO.Directory]::CreateDirectory([IO.Path]::GetDirectoryName($to))
            Assert-Plain $to
            [string]$beside = $to + '.yendo-new'
            [IO.File]::Copy($path, $beside, $true)
            [void](Get-Native)::MoveFileExW($beside, $to, 9)
            [IO.File]::Delete($path)
        } catch { Tell log-held $path $_.Exception.GetBaseException().Message }
    }
}

# Installers write properties into their logs, in UTF-16 or the machine's code page.
function Hide-InLog([string]$File) {
    [byte[]]$bytes = [IO.File]::ReadAllBytes($File)
    $encoding = [Text.Encoding]::GetEncoding(28591)
    if (($bytes.Length -ge 2) -and ($bytes[0] -eq 255) -and ($bytes[1] -eq 254)) { $encoding = [Text.Encoding]::Unicode }
    [string]$text = $encoding.GetString($bytes)
    [string]$plain = $text
    foreach ($secret in $Plan['secrets']) {
        $plain = $plain.Replace($secret, '****')
        if ($encoding.CodePage -eq 28591) { $plain = $plain.Replace($encoding.GetString($Utf8.GetBytes($secret)), '****') }
    }
    if ($plain -ne $text) { [IO.File]::WriteAllBytes($File, $encoding.GetBytes($plain)) }
}
