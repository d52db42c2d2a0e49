function Step-Delete($Step) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Step['path'])
    if (Remove-Recorded $path $Step['keep']) { Say ('deleted: ' + $path); return @('done', 0) }
    if (-not [IO.Directory]::Exists($path)) { Say ('not there: ' + $path); return @('not needed', 0) }
    [string[]]$paths = [IO.Directory]::GetFiles($path, '*', 'AllDirectories')
    [Array]::Sort($paths)
    foreach ($inner in $paths) { [void](Remove-Recorded $inner $Step['keep']) }
    [IO.Directory]::Delete($path, $true)
    Say ('deleted: ' + $path)
    return @('done', 0)
}
