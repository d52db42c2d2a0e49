function Step-Tell($Step) {
    [string]$text = Get-Text $Step['text']
    if ((Get-People) -eq 0) { Tell nobody-there $text; return @('not needed', 0) }
    [string]$title = $Step['caption']
    if ($title -eq '') { $title = $Plan['name'] }
    [void](Show-Message $title $text 0 0 $false)
    Tell person-told $text
    return @('done', 0)
}
