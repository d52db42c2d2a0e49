# --- settings: values that are chosen when the package is delivered -----------------------------------------------------

# A value as it fills a place; throws what is wrong with it, in words that follow the setting's name.
function ConvertTo-Setting($Setting, [string]$Value) {
    [string]$text = $Value.Trim()
    [string]$type = $Setting['type']
    if ($type -eq 'yes-no') {
        if (('yes', 'true') -contains $text) { return $Setting['words'][0] }
        if (('no', 'false') -contains $text) { return $Setting['words'][1] }
        throw ('''' + $text + ''' is neither yes nor no')
    }
    if ($type -eq 'number') {
        [bool]$fits = [regex]::IsMatch($text, '\A-?[0-9]{1,15}\z')
        if ($fits) {
            [long]$number = [long]::Parse($text, [Globalization.CultureInfo]::InvariantCulture)
            if (($null -ne $Setting['least']) -and ($number -lt $Setting['least'])) { $fits = $false }
            if (($null -ne $Setting['most']) -and ($number -gt $Setting['most'])) { $fits = $false }
        }
        if (-not $fits) {
            [string]$range = ''
            if ($null -ne $Setting['least']) { $range = $range + ' from ' + $Setting['least'] }
            if ($null -ne $Setting['most']) { $range = $range + ' up to ' + $Setting['most'] }
            throw ('''' + $text + ''' is not a whole number' + $range)
        }
        return '' + $number
    }
    if (($type -eq 'choice') -or ($type -eq 'choices')) {
        [string[]]$parts = ,$text
        if ($type -eq 'choices') { $parts = @($text.Split([char]',') | ForEach-Object { $_.Trim() } | Where-Object { $_ -ne '' }) }
        [string[]]$chosen = @()
        foreach ($part in $parts) {
            [string]$known = ''
            foreach ($item in $Setting['allowed']) { if ([string]::Equals($item, $part, 'OrdinalIgnoreCase')) { $known = $item } }
            if ($known -eq '') { throw ('''' + $part + ''' is not one of ' + [string]::Join(', ', $Setting['allowed'])) }
            if ($chosen -cnotcontains $known) { $chosen = @($chosen + $known) }
        }
        return [string]::Join(',', $chosen)
    }
    [string]$checked = $text
    if ($type -eq 'folder') { $checked = $text.Replace('%', '') }
    if ([regex]::IsMatch($checked, '["\x00-\x1f]|%[^%\s]+%')) { throw 'a quotation mark, a control character or %NAME% cannot stand in it' }
    if ($type -eq 'folder') { return [Environment]::ExpandEnvironmentVariables($text) }
    return $text
}

# Lines NAME = VALUE; a line that begins with # says nothing.
function Read-Values([string]$Text) {
    [hashtable]$found = @{}
    foreach ($line in [regex]::Split($Text, '\r?\n')) {
        [string]$plain = $line.Trim().TrimStart([char]0xfeff)
        if (($plain -eq '') -or $plain.StartsWith('#', 'Ordinal')) { continue }
        [int]$mark = $plain.IndexOf('=')
        if ($mark -lt 1) { throw ('a line is not NAME = VALUE: it begins with ' + $plain.Substring(0, [Math]::Min(8, $plain.Length))) }
        $found[$plain.Substring(0, $mark).Trim()] = $plain.Substring($mark + 1).Trim()
    }
    return $found
}

function Get-Filled([string]$Text) {
    if ($Text.IndexOf('{setting') -lt 0) { return $Text }
    [string]$full = [regex]::Replace($Text, ',\{setting\.([a-z][a-z0-9_]*)\}', [Text.RegularExpressions.MatchEvaluator]{
        param($match)
        [string]$name = $match.Groups[1].Value
        if (($Plan['settings'][$name]['type'] -eq 'choices') -and ($Chosen[$name] -eq '')) { return '' }
        return $match.Value
    })
    return [regex]::Replace($full, '\{setting(-json|-value|-said)?\.([a-z][a-z0-9_]*)\}', [Text.RegularExpressions.MatchEvaluator]{
        param($match)
        [string]$form = $match.Groups[1].Value
        $setting = $Plan['settings'][$match.Groups[2].Value]
        [string]$value = $Chosen[$match.Groups[2].Value]
        if ($form -eq '') { return $value }
        [bool]$yes = ($setting['type'] -eq 'yes-no') -and ($value -ceq $setting['words'][0])
        if ($form -eq '-said') {
            if ($setting['type'] -eq 'yes-no') { if ($yes) { return 'yes' } else { return 'no' } }
            if ($setting['type'] -eq 'choices') { return $value.Replace(',', "`n") }
            return $value
        }
        if ($form -eq '-value') {
            if ($setting['type'] -eq 'number') { return $value }
            if ($setting['type'] -eq 'yes-no') { if ($yes) { return 'true' } else { return 'false' } }
        }
        [string]$plain = $value.Replace('\', '\\')
        if ($form -eq '-value') { return '"' + $plain + '"' }
        return $plain
    })
}

function Set-Filled($Data) {
    if ($Data -is [string]) { return Get-Filled $Data }
    if ($Data -is [hashtable]) {
        foreach ($key in @($Data.Keys)) { $Data[$key] = Set-Filled $Data[$key] }
        return $Data
    }
    if ($Data -is [array]) { for ([int]$at = 0; $at -lt $Data.Length; $at++) { $Data[$at] = Set-Filled $Data[$at] } }
    return ,$Data
}

# Settles every value, weakest first: defaults, what this machine was given before, the site, the file, the command line.
# Fills the places in the data, and returns what is wrong, in words; nothing where all is well.
function Initialize-Settings([string]$Site, [string]$File, [string]$Given, [string]$For, [string]$Remembered) {
    $script:Chosen = @{}
    [hashtable]$raw = @{}
    [string[]]$wrong = @()
    $settings = $Plan['settings']
    foreach ($name in @($settings.Keys)) { if ($null -ne $settings[$name]['default']) { $raw[$name] = $settings[$name]['default'] } }
    $layers = [Collections.ArrayList]::new()
    if ([IO.File]::Exists($Remembered)) {
        [hashtable]$kept = Read-Values ([IO.File]::ReadAllText($Remembered))
        foreach ($name in @($kept.Keys)) {
            # another version of the package may have known it, or allowed it
            if ($settings.ContainsKey($name)) { try { [void](ConvertTo-Setting $settings[$name] $kept[$name]) } catch { continue }; $raw[$name] = $kept[$name] }
        }
    }
    if ([IO.File]::Exists($WithheldFile)) { [void]$layers.Add((Read-Values ([IO.File]::ReadAllText($WithheldFile)))) }
    if ($Site -ne '') {
        if (-not $Plan['sites'].ContainsKey($Site)) { return ,@('there is no site ' + $Site + '; there are: ' + [string]::Join(', ', @($Plan['sites'].Keys))) }
        [void]$layers.Add($Plan['sites'][$Site])
    }
    if ($File -ne '') { try { [void]$layers.Add((Read-Values ([IO.File]::ReadAllText($File)))) } catch { return ,@($File + ': ' + $_.Exception.GetBaseException().Message) } }
    if ($Given -ne '') { try { [void]$layers.Add((Read-Values $Given.Replace(';', "`n"))) } catch { return ,@($_.Exception.GetBaseException().Message) } }
    foreach ($layer in $layers) {
        foreach ($name in @($layer.Keys)) {
            if (-not $settings.ContainsKey($name)) { $wrong = @($wrong + ('no setting is called ''' + $name + '''; there are: ' + [string]::Join(', ', @($settings.Keys)))); continue }
            $raw[$name] = $layer[$name]
        }
    }
    foreach ($name in @($settings.Keys)) {
        if (-not $raw.ContainsKey($name)) {
            $Chosen[$name] = ''
            if ($Plan['used'][$For] -contains $name) { $wrong = @($wrong + ($name + ': not given, and it has no default; it is ' + $settings[$name]['meaning'])) }
            continue
        }
        try { $Chosen[$name] = ConvertTo-Setting $settings[$name] $raw[$name] } catch { $wrong = @($wrong + ($name + ': ' + $_.Exception.GetBaseException().Message)) }
        if ($settings[$name]['secret'] -and ($Chosen[$name] -ne '')) { $Plan['secrets'] = @($Plan['secrets'] + $Chosen[$name]) }
    }
    if ($wrong.Length -gt 0) { return ,$wrong }
    foreach ($part in @('when', 'needs', 'install', 'uninstall', 'repair', 'detect', 'in_the_way')) { if ($Plan.ContainsKey($part)) { $Plan[$part] = Set-Filled $Plan[$part] } }
    return ,[string[]]@()
}
