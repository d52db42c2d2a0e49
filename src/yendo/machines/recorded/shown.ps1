# --- what stands on this computer's screen: windows, what their controls say, pictures of them -----------------------------

$script:Screen = $null

function Get-Screen {
    if ($null -eq $script:Screen) {
        $script:Screen = New-Native 'YendoScreen' @(
            @('FindWindowExW', 'user32.dll', [IntPtr], @([IntPtr], [IntPtr], [IntPtr], [IntPtr])),
            @('IsWindowVisible', 'user32.dll', [int], @([IntPtr])),
            @('GetWindowThreadProcessId', 'user32.dll', [int], @([IntPtr], [IntPtr])),
            @('GetWindowRect', 'user32.dll', [int], @([IntPtr], [IntPtr])),
            @('SendMessageTimeoutW', 'user32.dll', [IntPtr], @([IntPtr], [int], [IntPtr], [IntPtr], [int], [int], [IntPtr])),
            @('GetDC', 'user32.dll', [IntPtr], @([IntPtr])),
            @('ReleaseDC', 'user32.dll', [int], @([IntPtr], [IntPtr])),
            @('CreateCompatibleDC', 'gdi32.dll', [IntPtr], @([IntPtr])),
            @('CreateCompatibleBitmap', 'gdi32.dll', [IntPtr], @([IntPtr], [int], [int])),
            @('SelectObject', 'gdi32.dll', [IntPtr], @([IntPtr], [IntPtr])),
            @('BitBlt', 'gdi32.dll', [int], @([IntPtr], [int], [int], [int], [int], [IntPtr], [int], [int], [int])),
            @('GetDIBits', 'gdi32.dll', [int], @([IntPtr], [IntPtr], [int], [int], [IntPtr], [IntPtr], [int])),
            @('DeleteObject', 'gdi32.dll', [int], @([IntPtr])),
            @('DeleteDC', 'gdi32.dll', [int], @([IntPtr])))
    }
    return $script:Screen
}

# What a window or control says; one that does not answer within a fifth of a second says nothing.
function Get-WindowText([IntPtr]$Window, [IntPtr]$Room) {
    [Runtime.InteropServices.Marshal]::WriteInt16($Room, 0, 0)
    [IntPtr]$sent = (Get-Screen)::SendMessageTimeoutW($Window, 13, [IntPtr]500, [IntPtr]::Add($Room, 16), 2, 200, $Room)  # WM_GETTEXT, unless it hangs
    if ($sent -eq [IntPtr]::Zero) { return '' }
    return [Runtime.InteropServices.Marshal]::PtrToStringUni([IntPtr]::Add($Room, 16), [Math]::Min(500, [Runtime.InteropServices.Marshal]::ReadInt32($Room))).Trim()
}

# The visible windows: number of the process, handle, title, left, top, width, height.
function Get-Shown {
    $screen = Get-Screen
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(1100)
    $found = [Collections.ArrayList]::new()
    try {
        [IntPtr]$at = [IntPtr]::Zero
        for ([int]$count = 0; $count -lt 2000; $count++) {
            $at = $screen::FindWindowExW([IntPtr]::Zero, $at, [IntPtr]::Zero, [IntPtr]::Zero)
            if ($at -eq [IntPtr]::Zero) { break }
            if ($screen::IsWindowVisible($at) -eq 0) { continue }
            [void]$screen::GetWindowThreadProcessId($at, $room)
            [int]$id = [Runtime.InteropServices.Marshal]::ReadInt32($room)
            if ($screen::GetWindowRect($at, $room) -eq 0) { continue }
            [int]$left = [Runtime.InteropServices.Marshal]::ReadInt32($room, 0)
            [int]$top = [Runtime.InteropServices.Marshal]::ReadInt32($room, 4)
            [int]$width = [Runtime.InteropServices.Marshal]::ReadInt32($room, 8) - $left
            [int]$height = [Runtime.InteropServices.Marshal]::ReadInt32($room, 12) - $top
            [void]$found.Add(@($id, $at, (Get-WindowText $at $room), $left, $top, $width, $height))
        }
    } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
    return ,$found.ToArray()
}

# What the controls of a window say, the first forty.
function Get-ControlTexts([IntPtr]$Window) {
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(1100)
    [string[]]$found = @()
    try {
        [Collections.Queue]$waiting = [Collections.Queue]::new()
        $waiting.Enqueue($Window)
        [int]$looked = 0
        while (($waiting.Count -gt 0) -and ($looked -lt 200) -and ($found.Length -lt 40)) {
            [IntPtr]$above = $waiting.Dequeue()
            [IntPtr]$at = [IntPtr]::Zero
            while ($looked -lt 200) {
                $looked++
                $at = (Get-Screen)::FindWindowExW($above, $at, [IntPtr]::Zero, [IntPtr]::Zero)
                if ($at -eq [IntPtr]::Zero) { break }
                if ((Get-Screen)::IsWindowVisible($at) -eq 0) { continue }
                [string]$text = Get-WindowText $at $room
                if ($text -ne '') { $found = @($found + $text) }
                $waiting.Enqueue($at)
            }
        }
    } finally { [Runtime.InteropServices.Marshal]::FreeHGlobal($room) }
    return ,$found
}

# A part of the screen: four bytes a point (blue, green, red, nothing), packed, in base 64; nothing where there is no screen.
function Get-PackedPicture([int]$Left, [int]$Top, [int]$Width, [int]$Height) {
    if (($Width -lt 3) -or ($Height -lt 3) -or ($Width -gt 4096) -or ($Height -gt 4096)) { return '' }
    $screen = Get-Screen
    [IntPtr]$from = $screen::GetDC([IntPtr]::Zero)
    if ($from -eq [IntPtr]::Zero) { return '' }
    [IntPtr]$to = $screen::CreateCompatibleDC($from)
    [IntPtr]$bitmap = $screen::CreateCompatibleBitmap($from, $Width, $Height)
    [IntPtr]$room = [Runtime.InteropServices.Marshal]::AllocHGlobal(40 + 4 * $Width * $Height)
    try {
        [IntPtr]$old = $screen::SelectObject($to, $bitmap)
        [int]$drawn = $screen::BitBlt($to, 0, 0, $Width, $Height, $from, $Left, $Top, 0x00CC0020)
        [void]$screen::SelectObject($to, $old)
        if ($drawn -eq 0) { return '' }
        # a picture of 32 bits, from the top down
        [int[]]$head = @(40, $Width, (0 - $Height), (1 + 32 * 65536), 0, 0, 0, 0, 0, 0)
        [Runtime.InteropServices.Marshal]::Copy($head, 0, $room, 10)
        if ($screen::GetDIBits($from, $bitmap, 0, $Height, [IntPtr]::Add($room, 40), $room, 0) -ne $Height) { return '' }
        [byte[]]$points = [byte[]]::new(4 * $Width * $Height)
        [Runtime.InteropServices.Marshal]::Copy([IntPtr]::Add($room, 40), $points, 0, $points.Length)
        [IO.MemoryStream]$packed = [IO.MemoryStream]::new()
        [IO.Compression.DeflateStream]$stream = [IO.Compression.DeflateStream]::new($packed, [IO.Compression.CompressionMode]::Compress, $true)
        $stream.Write($points, 0, $points.Length)
        $stream.Dispose()
        return [Convert]::ToBase64String($packed.ToArray())
    } finally {
        [Runtime.InteropServices.Marshal]::FreeHGlobal($room)
        [void]$screen::DeleteObject($bitmap)
        [void]$screen::DeleteDC($to)
        [void]$screen::ReleaseDC([IntPtr]::Zero, $from)
    }
}
