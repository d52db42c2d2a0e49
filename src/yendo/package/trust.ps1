# --- what is believed: only what nobody else could have written -------------------------------------------------------------

# The system, the administrators, the system's own installer, and whoever runs this.
[string[]]$Vouched = @('S-1-5-18', 'S-1-5-32-544', 'S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464', [Security.Principal.WindowsIdentity]::GetCurrent().User.Value)
[int]$Writing = 0x000d0156  # write, append, attributes, delete, delete what is inside, change the rights, take it over

# Owner and rules of a file or folder, as the system keeps them: @(owner, @(@(who, mask, allowed, only for what is inside), ...)).
function Get-Rights([string]$Path) {
    $about = [IO.FileInfo]::new($Path)
    if ([IO.Directory]::Exists($Path)) { $about = [IO.DirectoryInfo]::new($Path) }
    if ($PSVersionTable['PSVersion'].Major -ge 6) { $rights = [IO.FileSystemAclExtensions]::GetAccessControl($about) } else { $rights = $about.GetAccessControl() }
    $rules = @($rights.GetAccessRules($true, $true, [Security.Principal.SecurityIdentifier]) | ForEach-Object {
            , @($_.IdentityReference.Value, [int]$_.FileSystemRights, ('' + $_.AccessControlType -eq 'Allow'), (([int]$_.PropagationFlags -band 2) -ne 0))
        })
    $owner = $rights.GetOwner([Security.Principal.SecurityIdentifier])
    if ($null -eq $owner) { return @('', $rules) }
    return @($owner.Value, $rules)
}

# A link leads elsewhere; other reparse points (files in the cloud, of which parts are shared, packed by the system) do not.
function Test-Link([string]$Path) {
    try { [int]$attributes = [IO.File]::GetAttributes($Path) } catch { return $false }
    if (($attributes -band 0x400) -eq 0) { return $false }
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(600)
    try {
        [IntPtr]$search = (Get-Native)::FindFirstFileW($Path, $room)
        if ($search -eq [IntPtr]-1) { return $true }
        [void](Get-Native)::FindClose($search)
        [int]$tag = [Runtime.InteropServices.Marshal]::ReadInt32($room, 36)  # the bit of those that stand for another name
        return ($tag -eq 0) -or (($tag -band 0x20000000) -ne 0)
    } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
}

# Why something on the disk is not believed; '' where nobody but the vouched could have written it.
function Get-Distrust([string]$Path) {
    if (Test-Link $Path) { return 'it is a link' }
    try { $rights = Get-Rights $Path } catch { return 'its rights cannot be read: ' + $_.Exception.GetBaseException().Message }
    if ([Array]::IndexOf($Vouched, $rights[0]) -lt 0) { return 'it belongs to ' + $rights[0] }
    foreach ($rule in $rights[1]) {
        if ($rule[2] -and (-not $rule[3]) -and (($rule[1] -band $Writing) -ne 0) -and ([Array]::IndexOf($Vouched, $rule[0]) -lt 0) -and ($rule[0] -ne 'S-1-3-4')) { return $rule[0] + ' may write there' }
    }
    return ''
}

# A folder that only the system and the administrators write, from its first moment on; everybody reads it, or nobody else.
function New-Protected([string]$Path, [bool]$Readable) {
    [Security.AccessControl.DirectorySecurity]$rights = [Security.AccessControl.DirectorySecurity]::new()
    $rights.SetAccessRuleProtection($true, $false)
    foreach ($who in @('S-1-5-18', 'S-1-5-32-544')) {
        $rights.AddAccessRule([Security.AccessControl.FileSystemAccessRule]::new([Security.Principal.SecurityIdentifier]::new($who), 'FullControl', 'ContainerInherit, ObjectInherit', 'None', 'Allow'))
    }
    if ($Readable) { $rights.AddAccessRule([Security.AccessControl.FileSystemAccessRule]::new([Security.Principal.SecurityIdentifier]::new('S-1-5-32-545'), 'ReadAndExecute', 'ContainerInherit, ObjectInherit', 'None', 'Allow')) }
    try { $rights.SetOwner([Security.Principal.SecurityIdentifier]::new('S-1-5-32-544')) } catch { [void]$_ }
    if ($PSVersionTable['PSVersion'].Major -ge 6) { [void][IO.FileSystemAclExtensions]::CreateDirectory($rights, $Path) } else { [void][IO.Directory]::CreateDirectory($Path, $rights) }
}

# An empty file that nobody but this account, the system and the administrators reads, before anything is in it.
function New-PrivateFile([string]$Path) {
    [IO.File]::WriteAllBytes($Path, [byte[]]::new(0))
    $rights = [Security.AccessControl.FileSecurity]::new()
    $rights.SetAccessRuleProtection($true, $false)
    foreach ($sid in @('S-1-5-18', 'S-1-5-32-544', [Security.Principal.WindowsIdentity]::GetCurrent().User.Value)) {
        $rights.AddAccessRule([Security.AccessControl.FileSystemAccessRule]::new([Security.Principal.SecurityIdentifier]::new($sid), 'FullControl', 'Allow'))
    }
    $file = [IO.FileInfo]::new($Path)
    if ($PSVersionTable['PSVersion'].Major -ge 6) { [IO.FileSystemAclExtensions]::SetAccessControl($file, $rights) } else { $file.SetAccessControl($rights) }
}

