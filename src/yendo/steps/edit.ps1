function Edit-Ini([string]$Text, [string]$Section, [string]$Key, $Value) {
    [string]$end = Get-LineEnd $Text
    [Collections.ArrayList]$lines = [Collections.ArrayList]::new()
    [void]$lines.AddRange([regex]::Split($Text, $end))
    [int]$first = -1
    [int]$last = $lines.Count
    for ([int]$at = 0; $at -lt $lines.Count; $at++) {
        [Text.RegularExpressions.Match]$head = [regex]::Match($lines[$at], '^\s*\[([^\]]*)\]')
        if (-not $head.Success) { continue }
        if ($first -ge 0) { $last = $at; break }
        if ($head.Groups[1].Value.Trim().ToLowerInvariant() -eq $Section.ToLowerInvariant()) { $first = $at + 1 }
    }
    if ($first -lt 0) {
        if ($null -eq $Value) { return $Text }
        if (($lines.Count -gt 0) -and ($lines[$lines.Count - 1] -eq '')) { $lines.RemoveAt($lines.Count - 1) }
        [void]$lines.Add('[' + $Section + ']'); [void]$lines.Add($Key + '=' + $Value); [void]$lines.Add('')
        return [string]::Join($end, $lines.ToArray())
    }
    for ([int]$at = $first; $at -lt $last; $at++) {
        [string]$line = $lines[$at]
        [int]$mark = $line.IndexOf('=')
        if (($mark -ge 0) -and ($line.Substring(0, $mark).Trim().ToLowerInvariant() -eq $Key.ToLowerInvariant())) {
            if ($null -eq $Value) { $lines.RemoveAt($at) }
            else {
                [string]$name = $line.Substring(0, $mark).TrimEnd()
                [string]$space = ''
                if ($line.StartsWith($name + ' =', 'Ordinal')) { $space = ' ' }
                $lines[$at] = $name + $space + '=' + $space + $Value
            }
            return [string]::Join($end, $lines.ToArray())
        }
    }
    if ($null -eq $Value) { return $Text }
    while (($last -gt $first) -and ($lines[$last - 1].Trim() -eq '')) { $last = $last - 1 }
    $lines.Insert($last, $Key + '=' + $Value)
    if ($last -eq $lines.Count - 1) { [void]$lines.Add('') }
    return [string]::Join($end, $lines.ToArray())
}

function Get-LineEnd([string]$Text) {
    if (($Text.IndexOf("`r`n", [StringComparison]::Ordinal) -ge 0) -or ($Text.IndexOf([char]10) -lt 0)) { return "`r`n" }
    return "`n"
}

function Read-Token($Reader) {
    [Text.RegularExpressions.Match]$match = [regex]::Match($Reader['text'].Substring($Reader['at']), '^\s*(?:("(?:[^"\\\x00-\x1f]|\\.)*")|([{}\[\],:])|([^\s{}\[\],:"]+))')
    if (-not $match.Success) { throw ('not JSON at character ' + ($Reader['at'] + 1)) }
    [Text.RegularExpressions.Group]$group = $match.Groups[1]
    if (-not $group.Success) { $group = $match.Groups[2] }
    if (-not $group.Success) { $group = $match.Groups[3] }
    [int]$start = $Reader['at'] + $group.Index
    $Reader['at'] = $Reader['at'] + $match.Length
    return @($group.Value, $start)
}

function ConvertFrom-Name([string]$Text) {
    [string]$plain = $Text.Substring(1, $Text.Length - 2).Replace('\/', '/')
    return [regex]::Unescape([regex]::Replace($plain, '([\[\](){}.*+?^$|# ])', '\$1').Replace('\"', '"'))
}

# Goes through an object or a list until the member Name; true when it stands before that member's value.
function Find-Member($Reader, [string]$Opening, [string]$Name, [int]$Depth) {
    [string]$closing = '}'
    if ($Opening -eq '[') { $closing = ']' }
    $Reader['last'] = $Reader['at']
    $Reader['empty'] = $true
    [int]$number = 0
    [int]$before = $Reader['at']
    if ((Read-Token $Reader)[0] -eq $closing) { return $false }
    $Reader['at'] = $before
    $Reader['empty'] = $false
    while ($true) {
        [string]$member = '' + $number
        if ($Opening -eq '{') {
            $token = Read-Token $Reader
            [string]$colon = (Read-Token $Reader)[0]
            if ((-not $token[0].StartsWith('"', 'Ordinal')) -or ($colon -ne ':')) { throw ('a member has no name at character ' + ($token[1] + 1)) }
            $member = ConvertFrom-Name $token[0]
        }
        $number = $number + 1
        if ($member -ceq $Name) { return $true }
        Skip-Json $Reader ($Depth + 1)
        $Reader['last'] = $Reader['at']
        $mark = Read-Token $Reader
        if ($mark[0] -eq $closing) { $Reader['empty'] = $false; return $false }
        if ($mark[0] -ne ',') { throw ('a comma is missing at character ' + ($mark[1] + 1)) }
    }
}

