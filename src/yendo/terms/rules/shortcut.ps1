function Get-Target([string]$Path) {
    # Source: the shell link's binary format. The script host's own object does not read a link on every system.
    [byte[]]$link = [IO.File]::ReadAllBytes($Path)
    if (($link.Length -gt 78) -and ([BitConverter]::ToInt32($link, 0) -eq 76)) {
        [int]$flags = [BitConverter]::ToInt32($link, 20)
        [int]$at = 76
        if ($flags -band 1) { $at += 2 + [BitConverter]::ToUInt16($link, 76) }
        if (($flags -band 2) -and (($at + 36) -lt $link.Length) -and ([BitConverter]::ToInt32($link, $at + 8) -band 1)) {
            [bool]$wide = [BitConverter]::ToInt32($link, $at + 4) -ge 36
            [int]$from = $at + [BitConverter]::ToInt32($link, $at + $(if ($wide) { 28 } else { 16 }))
            if (($from -gt $at) -and ($from -lt $link.Length)) {
                [Text.Encoding]$encoding = if ($wide) { [Text.Encoding]::Unicode } else { [Text.Encoding]::Default }
                [string]$text = $encoding.GetString($link, $from, $link.Length - $from)
                return $text.Substring(0, ($text + [char]0).IndexOf([char]0))
            }
        }
    }
    return [Activator]::CreateInstance([Type]::GetTypeFromProgID('WScript.Shell')).CreateShortcut($Path).TargetPath
}

function Test-Shortcut($Rule) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Rule['path'])
    if (-not [IO.File]::Exists($path)) { return @($false, ($path + ' does not exist')) }
    if ($Rule['target'] -ne '') {
        [string]$target = Get-Target $path
        if ($target -ne [Environment]::ExpandEnvironmentVariables($Rule['target'])) { return @($false, ('it points to ' + $target)) }
    }
    return @($true, ($path + ' is there'))
}
