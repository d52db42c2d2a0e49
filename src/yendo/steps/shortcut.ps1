function Step-Shortcut($Step) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Step['path'])
    $shell = [Activator]::CreateInstance([Type]::GetTypeFromProgID('WScript.Shell'))
    [string]$target = [Environment]::ExpandEnvironmentVariables($Step['target'])
    [string]$arguments = [Environment]::ExpandEnvironmentVariables($Step['arguments'])
    [string]$from = [Environment]::ExpandEnvironmentVariables($Step['start_in'])
    if ([IO.File]::Exists($path)) {
        $old = $shell.CreateShortcut($path)
        if (($old.TargetPath -eq $target) -and ($old.Arguments -ceq $arguments) -and ($old.WorkingDirectory -eq $from) -and ($old.Description -ceq $Step['description'])) {
            [string]$sum = Get-Digest $path
            Add-Found 'F' $sum $sum $path
            Tell changed 'made' $path
            return @('done', 0)
        }
    }
    [string]$beside = [IO.Path]::Combine($Room, 'new.lnk')
    [void][IO.Directory]::CreateDirectory($Room)
    $link = $shell.CreateShortcut($beside)
    $link.TargetPath = $target
    $link.Arguments = $arguments
    $link.WorkingDirectory = $from
    $link.Description = $Step['description']
    if ($Step['icon'] -ne '') { $link.IconLocation = [Environment]::ExpandEnvironmentVariables($Step['icon']) }
    $link.Save()
    [void](Set-FileBytes $path ([IO.File]::ReadAllBytes($beside)))
    [IO.File]::Delete($beside)
    Tell changed 'made' $path
    return @('done', 0)
}