function Skip-Json($Reader, [int]$Depth) {
    if ($Depth -gt 100) { throw 'nested too deeply' }
    $token = Read-Token $Reader
    if (($token[0] -eq '{') -or ($token[0] -eq '[')) { [void](Find-Member $Reader $token[0] "`0" $Depth); $Reader['start'] = $token[1]; return }
    if ('}],:'.IndexOf($token[0], [StringComparison]::Ordinal) -ge 0) { throw ('a value is missing at character ' + ($token[1] + 1)) }
    $Reader['start'] = $token[1]
}

function Edit-Json([string]$Text, [string]$Place, [string]$Value) {
    if ($Text -eq '') { $Text = '{}' }
    $reader = @{ 'text' = $Text; 'at' = 0; 'last' = 0; 'empty' = $false; 'start' = 0 }
    [string[]]$path = @($Place.Split([char]'/') | ForEach-Object { $_.Replace('~1', '/').Replace('~0', '~') })
    for ([int]$found = 1; $found -lt $path.Length; $found++) {
        $opening = Read-Token $reader
        if (($opening[0] -ne '{') -and ($opening[0] -ne '[')) { throw ($Place + ' leads through something that is neither an object nor a list') }
        if (-not (Find-Member $reader $opening[0] $path[$found] 0)) {
            if ($opening[0] -eq '[') { throw ($Place + ': the list has no item ' + $path[$found]) }
            [bool]$empty = $reader['empty']
            for ([int]$at = $path.Length - 1; $at -gt $found; $at--) { $Value = '{' + (ConvertTo-Name $path[$at]) + ': ' + $Value + '}' }
            [string]$comma = ', '
            if ($empty) { $comma = '' }
            return $Text.Substring(0, $reader['last']) + $comma + (ConvertTo-Name $path[$found]) + ': ' + $Value + $Text.Substring($reader['last'])
        }
    }
    Skip-Json $reader 0
    [int]$start = $reader['start']
    return $Text.Substring(0, $start) + $Value + $Text.Substring($reader['at'])
}

