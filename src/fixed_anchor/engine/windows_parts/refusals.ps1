
# --- what is refused before anything is changed ----------------------------------------------------
function Check-Rights {
    if (-not (Is-Elevated)) { Refuse 4 'changing this machine needs an elevated session (Run as administrator); nothing was changed' }
}
# The guard is a file that must run as SYSTEM; a policy for the whole machine counts more than its command line.
function Check-Policy {
    foreach ($one in @(Get-ExecutionPolicy -List)) {
        if (@('MachinePolicy', 'UserPolicy') -contains "$($one.Scope)" -and @('AllSigned', 'Restricted') -contains "$($one.ExecutionPolicy)") {
            Refuse 1 "the guard could not run here: $($one.Scope) says $($one.ExecutionPolicy) for scripts (Get-ExecutionPolicy -List); nothing was changed"
        }
    }
}
# The house, its changes, this one and everything in it: nothing is loaded or written before that was looked at.
function Check-House {
    $house = [System.IO.Path]::GetDirectoryName($root)
    $why = Any-Foreign @($house, $root, $dir, "$root/open")
    # What somebody else is just making gets its owner a moment later.
    for ($try = 0; -not $why -and $try -lt 10; $try++) {
        $inside = Any-Foreign @([System.IO.Directory]::GetFileSystemEntries($dir, '*', 'AllDirectories'))
        if (-not $inside) { return }
        Pause
    }
    Fail 4 $(if ($why) { $why } else { $inside })
}
function Check-Room {
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
    $leased, $up = @(), @()
    $categories, $leases = @{}, @{}
    foreach ($guid in Guids) {
        $lease = Lease (Index $guid)
        if ($lease) { $leased += $guid; $leases[$guid] = $lease }
        if (Is-Up $guid) { $up += $guid }
        $categories[$guid] = Category $guid
    }
    $answers = Gateway-Answers
    $saved = @{
        leased = @($leased); leases = $leases; up = @($up); categories = $categories; lines = @(Kept-Lines); in_force = @(In-Force)
        gateway_answered = $answers
    }
    Write-New "$dir/reserve" ('-' * 65536)
    Put 'saved.json' (ConvertTo-Json -Depth 4 -InputObject $saved)
    [void] [System.IO.Directory]::CreateDirectory("$dir/saved")
    Keep-To-Administrators "$dir/saved"
    foreach ($guid in Guids) {
        foreach ($at in 'Tcpip', 'Tcpip6') {
            $key = "HKLM\SYSTEM\CurrentControlSet\Services\$at\Parameters\Interfaces\$guid"
            if (-not (Test-Path -LiteralPath $key.Replace('HKLM\', 'HKLM:\'))) { continue }
            $said = & (Of-System 'reg.exe') export $key ([System.IO.Path]::Combine($dir, 'saved', "$at-$guid.reg")) /y
            if ($LASTEXITCODE -eq 0) { Keep-To-Administrators "$dir/saved/$at-$guid.reg" }
            else { Refuse 1 "the registry key of $(Named $guid) could not be saved ($(@($said)[-1])); nothing was changed" }
        }
    }
}
