# --- what a script needs that goes on by itself on this computer: programs, a task, what it says of the machine ----------
# Whoever includes it has $Kit['account'], $Account, $Although, $Here, $Work, $TaskName, $Utf8 and the function Get-Line.

#PROGRAM#
function ConvertTo-Base64([byte[]]$Data) { return [Convert]::ToBase64String($Data) }

function Get-About {
    [string[]]$lines = @()
    foreach ($entry in [Environment]::GetEnvironmentVariables().GetEnumerator()) {
        $lines = @($lines + ("A`t" + (ConvertTo-Field $entry.Key) + "`t" + (ConvertTo-Field $entry.Value)))
    }
    foreach ($name in @('windows', 'edition', 'architecture', 'language', 'memory', 'power', 'network', 'domain', 'shell', 'dotnet', 'multi-session', 'computer')) {
        try { $value = Get-Fact $name } catch { $value = $null }
        if ($null -ne $value) { $lines = @($lines + ("E`t" + $name + "`t" + (ConvertTo-Field ('' + $value)))) }
    }
    $who = [Security.Principal.WindowsIdentity]::GetCurrent()
    [string]$current = 'Software\Microsoft\Windows NT\CurrentVersion'
    foreach ($pair in @(@('account', $who.Name), @('sid', $who.User.Value), @('product', (Read-Machine $current 'ProductName')),
            @('display', (Read-Machine $current 'DisplayVersion')), @('although', $Although), @('started', [DateTime]::UtcNow.ToString('yyyy-MM-ddTHH:mm:ss+00:00')))) {
        $lines = @($lines + ("E`t" + $pair[0] + "`t" + (ConvertTo-Field ('' + $pair[1]))))
    }
    # a layer under Linux or macOS is no Windows, whatever it calls itself
    [bool]$layer = $null -ne [Microsoft.Win32.RegistryKey]::OpenBaseKey('CurrentUser', 'Registry64').OpenSubKey('Software\Wine')
    $lines = @($lines + ("E`tlayer`t" + $layer))
    return ,$lines
}

# What goes on after a restart: a task at the machine's start for the system account, else the next session of an
# administrator.
function Set-Return {
    # both places take a line of some 260 characters only
    [string]$way = [IO.Path]::Combine($Work, 'go.cmd')
    [IO.File]::WriteAllText($way, "@chcp 65001 >nul`r`n" + '@"' + (Get-Shell) + '" ' + (Get-Line) + "`r`n", $Utf8)
    [string]$run = 'cmd.exe /d /c "' + $way + '"'
    if ($Account -eq 'system') {
        return (Invoke-Program 'schtasks.exe' ('/create /tn "' + $TaskName + '" /tr "' + $run.Replace('"', '\"') + '" /sc onstart /ru SYSTEM /rl highest /f'))[0]
    }
    [Microsoft.Win32.RegistryKey]$once = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').CreateSubKey('Software\Microsoft\Windows\CurrentVersion\RunOnce')
    $once.SetValue('Yendo proof', $run)
    $once.Dispose()
    return 0
}

function Clear-Return {
    if ($Account -eq 'system') { [void](Invoke-Program 'schtasks.exe' ('/delete /tn "' + $TaskName + '" /f')) }
    [Microsoft.Win32.RegistryKey]$once = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Microsoft\Windows\CurrentVersion\RunOnce', $true)
    if ($null -ne $once) { $once.DeleteValue('Yendo proof', $false); $once.Dispose() }
}

function Copy-Tree([string]$From, [string]$To) {
    [void][IO.Directory]::CreateDirectory($To)
    foreach ($folder in [IO.Directory]::GetDirectories($From)) { Copy-Tree $folder ([IO.Path]::Combine($To, [IO.Path]::GetFileName($folder))) }
    foreach ($file in [IO.Directory]::GetFiles($From)) { [IO.File]::Copy($file, [IO.Path]::Combine($To, [IO.Path]::GetFileName($file)), $true) }
}

# Why this is not a machine to try things on: it belongs to an organisation, or somebody has been living on it.
function Get-Claims {
    [string[]]$found = @()
    [string]$domain = Get-Fact 'domain'
    if ($domain -ne '') { $found = @($found + ('it is in the domain ' + $domain)) }
    [Microsoft.Win32.RegistryKey]$machine = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64')
    [Microsoft.Win32.RegistryKey]$joined = $machine.OpenSubKey('System\CurrentControlSet\Control\CloudDomainJoin\JoinInfo')
    if (($null -ne $joined) -and ($joined.SubKeyCount -gt 0)) { $found = @($found + 'it is joined to a cloud directory') }
    [Microsoft.Win32.RegistryKey]$enrolled = $machine.OpenSubKey('Software\Microsoft\Enrollments')
    if ($null -ne $enrolled) {
        foreach ($name in $enrolled.GetSubKeyNames()) {
            [Microsoft.Win32.RegistryKey]$one = $enrolled.OpenSubKey($name)
            if (($null -ne $one) -and ($one.GetValue('EnrollmentState', 0) -eq 1) -and ('' + $one.GetValue('ProviderID', '') -ne '')) {
                $found = @($found + ('it is managed by ' + $one.GetValue('ProviderID')))
            }
        }
    }
    [Microsoft.Win32.RegistryKey]$people = $machine.OpenSubKey('Software\Microsoft\Windows NT\CurrentVersion\ProfileList')
    foreach ($sid in @($people.GetSubKeyNames() | Where-Object { $_ -match '^S-1-(5-21|12-1)-' })) {
        [string]$home_of = [Environment]::ExpandEnvironmentVariables('' + $people.OpenSubKey($sid).GetValue('ProfileImagePath', ''))
        if (-not [IO.Directory]::Exists($home_of)) { continue }
        [int]$days = ([DateTime]::UtcNow - [IO.Directory]::GetCreationTimeUtc($home_of)).TotalDays
        if ($days -gt 7) { $found = @($found + ('somebody has had a profile on it for ' + $days + ' days: ' + $home_of)) }
    }
    return ,$found
}

function Stop-With([string]$Text) { [Console]::WriteLine($Text); exit 2 }

# A play or a visit of somebody else that is under way: it has a task, or waits for a person's next session.
function Test-Others {
    if ((Invoke-Program 'schtasks.exe' ('/query /tn "' + $TaskName + '"'))[0] -eq 0) { return $true }
    [Microsoft.Win32.RegistryKey]$once = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Microsoft\Windows\CurrentVersion\RunOnce')
    return (($null -ne $once) -and ($null -ne $once.GetValue('Yendo proof', $null)))
}

function Stop-Others {
    if (Test-Others) { Stop-With ('another proof is under way on this computer: wait for it, or put the computer back; of one that was broken off, schtasks /delete /tn "' + $TaskName + '" /f takes away what is left') }
}

function Start-Task {
    if ((Set-Return) -ne 0) { Stop-With 'a task for the system account cannot be made here; see the policy of this machine' }
    if ((Invoke-Program 'schtasks.exe' ('/run /tn "' + $TaskName + '"'))[0] -ne 0) { Stop-With 'the task for the system account does not start' }
}
