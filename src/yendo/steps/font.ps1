function Step-Font($Step) {
    [string]$path = [IO.Path]::Combine([Environment]::ExpandEnvironmentVariables('%SystemRoot%\Fonts'), $Step['file'])
    [void](Set-FileFrom $path ([IO.Path]::Combine($Here, $Step['source'].Replace('/', '\'))) $Step['sha256'])
    [void](Set-Recorded 'HKLM' '64' 'Software\Microsoft\Windows NT\CurrentVersion\Fonts' $Step['label'] ('sz=' + $Step['file']))
    Tell font-added $Step['label']
    return @('done', 0)
}
