function Test-FileList($Rule) {
    foreach ($file in $Rule['files']) {
        $verdict = Test-File $file
        if (-not $verdict[0]) {
            if ($verdict[1].EndsWith('does not exist')) { return $verdict }
            return @($false, ($file['path'].Substring($file['path'].LastIndexOf('\') + 1) + ': ' + $verdict[1]))
        }
    }
    return @($true, ('all ' + $Rule['files'].Length + ' are there'))
}
