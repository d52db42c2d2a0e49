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
    }
}
