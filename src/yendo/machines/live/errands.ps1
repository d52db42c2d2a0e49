# Carries out errands on this computer, one after the other, as the system account: each is a file that somebody puts into
# a folder that only administrators write, each answer another. Made by Yendo for a machine that is put back afterwards.
# Windows PowerShell 5.1 or later; nothing is installed, nothing is sent anywhere.
param([string]$Account = '', [switch]$Inner, [string]$Although = '')

#DATA#

$ErrorActionPreference = 'Stop'
[Text.UTF8Encoding]$Utf8 = [Text.UTF8Encoding]::new($false)
[string]$Here = $PSScriptRoot
if ($Account -eq '') { $Account = $Kit['account'] }
[string]$Work = [Environment]::ExpandEnvironmentVariables('%ProgramFiles%\Yendo proof')
[string]$Asked = [IO.Path]::Combine($Work, 'errands')
[string]$First = [IO.Path]::Combine($Work, 'first.txt')
[string]$TaskName = 'Yendo\proof'

#PEOPLE#
#FACTS#
#TRUST#
#OBSERVE#
#TASK#
#SHOWN#
#OPERATIONS#

function Get-Line { return '-NoLogo -NoProfile -NonInteractive -ExecutionPolicy Bypass -File "' + $Work + '\errands.ps1" -Inner -Account ' + $Account + $(if ($Although -ne '') { ' -Although "' + $Although.Replace('"', "'") + '"' } else { '' }) }

function Get-AnswerPath([string]$Number, [string]$Kind) { return [IO.Path]::Combine($Asked, $Number + '.' + $Kind) }

# An answer is put in place when it is whole.
function Send-Answer([string]$Number, [string[]]$Lines) {
    [string]$to = Get-AnswerPath $Number 'told'
    [IO.File]::WriteAllText($to + '.new', [string]::Join("`n", $Lines) + "`n", $Utf8)
    [IO.File]::Move($to + '.new', $to)
}

function ConvertFrom-Errand([string]$Field) { return $Utf8.GetString([Convert]::FromBase64String($Field)) }

# Ends what this script itself left here.
function Stop-Errands([string]$Number) {
    Clear-Return
    Send-Answer $Number @('yes')
    exit 0
}

function Start-Errands {
    if (-not [Security.Principal.WindowsPrincipal]::new([Security.Principal.WindowsIdentity]::GetCurrent()).IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)) { Stop-With 'an administrator is needed: what is proved is an installation for the whole machine' }
    [string[]]$claims = Get-Claims
    if (($claims.Length -gt 0) -and ($Although -eq '')) {
        foreach ($claim in $claims) { [Console]::WriteLine('not on this computer: ' + $claim) }
        Stop-With 'take a machine that nobody needs, or say why it may be this one: although = "the reason"'
    }
    [string]$ready = [IO.Path]::Combine($Work, 'ready.txt')
    if ([IO.File]::Exists($ready)) {
        # a line that was lost while it began: what was begun goes on
        if ([IO.File]::ReadAllText($ready, $Utf8) -eq $Here) { Start-Task; exit 0 }
    }
    Stop-Others
    if ([IO.Directory]::Exists($Work)) { [IO.Directory]::Delete($Work, $true) }
    New-Protected $Work $true
    [void][IO.Directory]::CreateDirectory($Asked)
    [IO.File]::Copy([IO.Path]::Combine($Here, 'errands.ps1'), [IO.Path]::Combine($Work, 'errands.ps1'))
    [IO.File]::WriteAllText($ready, $Here, $Utf8)
    Start-Task
    exit 0
}

if (-not $Inner) { Start-Errands }
[string]$Here = [IO.File]::ReadAllText([IO.Path]::Combine($Work, 'ready.txt'), $Utf8)
[DateTime]$Idle = [DateTime]::UtcNow
while (([DateTime]::UtcNow - $Idle).TotalHours -lt 4) {
    [string[]]$waiting = @([IO.Directory]::GetFiles($Asked, '*.ask') | ForEach-Object { [IO.Path]::GetFileNameWithoutExtension($_) } | Where-Object { -not [IO.File]::Exists((Get-AnswerPath $_ 'told')) })
    if ($waiting.Length -eq 0) { [Threading.Thread]::Sleep(100); continue }
    [Array]::Sort($waiting, [StringComparer]::Ordinal)
    [string]$number = $waiting[0]
    # what was begun and has no answer was cut off by a restart: it is not done a second time
    if ([IO.File]::Exists((Get-AnswerPath $number 'begun'))) { Send-Answer $number @('cut'); continue }
    [string[]]$fields = [IO.File]::ReadAllText((Get-AnswerPath $number 'ask'), $Utf8).TrimEnd([char[]]"`r`n").Split([char]9)
    [IO.File]::WriteAllText((Get-AnswerPath $number 'begun'), '', $Utf8)
    if ($fields[0] -eq 'over') { Stop-Errands $number }
    if ($fields[0] -eq 'restart') {
        Send-Answer $number @('yes')
        [Threading.Thread]::Sleep(1500)
        [void](Invoke-Program 'shutdown.exe' '/r /t 0 /f')
        exit 0
    }
    [string[]]$text = @()
    for ([int]$at = 1; $at -lt $fields.Length; $at++) { $text = @($text + (ConvertFrom-Errand $fields[$at])) }
    try { Invoke-Operation $number $fields[0] $text } catch { Send-Answer $number @('error', (ConvertTo-Field $_.Exception.GetBaseException().Message)) }
    $Idle = [DateTime]::UtcNow
}
Clear-Return
exit 0
