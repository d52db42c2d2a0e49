function Test-IdentificationTag($Rule) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Rule['path'])
    if (-not [IO.File]::Exists($path)) { return @($false, ($path + ' does not exist')) }
    if (([IO.FileInfo]::new($path)).Length -gt 1048576) { return @($false, 'its tag id is not stated') }
    [string]$tag = ''
    [string]$version = ''
    try {
        [Xml.XmlReaderSettings]$settings = [Xml.XmlReaderSettings]::new()
        $settings.DtdProcessing = 'Prohibit'
        $settings.XmlResolver = $null
        [Xml.XmlReader]$reader = [Xml.XmlReader]::Create($path, $settings)
        try {
            [Xml.XmlNodeType]$node = $reader.MoveToContent()
            if (($node -eq 'Element') -and ($reader.LocalName -ceq 'SoftwareIdentity')) {
                $tag = '' + $reader.GetAttribute('tagId')
                $version = '' + $reader.GetAttribute('version')
            }
            while ($reader.Read()) { }
        } finally { $reader.Dispose() }
    } catch { return @($false, 'its tag id is not stated') }
    if ($tag -cne $Rule['tag_id']) { return @($false, ('its tag id is ' + $tag)) }
    return @((Test-Range $version $Rule['version']), ('version ' + $version + ' is tagged'))
}
