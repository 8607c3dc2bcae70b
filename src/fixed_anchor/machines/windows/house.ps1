
# --- the house: the folder in which all changes lie -----------------------------------------------
# SYSTEM runs what lies here, so nobody but SYSTEM and administrators may have made any of it, or be able to write it. It
# is below the folder for programs, where nobody else can make one. Its place and that of the console's programs are asked
# of the system: the environment is a user's.
function House {
    # Off Windows there is no such folder.
    if ([System.IO.Path]::DirectorySeparatorChar -ne '\') { return "$env:FIXED_ANCHOR_STATE" }
    return [System.IO.Path]::Combine([System.Environment]::GetFolderPath('ProgramFiles'), 'FixedAnchor')
}
function Of-System([string] $program) { return [System.IO.Path]::Combine([System.Environment]::SystemDirectory, $program) }
function Is-Elevated {
    # The mandatory level high, or system: a number, whatever the language is.
    return @(@(& (Of-System 'whoami.exe') /groups) -match 'S-1-16-(12288|16384)').Count -gt 0
}
# Owner and entries of a path as text, which is the same in every language.
function Rights([string] $path) { return "$((Get-Acl -LiteralPath $path -ErrorAction Stop).Sddl)" }
function Entries([string] $rights) {
    if ($rights -cnotmatch 'D:[A-Z_]*((?:\([^()]*\))+)') { return }
    foreach ($entry in [regex]::Matches($Matches[1], '\(([^()]*)\)')) { $entry.Groups[1].Value }
}
function Is-Owned([string] $rights) { return $rights -cmatch '^O:(SY|BA|S-1-5-18|S-1-5-32-544)(G:|D:)' }
function Is-Of-Two([string] $entry) { return @('SY', 'BA', 'S-1-5-18', 'S-1-5-32-544') -ccontains ($entry -split ';')[5] }
function Is-Link([string] $path) { return ([System.IO.File]::GetAttributes($path) -band [System.IO.FileAttributes]::ReparsePoint) -ne 0 }
# Why nothing that lies there may be run by SYSTEM; nothing where it is no link, and SYSTEM's and administrators' alone.
function Foreign([string] $path) {
    try {
        if (Is-Link $path) { return "$path is a link to another place" }
        $rights = Rights $path
    } catch {
        # It was somebody's file for a moment alone.
        if (-not [System.IO.File]::Exists($path) -and -not [System.IO.Directory]::Exists($path)) { return '' }
        return "the rights of $path cannot be read ($(("$($_.Exception.Message)" -split '[\r\n]+')[0]))"
    }
    if (-not (Is-Owned $rights)) { return "$path belongs to $((Get-Acl -LiteralPath $path -ErrorAction Stop).Owner), neither SYSTEM nor Administrators" }
    $entries = @(Entries $rights)
    if ($entries.Count -eq 0) { return "$path has no list of rights that can be read" }
    foreach ($entry in $entries) { if (-not (Is-Of-Two $entry)) { return "$path has an entry for $(($entry -split ';')[5]) in its list of rights" } }
    return ''
}
# The first of these paths that is there and foreign, in a sentence with what to do.
function Any-Foreign($paths) {
    foreach ($path in $paths) {
        if (-not [System.IO.File]::Exists($path) -and -not [System.IO.Directory]::Exists($path)) { continue }
        $why = Foreign $path
        if ($why) { return "${why}: SYSTEM would run what lies there; nothing was changed. Find out who made it, then remove or rename it" }
    }
    return ''
}
# The folders from the house down to a path, and the path.
function Way-To([string] $house, [string] $path) {
    $way = @()
    for ($at = $path; $at -and $at.Length -ge $house.Length; $at = [System.IO.Path]::GetDirectoryName($at)) { $way += $at }
    [array]::Reverse($way)
    return $way
}
# Makes the house. One that is empty, an administrator's, and has no entry of its own for anybody else, was made by a try
# that ended before its rights were set: they are set now. What is then said of it counts, not what was asked for.
function Make-House([string] $house) {
    $is_new = -not [System.IO.Directory]::Exists($house)
    if ($is_new) { [void] [System.IO.Directory]::CreateDirectory($house) }
    if (-not (Is-Link $house)) {
        $rights = Rights $house
        $others = @(Entries $rights | Where-Object { -not (Is-Of-Two $_) })
        $own = @($others | Where-Object { ($_ -split ';')[1] -cnotmatch 'ID' })
        if ($is_new) { Keep-To-Administrators $house }
        if ($is_new -or ($others.Count -and -not $own.Count -and (Is-Owned $rights) -and [System.IO.Directory]::GetFileSystemEntries($house).Count -eq 0)) {
            $said = & (Of-System 'icacls.exe') $house /inheritance:r /grant:r '*S-1-5-18:(OI)(CI)F' '*S-1-5-32-544:(OI)(CI)F'
            if ($LASTEXITCODE -ne 0) { return "$house cannot be kept to administrators ($(@($said)[-1])); nothing was changed" }
        }
    }
    return Any-Foreign @($house)
}
# What was made just now belongs to administrators, also where a policy has each of them own what he makes.
function Keep-To-Administrators([string] $path) {
    if (Is-Owned (Rights $path)) { return }
    $said = & (Of-System 'icacls.exe') $path /setowner '*S-1-5-32-544'
    if ($LASTEXITCODE -ne 0) { throw "$path cannot be given to Administrators ($(@($said)[-1]))" }
}

# --- files that appear whole -------------------------------------------------------------------------
# Gives a file or folder its name, also in the place of a file where $over. Scanners hold what is fresh for some seconds.
function Rename-To([string] $old, [string] $new, [bool] $over) {
    $begun = [System.Diagnostics.Stopwatch]::GetTimestamp()
    while ($true) {
        try {
            # (about to rename)
            if ([System.IO.Directory]::Exists($old)) { [System.IO.Directory]::Move($old, $new) }
            elseif ($over -and [System.IO.File]::Exists($new)) { [System.IO.File]::Replace($old, $new, [NullString]::Value) }
            else { [System.IO.File]::Move($old, $new) }
            # (on disk)
            return
        } catch {
            $is_held = $_.Exception.GetBaseException() -is [System.IO.IOException] -or $_.Exception.GetBaseException() -is [System.UnauthorizedAccessException]
            if (-not $is_held -or (-not $over -and ([System.IO.File]::Exists($new) -or [System.IO.Directory]::Exists($new)))) { throw }
            if (([System.Diagnostics.Stopwatch]::GetTimestamp() - $begun) / [System.Diagnostics.Stopwatch]::Frequency -ge 10) { throw }
            Start-Sleep -Milliseconds 50
        }
    }
}
