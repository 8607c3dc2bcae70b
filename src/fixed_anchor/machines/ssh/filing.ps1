# What a seat reads and writes in the tool's own folder on a Windows machine; its argument is one JSON object that says what.
$asked = ConvertFrom-Json -InputObject "$($args[0])"
$house = "$env:FIXED_ANCHOR_STATE"
if (-not $house) { $house = [System.IO.Path]::Combine([Environment]::GetFolderPath('CommonApplicationData'), 'FixedAnchor') }
$house = $house.Replace('\', '/')
# Nothing but that folder is read or written.
function Inside([string] $path) {
    $whole = [System.IO.Path]::GetFullPath($path).Replace('\', '/')
    if ($whole -ne $house -and -not $whole.StartsWith("$house/", [StringComparison]::OrdinalIgnoreCase)) { throw "$path is not in $house" }
    return $whole
}
# SYSTEM and administrators alone, by their numbers: the names are translated.
function Make-House {
    if ([System.IO.Directory]::Exists($house)) { return }
    [void] [System.IO.Directory]::CreateDirectory($house)
    $said = icacls.exe $house /inheritance:r /grant:r '*S-1-5-18:(OI)(CI)F' '*S-1-5-32-544:(OI)(CI)F'
    if ($LASTEXITCODE -ne 0) { throw "$house cannot be kept to administrators: $(@($said)[-1])" }
}
# Beside, synced and renamed.
function Write-Durably([string] $path, [string] $data) {
    $bytes = [Convert]::FromBase64String($data)
    $file = [System.IO.File]::Open("$path.new", 'Create', 'Write', 'None')
    try {
        $file.Write($bytes, 0, $bytes.Length)
        $file.Flush($true)
    } finally { $file.Dispose() }
    if ([System.IO.File]::Exists($path)) { [System.IO.File]::Replace("$path.new", $path, [NullString]::Value) } else { [System.IO.File]::Move("$path.new", $path) }
}
$answer = $null
switch ("$($asked.do)") {
    'home' { $answer = $house }
    'read' {
        $path = Inside "$($asked.path)"
        if ([System.IO.File]::Exists($path)) {
            $file = [System.IO.File]::Open($path, 'Open', 'Read', 'ReadWrite, Delete')
            try {
                $memory = New-Object -TypeName System.IO.MemoryStream
                $file.CopyTo($memory)
                $answer = [Convert]::ToBase64String($memory.ToArray())
            } finally { $file.Dispose() }
        }
    }
    'is-file' { $answer = [System.IO.File]::Exists((Inside "$($asked.path)")) }
    'folders' {
        $path = "$($asked.path)"
        $answer = @()
        if ([System.IO.Directory]::Exists($path)) { $answer = @([System.IO.Directory]::GetDirectories($path) | ForEach-Object { [System.IO.Path]::GetFileName($_) }) }
    }
    'make-folder' {
        Make-House
        $path = Inside "$($asked.path)"
        $answer = $false
        if (-not [System.IO.Directory]::Exists($path)) {
            # Made under another name: a folder that gets its own exists for one of two who want it.
            $mine = "$path.$PID.$([System.Diagnostics.Stopwatch]::GetTimestamp())"
            [void] [System.IO.Directory]::CreateDirectory($mine)
            try {
                [System.IO.Directory]::Move($mine, $path)
                $answer = $true
            } catch [System.IO.IOException] {
                [System.IO.Directory]::Delete($mine)
                if (-not [System.IO.Directory]::Exists($path)) { throw }
            }
        }
    }
    'rename-folder' {
        [System.IO.Directory]::Move((Inside "$($asked.old)"), (Inside "$($asked.new)"))
        $answer = $true
    }
    'put' {
        foreach ($file in $asked.files) {
            $path = Inside "$($file.path)"
            [void] [System.IO.Directory]::CreateDirectory([System.IO.Path]::GetDirectoryName($path))
            Write-Durably $path "$($file.data)"
        }
        $answer = $true
    }
    default { throw "$($asked.do) is nothing that can be asked here" }
}
ConvertTo-Json -Compress -InputObject @{ answer = $answer }
