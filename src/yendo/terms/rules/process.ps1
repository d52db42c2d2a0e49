function Test-Process($Rule) {
    if ([Diagnostics.Process]::GetProcessesByName($Rule['name']).Length -gt 0) { return @($true, ($Rule['name'] + ' runs')) }
    return @($false, ($Rule['name'] + ' does not run'))
}
