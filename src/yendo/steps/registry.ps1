function Step-Registry($Step) {
    foreach ($item in $Step['items']) {
        [string[]]$prefixes = ,''
        [string]$hive = $item['hive']
        if (($hive -eq 'HKCU') -and $Step['each']) { $hive = 'HKU'; $prefixes = Open-UserHives }
        foreach ($prefix in $prefixes) {
            [string]$key = $prefix + $item['key']
            if ($item['delete_key']) { Remove-Tree $hive $item['view'] $key; Tell changed 'deleted' ($hive + '\' + $key) }
            foreach ($name in $item['delete']) {
                if (Set-Recorded $hive $item['view'] $key $name '-') { Tell changed 'deleted' ($hive + '\' + $key + '\' + $name) }
            }
            if ($item['make_key']) { New-Keys $hive $item['view'] $key }
            foreach ($value in $item['values']) {
                $data = $value[2]
                if (@($item['expanded']) -ccontains $value[0]) { $data = [Environment]::ExpandEnvironmentVariables($data) }
                [void](Set-Recorded $hive $item['view'] $key $value[0] (Join-Value $value[1] $data))
                Tell changed 'set' ($hive + '\' + $key + '\' + $value[0])
            }
            if ($item['empty_key'] -and (Remove-Key $hive $item['view'] $key)) { Tell changed 'removed' ($hive + '\' + $key) }
        }
        if ($hive -eq 'HKU') { Close-UserHives }
    }
    return @('done', 0)
}
