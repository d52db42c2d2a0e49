function Get-Number([string]$Text) {
    [string[]]$parts = $Text.Trim().Split([char]'.')
    if ($parts.Length -gt 4) { return $null }
    [int[]]$fields = @(0, 0, 0, 0)
    for ([int]$at = 0; $at -lt $parts.Length; $at++) {
        [int]$number = 0
        if ($parts[$at] -notmatch '^[0-9]{1,5}$') { return $null }
        $number = [int]$parts[$at]
        if ($number -gt 65535) { return $null }
        $fields[$at] = $number
    }
    return [Version]::new($fields[0], $fields[1], $fields[2], $fields[3])
}

function Test-Range([string]$Text, $Bounds) {
    if ($Bounds.Length -eq 0) { return $true }
    $version = Get-Number $Text
    if ($null -eq $version) { return $false }
    foreach ($bound in $Bounds) {
        [Version]$mine = $version
        [int]$order = $mine.CompareTo([Version]::new($bound['version']))
        [bool]$fits = switch ($bound['sign']) { '>=' { $order -ge 0 } '<=' { $order -le 0 } '>' { $order -gt 0 } '<' { $order -lt 0 } default { $order -eq 0 } }
        if (-not $fits) { return $false }
    }
    return $true
}

function Get-Key([string]$Hive, [string]$View, [string]$Path) {
    [string]$root = switch ($Hive) { 'HKCU' { 'CurrentUser' } default { 'LocalMachine' } }
    [Microsoft.Win32.RegistryKey]$base = [Microsoft.Win32.RegistryKey]::OpenBaseKey($root, 'Registry' + $View)
    return $base.OpenSubKey($Path)
}

