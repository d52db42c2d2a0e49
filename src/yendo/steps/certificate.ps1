function Step-Certificate($Step) {
    [string]$said = 'there already'
    if (Set-Recorded 'HKLM' '64' $Step['key'] 'Blob' ('binary=' + $Step['blob'])) { $said = 'added' }
    Say ('certificate ' + $Step['name'] + ': ' + $said)
    return @('done', 0)
}
