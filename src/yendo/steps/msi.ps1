function Step-Msi($Step) { return Invoke-CommandLine $Step }

# Everybody sees a command line. What is secret goes to a second runner by its standard input instead, and from there to the
# Windows Installer by its own function.
function Start-Hidden($Hidden, [string]$Folder) {
    Tell secrets-beside
    [string]$shell = [IO.Path]::Combine([Environment]::SystemDirectory, 'WindowsPowerShell\v1.0\powershell.exe')
    [Diagnostics.ProcessStartInfo]$start = New-Start ('"' + $shell + '" -NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $PSCommandPath + '" call') $Folder
    $start.RedirectStandardInput = $true
    [Diagnostics.Process]$process = [Diagnostics.Process]::Start($start)
    foreach ($part in @($Hidden['package'], $Hidden['log'], $Hidden['properties'])) {
        [string]$full = [Environment]::ExpandEnvironmentVariables($part.Replace('{package}', $Here).Replace('{logs}', $VendorLogs))
        # letters of other languages come through whatever code page the two processes have
        $process.StandardInput.WriteLine([Convert]::ToBase64String($Utf8.GetBytes($full)))
    }
    $process.StandardInput.Close()
    return $process
}

function Receive-Call {
    [string[]]$parts = @()
    for ([int]$at = 0; $at -lt 3; $at++) { $parts = @($parts + $Utf8.GetString([Convert]::FromBase64String([Console]::In.ReadLine()))) }
    [void](Get-Native)::MsiSetInternalUI(2, [IntPtr]::Zero)
    if ($parts[1] -ne '') { [void](Get-Native)::MsiEnableLogW(0x1fff, $parts[1], 2) }
    return (Get-Native)::MsiInstallProductW($parts[0], $parts[2])
}