function ConvertTo-Name([string]$Text) { return '"' + $Text.Replace('\', '\\').Replace('"', '\"') + '"' }

function ConvertTo-Xml([string]$Text) { return $Text.Replace('&', '&amp;').Replace('<', '&lt;').Replace('>', '&gt;') }

function Test-Element([string]$Wanted, [string]$Name, [string]$Attributes) {
    [Text.RegularExpressions.Match]$match = [regex]::Match($Wanted, '^([A-Za-z_][\w.-]*)(?:\[@([A-Za-z_][\w.-]*)=''([^'']*)''\])?$')
    if ((-not $match.Success) -or ($match.Groups[1].Value -cne $Name)) { return $false }
    if (-not $match.Groups[2].Success) { return $true }
    [string]$value = [regex]::Escape($match.Groups[3].Value)
    return [regex]::IsMatch($Attributes, '\s' + [regex]::Escape($match.Groups[2].Value) + '\s*=\s*("' + $value + '"|''' + $value + ''')')
}

function Edit-Xml([string]$Text, [string]$Place, [string]$Value) {
    [Xml.XmlDocument]$document = [Xml.XmlDocument]::new()
    $document.XmlResolver = $null
    $document.LoadXml($Text)
    [int]$cut = $Place.IndexOf('/@')
    [string]$attribute = ''
    [string]$where = $Place
    if ($cut -ge 0) { $attribute = $Place.Substring($cut + 2); $where = $Place.Substring(0, $cut) }
    [string[]]$path = $where.Substring(1).Split([char]'/')
    [int]$hits = 0
    [int]$start = 0; [int]$inner = 0; [int]$ending = 0
    $stack = [Collections.Stack]::new()
    foreach ($match in [regex]::Matches($Text, '<!--.*?-->|<!\[CDATA\[.*?\]\]>|<\?.*?\?>|<!DOCTYPE[^>\[]*>|<(/?)([^\s/>]+)((?:[^>"'']|"[^"]*"|''[^'']*'')*?)(/?)>', 'Singleline')) {
        if (-not $match.Groups[2].Success) { continue }
        if ($match.Groups[1].Length -gt 0) {
            $open = $stack.Pop()
            if ($open[0] -and ($stack.Count -eq $path.Length - 1)) { $hits = $hits + 1; $start = $open[1]; $inner = $open[2]; $ending = $match.Index }
            continue
        }
        [int]$depth = $stack.Count
        [bool]$fits = (($depth -eq 0) -or $stack.Peek()[0]) -and ($depth -lt $path.Length)
        if ($fits) { $fits = Test-Element $path[$depth] $match.Groups[2].Value $match.Groups[3].Value }
        if ($match.Groups[4].Length -gt 0) {
            if ($fits -and ($depth -eq $path.Length - 1)) { $hits = $hits + 1; $start = $match.Index; $inner = $match.Index + $match.Length; $ending = $inner }
        } else { $stack.Push(@($fits, $match.Index, ($match.Index + $match.Length))) }
    }
    if ($hits -eq 0) { throw ($where + ' is not there') }
    if ($hits -gt 1) { throw ($where + ' is there ' + $hits + ' times') }
    [string]$head = $Text.Substring($start, $inner - $start)
    if ($attribute -ne '') {
        [string]$quoted = '"' + (ConvertTo-Xml $Value).Replace('"', '&quot;') + '"'
        [Text.RegularExpressions.Match]$old = [regex]::Match($head, '(\s' + [regex]::Escape($attribute) + '\s*=\s*)("[^"]*"|''[^'']*'')')
        if ($old.Success) { $head = $head.Substring(0, $old.Index) + $old.Groups[1].Value + $quoted + $head.Substring($old.Index + $old.Length) }
        else {
            [Text.RegularExpressions.Match]$close = [regex]::Match($head, '\s*(/?>)$')
            $head = $head.Substring(0, $close.Index) + ' ' + $attribute + '=' + $quoted + $close.Groups[1].Value
        }
        return $Text.Substring(0, $start) + $head + $Text.Substring($inner)
    }
    if ($head.EndsWith('/>', 'Ordinal')) {
        [string]$name = [regex]::Match($head, '<([^\s/>]+)').Groups[1].Value
        return $Text.Substring(0, $start) + [regex]::Replace($head, '\s*/>$', '>') + (ConvertTo-Xml $Value) + '</' + $name + '>' + $Text.Substring($inner)
    }
    if ($Text.Substring($inner, $ending - $inner).IndexOf([char]'<') -ge 0) { throw ($where + ' holds elements, not a text') }
    return $Text.Substring(0, $inner) + (ConvertTo-Xml $Value) + $Text.Substring($ending)
}

function Edit-Line([string]$Text, [string]$Wanted, [string]$Like) {
    [string]$end = Get-LineEnd $Text
    [string[]]$lines = [regex]::Split($Text, $end)
    [bool]$hit = $false
    for ([int]$at = 0; $at -lt $lines.Length; $at++) {
        if ((($Like -ne '') -and [regex]::IsMatch($lines[$at], $Like)) -or (($Like -eq '') -and ($lines[$at] -ceq $Wanted))) { $lines[$at] = $Wanted; $hit = $true }
    }
    [string]$joined = [string]::Join($end, $lines)
    if ($hit) { return $joined }
    if (($joined -ne '') -and (-not $joined.EndsWith($end, 'Ordinal'))) { $joined = $joined + $end }
    return $joined + $Wanted + $end
}

function Edit-Text([string]$Text, $Step) {
    foreach ($pair in $Step['set']) {
        [string]$place = $pair[0]
        [int]$cut = $place.LastIndexOf('/')
        $Text = switch ($Step['format']) {
            'ini' { Edit-Ini $Text $place.Substring(0, $cut) $place.Substring($cut + 1) $pair[1] }
            'json' { Edit-Json $Text $place $pair[1] }
            'xml' { Edit-Xml $Text $place $pair[1] }
            default { Edit-Line $Text $place $pair[1] }
        }
    }
    foreach ($place in $Step['remove']) {
        [int]$cut = $place.LastIndexOf('/')
        $Text = Edit-Ini $Text $place.Substring(0, $cut) $place.Substring($cut + 1) $null
    }
    return $Text
}

function Step-Edit($Step) {
    [string]$path = [Environment]::ExpandEnvironmentVariables($Step['file'])
    [byte[]]$data = [byte[]]::new(0)
    [bool]$there = [IO.File]::Exists($path)
    if ($there) { $data = [IO.File]::ReadAllBytes($path) }
    elseif (-not $Step['make']) { Tell changed 'not there' $path; return @('failed', #STEP_FAILED#) }
    [Text.Encoding]$encoding = [Text.UTF8Encoding]::new($false, $true)
    [int]$mark = 0
    if (($data.Length -ge 3) -and ($data[0] -eq 239) -and ($data[1] -eq 187) -and ($data[2] -eq 191)) { $mark = 3 }
    elseif (($data.Length -ge 2) -and ($data[0] -eq 255) -and ($data[1] -eq 254)) { $mark = 2; $encoding = [Text.UnicodeEncoding]::new($false, $false) }
    else { try { [void]$encoding.GetString($data) } catch { $encoding = [Text.Encoding]::GetEncoding(1252) } }
    [string]$text = $encoding.GetString($data, $mark, $data.Length - $mark)
    [string]$wanted = Edit-Text $text $Step
    if ($there -and ($wanted -ceq $text)) { [string]$sum = Get-BytesDigest $data; Add-Found 'F' $sum $sum $path; Tell changed 'already so' $path; return @('done', 0) }
    [byte[]]$body = $encoding.GetBytes($wanted)
    [byte[]]$whole = [byte[]]::new($mark + $body.Length)
    [Array]::Copy($data, $whole, $mark)
    [Array]::Copy($body, 0, $whole, $mark, $body.Length)
    [void](Set-FileBytes $path $whole)
    [byte[]]$again = [IO.File]::ReadAllBytes($path)
    [string]$read = $encoding.GetString($again, $mark, $again.Length - $mark)
    if ((Edit-Text $read $Step) -cne $read) { Tell probe-failed $path; return @('failed', #STEP_FAILED#) }
    Tell changed 'edited' $path
    return @('done', 0)
}