function Test-Rule($Rule) {
    switch ($Rule['kind']) {
        'msi-product' {
            [Microsoft.Win32.RegistryKey]$accounts = Get-Key 'HKLM' '64' 'Software\Microsoft\Windows\CurrentVersion\Installer\UserData'
            if ($null -eq $accounts) { return @($false, 'the Windows Installer has no such product') }
            foreach ($account in $accounts.GetSubKeyNames()) {
                [Microsoft.Win32.RegistryKey]$key = $accounts.OpenSubKey($account + '\Products\' + $Rule['product'] + '\InstallProperties')
                if ($null -ne $key) {
                    [string]$version = $key.GetValue('DisplayVersion', '')
                    return @((Test-Range $version $Rule['version']), ('version ' + $version + ' is on record'))
                }
            }
            return @($false, 'the Windows Installer has no such product')
        }
        'file' {
            [string]$path = [Environment]::ExpandEnvironmentVariables($Rule['path'])
            if (-not [IO.File]::Exists($path)) { return @($false, ($path + ' does not exist')) }
            if ($Rule['version'].Length -gt 0) {
                [Diagnostics.FileVersionInfo]$info = [Diagnostics.FileVersionInfo]::GetVersionInfo($path)
                [string]$version = '' + $info.FileMajorPart + '.' + $info.FileMinorPart + '.' + $info.FileBuildPart + '.' + $info.FilePrivatePart
                if ([string]::IsNullOrEmpty($info.FileVersion)) { $version = '' }
                if (-not (Test-Range $version $Rule['version'])) { return @($false, ('its version is ' + $version)) }
            }
            if ($Rule['size'] -ge 0) {
                [IO.FileInfo]$file = [IO.FileInfo]::new($path)
                if ($file.Length -ne $Rule['size']) { return @($false, ('its size is ' + $file.Length)) }
            }
            if ($Rule['sha256'] -ne '') {
                [IO.FileStream]$stream = [IO.File]::OpenRead($path)
                [Security.Cryptography.SHA256]$hash = [Security.Cryptography.SHA256]::Create()
                [string]$digest = [BitConverter]::ToString($hash.ComputeHash($stream)).Replace('-', '').ToLowerInvariant()
                $stream.Dispose()
                $hash.Dispose()
                if ($digest -ne $Rule['sha256']) { return @($false, ('its hash is ' + $digest.Substring(0, 12))) }
            }
            return @($true, ($path + ' is there'))
        }
        'registry' {
            [Microsoft.Win32.RegistryKey]$key = Get-Key $Rule['hive'] $Rule['view'] $Rule['key']
            if ($null -eq $key) { return @($false, 'no such key') }
            $value = $key.GetValue($Rule['name'], $null, 'DoNotExpandEnvironmentNames')
            if ($null -eq $value) { return @($false, 'no such value') }
            [string]$text = '' + $value
            [bool]$same = (-not $Rule['compare']) -or ($text -ceq $Rule['equals'])
            return @(($same -and (Test-Range $text $Rule['version'])), ('is ' + $text))
        }
        'uninstall-entry' {
            foreach ($hive in @('HKLM', 'HKCU')) {
                foreach ($view in $Rule['views']) {
                    [Microsoft.Win32.RegistryKey]$list = Get-Key $hive $view 'Software\Microsoft\Windows\CurrentVersion\Uninstall'
                    if ($null -eq $list) { continue }
                    foreach ($name in $list.GetSubKeyNames()) {
                        [Microsoft.Win32.RegistryKey]$entry = $list.OpenSubKey($name)
                        if (($null -ne $entry) -and ($entry.GetValue('DisplayName', '') -ceq $Rule['name'])) {
                            [string]$version = $entry.GetValue('DisplayVersion', '')
                            return @((Test-Range $version $Rule['version']), ('version ' + $version + ' is listed'))
                        }
                    }
                }
            }
            return @($false, 'no such entry')
        }
        'folder' {
            [string]$path = [Environment]::ExpandEnvironmentVariables($Rule['path'])
            if ([IO.Directory]::Exists($path)) { return @($true, ($path + ' is there')) }
            return @($false, ($path + ' does not exist'))
        }
        'service' {
            [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' ('System\CurrentControlSet\Services\' + $Rule['name'])
            if (($null -eq $key) -or ($null -eq $key.GetValue('ImagePath', $null))) { return @($false, ('there is no service ' + $Rule['name'])) }
            if ($Rule['start'] -ne '') {
                [string]$start = switch ($key.GetValue('Start', 3)) { 2 { 'auto' } 3 { 'demand' } 4 { 'disabled' } default { 'in another way' } }
                if ($start -ne $Rule['start']) { return @($false, ('it starts ' + $start)) }
            }
            if ($Rule['running'] -ne '') {
                [string]$program = [IO.Path]::Combine([Environment]::SystemDirectory, 'sc.exe')
                [Diagnostics.ProcessStartInfo]$start = [Diagnostics.ProcessStartInfo]::new($program, 'query "' + $Rule['name'] + '"')
                $start.UseShellExecute = $false
                $start.RedirectStandardOutput = $true
                $start.CreateNoWindow = $true
                [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start)
                [bool]$runs = [regex]::IsMatch($process.StandardOutput.ReadToEnd(), ':\s+4\s')
                if ($runs -and ($Rule['running'] -eq 'no')) { return @($false, 'it runs') }
                if ((-not $runs) -and ($Rule['running'] -eq 'yes')) { return @($false, 'it does not run') }
            }
            return @($true, ('service ' + $Rule['name'] + ' is there'))
        }
        'process' {
            if ([Diagnostics.Process]::GetProcessesByName($Rule['name']).Length -gt 0) { return @($true, ($Rule['name'] + ' runs')) }
            return @($false, ($Rule['name'] + ' does not run'))
        }
        'environment' {
            [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' 'System\CurrentControlSet\Control\Session Manager\Environment'
            $value = $key.GetValue($Rule['name'], $null, 'DoNotExpandEnvironmentNames')
            if ($null -eq $value) { return @($false, ($Rule['name'] + ' is not set')) }
            return @(((-not $Rule['compare']) -or (('' + $value) -ceq $Rule['equals'])), ($Rule['name'] + ' is ' + $value))
        }
        'certificate' {
            [Microsoft.Win32.RegistryKey]$key = Get-Key 'HKLM' '64' ('Software\Microsoft\SystemCertificates\' + $Rule['store'] + '\Certificates\' + $Rule['thumbprint'])
            if ($null -eq $key) { return @($false, ($Rule['thumbprint'].Substring(0, 12) + ' is not in ' + $Rule['store'])) }
            return @($true, ($Rule['thumbprint'].Substring(0, 12) + ' is in ' + $Rule['store']))
        }
    }
}
