# --- facts and conditions -------------------------------------------------------------------------------------------------------

function Read-Machine([string]$Key, [string]$Name) {
    [Microsoft.Win32.RegistryKey]$opened = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey($Key)
    if ($null -eq $opened) { return $null }
    return $opened.GetValue($Name, $null)
}

# A fact by its name, or nothing where this machine does not tell it.
function Get-Fact([string]$Name) {
    [string]$current = 'Software\Microsoft\Windows NT\CurrentVersion'
    if ($Name.StartsWith('disk ', 'Ordinal')) {
        [IO.DriveInfo]$drive = [IO.DriveInfo]::new($Name.Substring(5))
        if (-not $drive.IsReady) { return $null }
        return $drive.AvailableFreeSpace
    }
    switch ($Name) {
        'windows' {
            [string]$build = Read-Machine $current 'CurrentBuild'
            [Version]$system = [Environment]::OSVersion.Version
            [int]$number = 0
            [void][int]::TryParse($build, [ref]$number)
            [int]$revision = 0
            $given = Read-Machine $current 'UBR'
            if ($null -ne $given) { $revision = [int]$given }
            if ($number -lt 10240) { return [Version]::new($system.Major, $system.Minor, $number, $revision).ToString() }
            return [Version]::new(10, 0, $number, $revision).ToString()
        }
        'edition' { return Read-Machine $current 'EditionID' }
        'architecture' {
            [string]$kind = [Environment]::GetEnvironmentVariable('PROCESSOR_ARCHITEW6432')
            if ([string]::IsNullOrEmpty($kind)) { $kind = [Environment]::GetEnvironmentVariable('PROCESSOR_ARCHITECTURE') }
            switch ($kind) { 'AMD64' { return 'x64' } 'ARM64' { return 'arm64' } }
            return 'x86'
        }
        'language' {
            [string]$tag = [Globalization.CultureInfo]::InstalledUICulture.Name
            if ($tag -eq '') { return $null }
            return $tag
        }
        'memory' {
            [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(64)
            try {
                [Runtime.InteropServices.Marshal]::WriteInt32($room, 64)
                if ((Get-Native)::GlobalMemoryStatusEx($room) -eq 0) { return $null }
                return [Runtime.InteropServices.Marshal]::ReadInt64($room, 8)
            } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
        }
        'power' {
            [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(12)
            try {
                if ((Get-Native)::GetSystemPowerStatus($room) -eq 0) { return $null }
                [byte]$line = [Runtime.InteropServices.Marshal]::ReadByte($room)
                if ($line -eq 0) { return 'battery' }
                if ($line -eq 1) { return 'mains' }
                return $null
            } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
        }
        'network' {
            if (-not [Net.NetworkInformation.NetworkInterface]::GetIsNetworkAvailable()) { return 'none' }
            foreach ($card in [Net.NetworkInformation.NetworkInterface]::GetAllNetworkInterfaces()) {
                [Net.NetworkInformation.NetworkInterface]$one = $card
                if ($one.OperationalStatus -ne 'Up') { continue }
                [Microsoft.Win32.RegistryKey]$profiles = [Microsoft.Win32.RegistryKey]::OpenBaseKey('LocalMachine', 'Registry64').OpenSubKey('Software\Microsoft\DusmSvc\Profiles\' + $one.Id)
                if ($null -eq $profiles) { continue }
                foreach ($user in $profiles.GetSubKeyNames()) {
                    [Microsoft.Win32.RegistryKey]$cost = $profiles.OpenSubKey($user)
                    if ($cost.GetValue('UserCost', 0) -eq 2) { return 'metered' }
                }
            }
            return 'unmetered'
        }
        'domain' {
            # the service for domain logons keeps the name of the domain; in none there is no such value
            [string]$found = Read-Machine 'System\CurrentControlSet\Services\Tcpip\Parameters' 'NV Domain'
            return $found
        }
        'in a domain' { return (Get-Fact 'domain') -ne '' }
        'people' { return (Get-People) -gt 0 }
        'quiet' {
            [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(4)
            try {
                [Runtime.InteropServices.Marshal]::WriteInt32($room, 0)
                if ((Get-Native)::SHQueryUserNotificationState($room) -ne 0) { return $null }
                return (@(2, 3, 4) -notcontains [Runtime.InteropServices.Marshal]::ReadInt32($room))
            } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
        }
        'shell' { return $PSVersionTable['PSVersion'].ToString().Split([char]'-')[0] }
        'dotnet' {
            [string]$found = Read-Machine 'Software\Microsoft\NET Framework Setup\NDP\v4\Full' 'Version'
            if ($found -eq '') { return $null }
            return $found
        }
        'multi-session' {
            # a client for several people at once, or a server that has the part for it
            [bool]$hosts = '1' -eq (Read-Machine 'System\CurrentControlSet\Control\Terminal Server' 'TSAppCompat')
            return $hosts -or ((Read-Machine $current 'EditionID') -eq 'ServerRdsh')
        }
        'computer' { return [Environment]::MachineName }
    }
    return $null
}

function Format-Fact($Value) {
    if ($Value -is [bool]) { if ($Value) { return 'yes' } else { return 'no' } }
    return '' + $Value
}

# Whether questions are all answered with yes, whether waiting could change the answer, and the facts behind it.
function Test-Nodes($Nodes) {
    [bool]$holds = $true
    [bool]$lasting = $false
    [bool]$passing = $false
    [string[]]$good = @()
    [string[]]$bad = @()
    foreach ($node in $Nodes) {
        $answer = Test-Node $node
        if ($answer[0]) { if ($answer[1]) { $passing = $true }; $good = @($good + $answer[2]) }
        else { $holds = $false; if (-not $answer[1]) { $lasting = $true }; $bad = @($bad + $answer[2]) }
    }
    if ($holds) { return @($true, $passing, [string]::Join('; ', $good)) }
    return @($false, (-not $lasting), [string]::Join('; ', $bad))
}

function Test-Node($Node) {
    $want = $Node['want']
    switch ($Node['test']) {
        'all' { return Test-Nodes $Node['nodes'] }
        'not' { $inner = Test-Nodes $Node['nodes']; return @((-not $inner[0]), $inner[1], $inner[2]) }
        'any' {
            [bool]$held = $false; [bool]$every = $true; [bool]$some = $false
            [string]$first = ''
            [string[]]$reasons = @()
            foreach ($inner in $Node['nodes']) {
                $answer = Test-Node $inner
                if ($answer[0]) { if (-not $held) { $first = $answer[2] }; $held = $true; if (-not $answer[1]) { $every = $false } }
                elseif ($answer[1]) { $some = $true }
                $reasons = @($reasons + $answer[2])
            }
            if ($held) { return @($true, $every, $first) }
            return @($false, $some, [string]::Join('; ', $reasons))
        }
        'rule' { $verdict = Test-Rule $Node['rule']; return @($verdict[0], $Node['passing'], $verdict[1]) }
        'group' {
            [string]$file = [Environment]::ExpandEnvironmentVariables($Node['fact'])
            if (-not [IO.File]::Exists($file)) { return @($false, $true, ('the inventory ' + $Node['fact'] + ' cannot be read')) }
            [string]$me = [Environment]::MachineName
            [bool]$member = $false
            [byte[]]$bytes = [IO.File]::ReadAllBytes($file)
            [string]$text = ''
            if (($bytes.Length -ge 2) -and ($bytes[0] -ge 239) -and ($bytes[1] -ge 187)) { $text = [IO.File]::ReadAllText($file) }  # a byte order mark
            else { try { $text = [Text.UTF8Encoding]::new($false, $true).GetString($bytes) } catch { $text = [Text.Encoding]::GetEncoding(28591).GetString($bytes) } }
            foreach ($line in [regex]::Split($text, '\r?\n')) {
                [string[]]$parts = [regex]::Split($line, '[,;\t]')
                if (($parts.Length -ge 2) -and ($parts[0].Trim().Trim([char]'"') -eq $me) -and ($parts[1].Trim().Trim([char]'"') -eq $want)) { $member = $true }
            }
            return @($member, $false, ($me + ' and group ' + $want))
        }
        'setting' {
            [string[]]$chosen = $want[0].Split([char]10)
            [bool]$among = $false
            for ([int]$at = 1; $at -lt $want.Length; $at++) { foreach ($part in $chosen) { if ([string]::Equals($part, $want[$at], 'OrdinalIgnoreCase')) { $among = $true } } }
            return @($among, $false, ($Node['fact'] + ' is ' + [string]::Join(',', $chosen)))
        }
        'script' {
            [string]$script = [IO.Path]::Combine($Here, $want.Replace('/', '\'))
            [int]$code = (Invoke-Call ('powershell.exe -NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $script + '"') $true)[0]
            return @(($code -eq 0), ($code -eq 2), ($want + ' ended with ' + $code))
        }
    }
    [DateTime]$now = [DateTime]::Now
    if (@('hours', 'days', 'after', 'before') -contains $Node['test']) {
        [bool]$fits = switch ($Node['test']) {
            'hours' {
                [string[]]$ends = $want.Split([char]'-')
                [string]$clock = $now.ToString('HH:mm')
                [bool]$late = [string]::CompareOrdinal($clock, $ends[0]) -ge 0
                [bool]$early = [string]::CompareOrdinal($clock, $ends[1]) -lt 0
                if ([string]::CompareOrdinal($ends[0], $ends[1]) -le 0) { $late -and $early } else { $late -or $early }
            }
            'days' { @($want) -contains @('sun', 'mon', 'tue', 'wed', 'thu', 'fri', 'sat')[[int]$now.DayOfWeek] }
            'after' { [string]::CompareOrdinal($now.ToString('yyyy-MM-dd'), $want) -ge 0 }
            default { [string]::CompareOrdinal($now.ToString('yyyy-MM-dd'), $want) -lt 0 }
        }
        return @($fits, $Node['passing'], ($Node['fact'] + ' is ' + $now.ToString('yyyy-MM-ddTHH:mm')))
    }
    $value = Get-Fact $Node['fact']
    if ($null -eq $value) { return @($true, $false, ($Node['fact'] + ' is not judged here')) }
    [bool]$holds = switch ($Node['test']) {
        'range' { Test-Range ('' + $value) $want }
        'one-of' { @($want) -contains ('' + $value) }
        'begins' { [bool]$any = $false; foreach ($item in $want) { if (('' + $value + '-').StartsWith($item + '-', 'OrdinalIgnoreCase')) { $any = $true } }; $any }
        'least' { $value -ge $want }
        default { $value -eq $want }
    }
    return @($holds, $Node['passing'], ($Node['fact'] + ' is ' + (Format-Fact $value)))
}
