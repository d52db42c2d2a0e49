function Step-Delete($Step) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Step['path'])
    if (Remove-Recorded $path $Step['keep']) { Say ('deleted: ' + $path); return @('done', 0) }
    if (-not [IO.Directory]::Exists($path)) { Say ('not there: ' + $path); return @('not needed', 0) }
    Assert-Plain $path
    $tree = Get-Tree $path
    foreach ($inner in $tree[0]) { [void](Remove-Recorded $inner $Step['keep']) }
    Remove-Own $path
    Say ('deleted: ' + $path)
    return @('done', 0)
}
