function Step-Delete($Step) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Step['path'])
    [string]$meaning = ''
    if ($Step['only_empty']) { $meaning = Remove-IfEmpty $path } else { $meaning = Remove-Whole $path $Step['keep'] }
    if ($Step['empty_parents']) { Remove-EmptyParents $path }
    return @($meaning, 0)
}

function Remove-Whole([string]$Path, [bool]$Keep) {
    if (Remove-Recorded $Path $Keep) { Tell changed 'deleted' $Path; return 'done' }
    if (-not [IO.Directory]::Exists($Path)) { Tell changed 'not there' $Path; return 'not needed' }
    Assert-Plain $Path
    $tree = Get-Tree $Path
    foreach ($inner in $tree[0]) { [void](Remove-Recorded $inner $Keep) }
    Remove-Own $Path
    Tell changed 'deleted' $Path
    return 'done'
}

function Remove-IfEmpty([string]$Path) {
    if (-not [IO.Directory]::Exists($Path)) { Tell changed 'not there' $Path; return 'not needed' }
    if (-not (Remove-Folder $Path)) { Tell left 'it is not empty' $Path; return 'not needed' }
    Tell changed 'removed' $Path
    return 'done'
}

# The folders above, as far as they are empty and nothing points at them: no folder of the system's or of a person's.
function Remove-EmptyParents([string]$Path) {
    [string[]]$standing = @([Environment]::GetEnvironmentVariables().Values | ForEach-Object { ([string]$_).ToLowerInvariant().TrimEnd('\') })
    [string]$above = [IO.Path]::GetDirectoryName($Path)
    while (($above.Split('\').Length -gt 2) -and ($standing -notcontains $above.ToLowerInvariant()) -and (Remove-Folder $above)) {
        Tell changed 'removed' $above
        $above = [IO.Path]::GetDirectoryName($above)
    }
}
