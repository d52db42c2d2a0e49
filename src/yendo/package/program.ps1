# Runs a program of the system without a window: its exit code, and what it printed.
function Invoke-Program([string]$Program, [string]$Arguments, [string]$Folder = [Environment]::SystemDirectory) {
    [Diagnostics.ProcessStartInfo]$start = [Diagnostics.ProcessStartInfo]::new()
    $start.FileName = [IO.Path]::Combine([Environment]::SystemDirectory, $Program)
    $start.Arguments = $Arguments
    $start.UseShellExecute = $false
    $start.RedirectStandardOutput = $true
    $start.RedirectStandardError = $true
    $start.CreateNoWindow = $true
    $start.WorkingDirectory = $Folder
    [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start)
    $out = $process.StandardOutput.ReadToEndAsync()
    $err = $process.StandardError.ReadToEndAsync()
    $process.WaitForExit()
    # what a setup has left running may hold the pipes open
    [string]$said = ''
    foreach ($one in @($out, $err)) { if ($one.Wait(5000)) { $said = $said + $one.Result } }
    return @($process.ExitCode, $said)
}

function Get-Shell { return [IO.Path]::Combine([Environment]::SystemDirectory, 'WindowsPowerShell\v1.0\powershell.exe') }
