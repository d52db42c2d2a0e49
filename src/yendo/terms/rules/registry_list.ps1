function Test-RegistryList($Rule) {
    foreach ($value in $Rule['values']) {
        $verdict = Test-Registry $value
        if (-not $verdict[0]) { return @($false, ($value['name'] + ': ' + $verdict[1])) }
    }
    return @($true, ('all ' + $Rule['values'].Length + ' are there'))
}
