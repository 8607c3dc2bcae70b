# What a seat reads and writes in the tool's own folder on a Windows machine; its argument is one JSON object that says what.
$asked = ConvertFrom-Json -InputObject "$($args[0])"
$house = House
# Nothing but that folder is read or written, and only while nobody but SYSTEM and administrators could have made or
# written what is on the way: what is read here may be run.
function Inside([string] $path) {
    $whole = [System.IO.Path]::GetFullPath($path)
    $below = "$house$([System.IO.Path]::DirectorySeparatorChar)"
    if ($whole -ne $house -and -not $whole.StartsWith($below, [StringComparison]::OrdinalIgnoreCase)) { throw "$path is not in $house" }
    $why = Any-Foreign @(Way-To $house $whole)
    if ($why) { throw $why }
    return $whole
}
function Make-Folder([string] $path) {
    if ([System.IO.Directory]::Exists($path)) { return }
    [void] [System.IO.Directory]::CreateDirectory($path)
    Keep-To-Administrators $path
}
# Beside, synced and renamed.
function Write-Durably([string] $path, [string] $data) {
    $bytes = [Convert]::FromBase64String($data)
    $file = [System.IO.File]::Open("$path.new", 'Create', 'Write', 'None')
    try {
        $file.Write($bytes, 0, $bytes.Length)
        $file.Flush($true)
    } finally { $file.Dispose() }
    Keep-To-Administrators "$path.new"
    Rename-To "$path.new" $path $true
}
$answer = $null
switch ("$($asked.do)") {
    'home' { $answer = $house.Replace('\', '/') }
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
        $path = [System.IO.Path]::GetFullPath("$($asked.path)")
        # Whether the house is there is asked of the folder above it.
        if ($path -ne [System.IO.Path]::GetDirectoryName($house)) { $path = Inside $path }
        $answer = @()
        if ([System.IO.Directory]::Exists($path)) { $answer = @([System.IO.Directory]::GetDirectories($path) | ForEach-Object { [System.IO.Path]::GetFileName($_) }) }
    }
    'make-folder' {
        $why = Make-House $house
        if ($why) { throw $why }
        $path = Inside "$($asked.path)"
        $answer = $false
        if (-not [System.IO.Directory]::Exists($path)) {
            # Made under another name: a folder that gets its own exists for one of two who want it.
            $mine = "$path.$PID.$([System.Diagnostics.Stopwatch]::GetTimestamp())"
            Make-Folder ([System.IO.Path]::GetDirectoryName($path))
            Make-Folder $mine
            try {
                Rename-To $mine $path $false
                $answer = $true
            } catch {
                [System.IO.Directory]::Delete($mine)
                if (-not [System.IO.Directory]::Exists($path)) { throw }
            }
        }
    }
    'rename-folder' {
        Rename-To (Inside "$($asked.old)") (Inside "$($asked.new)") $false
        $answer = $true
    }
    'put' {
        $why = Make-House $house
        if ($why) { throw $why }
        foreach ($file in $asked.files) {
            $path = Inside "$($file.path)"
            Make-Folder ([System.IO.Path]::GetDirectoryName($path))
            Write-Durably $path "$($file.data)"
        }
        $answer = $true
    }
    default { throw "$($asked.do) is nothing that can be asked here" }
}
ConvertTo-Json -Compress -InputObject @{ answer = $answer }
