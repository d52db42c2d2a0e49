function Test-Folder($Rule) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Rule['path'])
    if ([IO.Directory]::Exists($path)) { return @($true, ($path + ' is there')) }
    return @($false, ($path + ' does not exist'))
}
