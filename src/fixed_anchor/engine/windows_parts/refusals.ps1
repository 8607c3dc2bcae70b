
# --- what is refused before anything is changed ----------------------------------------------------
function Check-Rights {
    # The mandatory level high, or system: a number, whatever the language is.
    if (@(@(whoami.exe /groups) -match 'S-1-16-(12288|16384)').Count -eq 0) { Refuse 4 'changing this machine needs an elevated session (Run as administrator); nothing was changed' }
}
# The guard is a file that must run as SYSTEM; a policy for the whole machine counts more than its command line.
function Check-Policy {
    foreach ($one in @(Get-ExecutionPolicy -List)) {
        if (@('MachinePolicy', 'UserPolicy') -contains "$($one.Scope)" -and @('AllSigned', 'Restricted') -contains "$($one.ExecutionPolicy)") {
            Refuse 1 "the guard could not run here: $($one.Scope) says $($one.ExecutionPolicy) for scripts (Get-ExecutionPolicy -List); nothing was changed"
        }
    }
}
# SYSTEM and administrators alone, by their numbers: the names are translated.
function Check-Home {
    if ($dir.Contains('"') -or $dir -notmatch '^([A-Za-z]:|/)') { Refuse 2 "$dir is no plain absolute path" }
    $said = icacls.exe $root /inheritance:r /grant:r '*S-1-5-18:(OI)(CI)F' '*S-1-5-32-544:(OI)(CI)F'
    if ($LASTEXITCODE -ne 0) { Refuse 4 "$root cannot be kept to administrators (icacls: $(@($said)[-1])); nothing was changed" }
    $drive = New-Object -TypeName System.IO.DriveInfo -ArgumentList ([System.IO.Path]::GetPathRoot($dir))
    if ($drive.AvailableFreeSpace -lt 8MB) { Refuse 1 "only $([int] ($drive.AvailableFreeSpace / 1KB)) KiB are left on the disk of $dir; nothing was changed" }
}
# The machine must be the one of the draft, and set as it was then.
function Check-Settings {
    foreach ($one in Listed 'adapters') {
        $found = Adapter "$($one.guid)"
        if ($null -eq $found) { Refuse 1 "$($one.name) ($($one.guid)) is not on this machine; nothing was changed" }
        $mac = "$($found.MacAddress)".Replace('-', ':').ToLowerInvariant()
        if ((Text $one 'mac') -and $mac -ne $one.mac) { Refuse 1 "$($one.name) has the MAC $mac, the draft was made for $($one.mac); nothing was changed" }
        if ("$($found.Name)" -cne "$($one.name)") { Refuse 1 "$($one.name) is called $($found.Name) by now; nothing was changed: draft again" }
    }
    $differing = @(Differing @(Kept-Lines) @(Listed 'was'))
    if ($differing.Count) {
        foreach ($line in $differing) { Log "since the draft: $(Readable $line)" }
        Refuse 1 "the settings are not what the draft was made from: $(Readable $differing[0]); nothing was changed: draft again"
    }
}
# A line with the adapter's name instead of its GUID.
function Readable([string] $line) {
    foreach ($one in Listed 'adapters') { $line = $line.Replace("$($one.guid)", "$($one.name)") }
    return $line
}

# --- what is saved ------------------------------------------------------------------------------------
function Saved {
    if (-not (Is-There 'saved.json')) { return $null }
    # The way back does not depend on it.
    try { return ConvertFrom-Json -InputObject (Kept 'saved.json') } catch { Log "$dir/saved.json cannot be read"; return $null }
}
# As data, for the way back and for whoever looks; and the adapters' registry keys, for a person with nothing else.
function Save {
    $leased = @()
    $categories = @{}
    foreach ($guid in Guids) {
        if (Has-Lease (Index $guid)) { $leased += $guid }
        $categories[$guid] = Category $guid
    }
    $answers = Gateway-Answers
    $saved = @{ leased = @($leased); categories = $categories; lines = @(Kept-Lines); gateway_answered = $answers }
    Write-New "$dir/reserve" ('-' * 65536)
    Put 'saved.json' (ConvertTo-Json -Depth 4 -InputObject $saved)
    [void] [System.IO.Directory]::CreateDirectory("$dir/saved")
    foreach ($guid in Guids) {
        foreach ($at in 'Tcpip', 'Tcpip6') {
            $key = "HKLM\SYSTEM\CurrentControlSet\Services\$at\Parameters\Interfaces\$guid"
            if (-not (Test-Path -LiteralPath $key.Replace('HKLM\', 'HKLM:\'))) { continue }
            $said = reg.exe export $key ([System.IO.Path]::Combine($dir, 'saved', "$at-$guid.reg")) /y
            if ($LASTEXITCODE -ne 0) { Refuse 1 "the registry key of $(Named $guid) could not be saved ($(@($said)[-1])); nothing was changed" }
        }
    }
}
