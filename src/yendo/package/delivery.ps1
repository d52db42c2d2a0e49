# --- what is given to the runner: by whom, how, and what stays of it ----------------------------------------------------

# Who may read or change a file beside its owner, the system, the administrators and whoever runs this: names, or nothing.
function Get-Strangers([string]$Path, [bool]$Reading) {
    $file = [IO.FileInfo]::new($Path)
    if ($PSVersionTable['PSVersion'].Major -ge 6) { $rights = [IO.FileSystemAclExtensions]::GetAccessControl($file) } else { $rights = $file.GetAccessControl() }
    [string[]]$known = @('S-1-5-18', 'S-1-5-32-544', 'S-1-3-0', 'S-1-3-4', [Security.Principal.WindowsIdentity]::GetCurrent().User.Value)
    [string[]]$found = @()
    # whoever owns it can change it, whatever its rights say now
    $owner = $rights.GetOwner([Security.Principal.SecurityIdentifier])
    if (($null -eq $owner) -or ([Array]::IndexOf($known, $owner.Value) -lt 0)) { $found = @('its owner ' + $owner) }
    [int]$asked = 0x000d0116  # write, append, attributes, delete, change the rights, take it over
    if ($Reading) { $asked = $asked -bor 1 }
    foreach ($rule in $rights.GetAccessRules($true, $true, [Security.Principal.SecurityIdentifier])) {
        if (('' + $rule.AccessControlType -eq 'Allow') -and (([int]$rule.FileSystemRights -band $asked) -ne 0) -and ($known -notcontains $rule.IdentityReference.Value)) {
            $found = @($found + $rule.IdentityReference.Value)
        }
    }
    return ,$found
}

# What repair, uninstall and detection will need to know: every value but the secret ones.
function Save-Settings([string]$File) {
    [string]$text = ''
    [string]$hidden = ''
    [string[]]$names = @($Plan['settings'].Keys)
    [Array]::Sort($names, [StringComparer]::Ordinal)
    foreach ($name in $names) {
        [string]$line = $name + '=' + (Get-Filled ('{setting-said.' + $name + '}')).Replace("`n", ',') + "`r`n"
        if (-not $Plan['settings'][$name]['secret']) { $text = $text + $line } elseif ($Chosen[$name] -ne '') { $hidden = $hidden + $line }
    }
    [IO.File]::WriteAllText($File, $text, $Utf8)
    if (-not ($Plan['restarts'] -and ($hidden -ne ''))) { return }
    # what goes on after a restart needs them once more; nobody but this account, the system and the administrators reads them
    New-PrivateFile $WithheldFile
    [IO.File]::WriteAllText($WithheldFile, $hidden, $Utf8)
}

function Clear-Withheld { if ([IO.File]::Exists($WithheldFile)) { [IO.File]::Delete($WithheldFile) } }

# The exit code to leave with and why, in words; 0 where every value is settled.
function Get-Refusal {
    [string]$file = $Values
    if ($file -ne '') { $file = [Environment]::ExpandEnvironmentVariables($file) }
    elseif ([IO.File]::Exists([IO.Path]::Combine($PSScriptRoot, 'values.txt'))) { $file = [IO.Path]::Combine($PSScriptRoot, 'values.txt') }
    if (($file -ne '') -and (-not [IO.File]::Exists($file))) { return @(#UNSETTLED#, @($file + ' is not there')) }
    try { [hashtable]$shown = Read-Values $Set.Replace(';', "`n") } catch { return @(#UNSETTLED#, @('-Set: ' + $_.Exception.GetBaseException().Message)) }
    foreach ($name in @($shown.Keys)) {
        if ($Plan['settings'].ContainsKey($name) -and $Plan['settings'][$name]['secret']) {
            return @(#EXPOSED#, @($name + ' is secret, and everybody sees a command line: write it into values.txt beside apply.cmd, or into the file of -Values'))
        }
    }
    if ($file -ne '') {
        try { [hashtable]$inside = Read-Values ([IO.File]::ReadAllText($file)) } catch { return @(#UNSETTLED#, @($file + ': ' + $_.Exception.GetBaseException().Message)) }
        [bool]$secret = $false
        foreach ($name in @($inside.Keys)) { if ($Plan['settings'].ContainsKey($name) -and $Plan['settings'][$name]['secret']) { $secret = $true } }
        [string[]]$others = Get-Strangers $file $secret
        if ($others.Length -gt 0) {
            [string]$what = 'changed'
            if ($secret) { $what = 'read or changed' }
            return @(#EXPOSED#, @(($file + ' can be ' + $what + ' by others: ' + [string]::Join(', ', $others)), ('icacls "' + $file + '" /inheritance:r /grant:r *S-1-5-18:F *S-1-5-32-544:F')))
        }
    }
    [string[]]$wrong = Initialize-Settings $Site $file $Set $Verb ([IO.Path]::Combine($Room, 'settings.txt'))
    if ($wrong.Length -gt 0) { return @(#UNSETTLED#, $wrong) }
    [string]$all = ''
    [string[]]$names = @($Chosen.Keys)
    [Array]::Sort($names, [StringComparer]::Ordinal)
    foreach ($name in $names) { $all = $all + $name + '=' + $Chosen[$name] + "`n" }
    $Plan['run'] = $Plan['run'] + '-' + (Get-BytesDigest $Utf8.GetBytes($all)).Substring(0, 8)
    return @(0, @())
}
