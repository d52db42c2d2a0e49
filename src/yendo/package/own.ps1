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