function Move-Aside([string]$Path, [string]$Why) {
    if (Test-Link $Path) {
        # the link itself; what it leads to is somebody else's
        if ([IO.Directory]::Exists($Path)) { [IO.Directory]::Delete($Path) } else { [IO.File]::Delete($Path) }
        $script:Aside = @($script:Aside + ,@($Path, ($Why + '; it was taken away')))
        return
    }
    [string]$aside = $Path + '.not-believed-' + [Guid]::NewGuid().ToString('N').Substring(0, 8)
    if ([IO.Directory]::Exists($Path)) { [IO.Directory]::Move($Path, $aside) } else { [IO.File]::Move($Path, $aside) }
    $script:Aside = @($script:Aside + ,@($Path, ($Why + '; it is now ' + $aside)))
}
$Aside = @()

# Makes sure of a folder of our own: there, no link, written by nobody else. What is not so is moved aside. Throws where that fails.
function Initialize-Protected([string]$Path, [bool]$Readable) {
    for ([int]$try = 0; $try -lt 3; $try++) {
        if ([IO.Directory]::Exists($Path) -or [IO.File]::Exists($Path) -or (Test-Link $Path)) {
            [string]$why = Get-Distrust $Path
            if (($why -eq '') -and [IO.Directory]::Exists($Path)) { return }
            if ($why -eq '') { $why = 'it is no folder' }
            Move-Aside $Path $why
        }
        New-Protected $Path $Readable
    }
    [string]$why = Get-Distrust $Path
    if ($why -ne '') { throw ($Path + ' cannot be made safe: ' + $why) }
}

# A link that somebody made; the system's own (a folder's old name, say) are owned by it.
function Test-ForeignLink([string]$Path) { return ((Test-Link $Path) -and ([Array]::IndexOf($Vouched[0..2], (Get-Rights $Path)[0]) -lt 0)) }

# Every folder of a path from the first one of ours on; those above it must not be links that somebody made.
function Initialize-Chain([string]$Path, [bool]$Readable) {
    [string]$full = [IO.Path]::GetFullPath($Path)
    [string[]]$names = @($full.Substring([IO.Path]::GetPathRoot($full).Length).Split([char]'\') | Where-Object { $_ -ne '' })
    [string]$at = [IO.Path]::GetPathRoot($full)
    [bool]$ours = $false
    for ([int]$number = 0; $number -lt $names.Length; $number++) {
        $at = [IO.Path]::Combine($at, $names[$number])
        $ours = $ours -or ($names[$number] -eq 'Yendo') -or ($number -eq $names.Length - 1)
        if ([IO.File]::Exists($at) -and (-not $ours)) { throw ($at + ' is a file') }
        if ($ours -or (-not [IO.Directory]::Exists($at))) { Initialize-Protected $at $Readable; continue }
        if (Test-ForeignLink $at) { throw ($at + ' is a link, and not the system''s own') }
    }
}

# The files below a folder, and its folders, by hand: what a link leads to is never entered; links are told and left, or taken away.
function Get-Tree([string]$Root) {
    [Collections.ArrayList]$files = [Collections.ArrayList]::new()
    [Collections.ArrayList]$folders = [Collections.ArrayList]::new()
    [Collections.ArrayList]$links = [Collections.ArrayList]::new()
    [Collections.Stack]$open = [Collections.Stack]::new()
    if ([IO.Directory]::Exists($Root) -and (-not (Test-Link $Root))) { $open.Push($Root) }
    while ($open.Count -gt 0) {
        foreach ($path in [IO.Directory]::GetFileSystemEntries($open.Pop())) {
            if (Test-Link $path) { [void]$links.Add($path); continue }
            if ([IO.Directory]::Exists($path)) { [void]$folders.Add($path); $open.Push($path) } else { [void]$files.Add($path) }
        }
    }
    [string[]]$found = $files.ToArray()
    [string[]]$inner = $folders.ToArray()
    [Array]::Sort($found)
    [Array]::Sort($inner)
    return @($found, $inner, [string[]]$links.ToArray())
}

# Before anything is written or taken away: no part of the path is a link that somebody made.
function Assert-Plain([string]$Path) {
    [string]$at = [IO.Path]::GetFullPath($Path)
    while (-not [string]::IsNullOrEmpty($at)) {
        if (Test-ForeignLink $at) { throw ($at + ' is a link that is not the system''s own; nothing is written or taken away through it') }
        $at = [IO.Path]::GetDirectoryName($at)
    }
}

# Takes a folder of our own away, with links themselves and not what they lead to.
function Remove-Own([string]$Root) {
    $tree = Get-Tree $Root
    foreach ($path in $tree[2]) { if ([IO.Directory]::Exists($path)) { [IO.Directory]::Delete($path) } else { [IO.File]::Delete($path) } }
    foreach ($path in $tree[0]) { [IO.File]::SetAttributes($path, 'Normal'); [IO.File]::Delete($path) }
    for ([int]$at = $tree[1].Length - 1; $at -ge 0; $at--) { [IO.Directory]::Delete($tree[1][$at]) }
    if ([IO.Directory]::Exists($Root)) { [IO.Directory]::Delete($Root) }
}

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
