function Step-Delete($Step) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Step['path'])
    if (Remove-Recorded $path $Step['keep']) { Tell changed 'deleted' $path; return @('done', 0) }
    if (-not [IO.Directory]::Exists($path)) { Tell changed 'not there' $path; return @('not needed', 0) }
    Assert-Plain $path
    $tree = Get-Tree $path
    foreach ($inner in $tree[0]) { [void](Remove-Recorded $inner $Step['keep']) }
    Remove-Own $path
    Tell changed 'deleted' $path
    return @('done', 0)
}
