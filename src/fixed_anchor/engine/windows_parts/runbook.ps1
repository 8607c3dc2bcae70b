
# --- the runbook: one change of one machine, in one file ----------------------------------------------------
#   powershell -NoProfile -ExecutionPolicy Bypass -File RUNBOOK [WORD]
#     (nothing)   does the change, here, elevated: looks, asks, and rolls it back unless somebody says that it is to be kept
#     show        shows what it would do; changes nothing
#     status      what is going on
#     confirm     keeps the change, from another session
#     restore     rolls an open change back at once; one that was kept is undone by a change of its own
# It needs no network and nothing that is not part of Windows.
$house = House
$changes = [System.IO.Path]::Combine($house, 'changes')
$book = [System.IO.Path]::GetFileName($PSCommandPath)
# A window that a double click has opened closes with the program, and all that it says is gone.
function Hold-Window {
    try {
        $here = Get-CimInstance -ClassName Win32_Process -Filter "ProcessId = $PID" -ErrorAction Stop
        $above = Get-CimInstance -ClassName Win32_Process -Filter "ProcessId = $([int] $here.ParentProcessId)" -ErrorAction Stop
        if ((Text $above 'Name') -ne 'explorer.exe') { return }
    } catch { return }
    [void] (Ask-Line 'Press Enter to close this window')
}
# Whoever is asked must be able to answer, and to do what is asked for: said before anything else.
function Check-Console {
    $host_name = "$((Get-Host).Name)"
    if ($host_name -eq 'ServerRemoteHost') { Fail 1 'a remoting session cannot be asked anything: run this at the console, or in a session over SSH; nothing was changed' }
    if ($host_name -like '*ISE*') { Fail 1 "$host_name cannot be asked anything: run this in a console window of PowerShell; nothing was changed" }
    # Its folder for programs would be another one.
    if ([Environment]::Is64BitOperatingSystem -and -not [Environment]::Is64BitProcess) { Fail 1 'this is the 32-bit PowerShell: run it in the other one; nothing was changed' }
    if (-not (Is-Elevated)) { Fail 4 'run this elevated (Run as administrator); nothing was changed' }
}
function Say([string] $text) { [Console]::Out.WriteLine($text) }
# The text of this file, with the ends of lines that it was made with; whoever carried it may have made others of them.
function Own-Text { return [System.IO.File]::ReadAllText($PSCommandPath).Replace("`r`n", "`n") }
# Everything but the last line is bound by it: this program, too.
function Check-Whole {
    $text = (Own-Text).TrimEnd("`n")
    $at = $text.LastIndexOf("`n#END ")
    if ($at -lt 0) { Fail 2 "$book is cut short: carry it again" }
    $sum = [System.Security.Cryptography.SHA256]::Create().ComputeHash($utf8.GetBytes($text.Substring(0, $at + 1)))
    if (((@($sum) | ForEach-Object { '{0:x2}' -f $_ }) -join '') -ne $text.Substring($at + 6)) { Fail 2 "$book was altered on the way: carry it again" }
}
# The engine as it lies in the folder of a change: what stands above the runbook here, and how such a file ends.
function Engine-Text {
    $text = Own-Text
    $at = $text.IndexOf('# The engine of Fixed Anchor')
    return $text.Substring($at, $text.IndexOf("`n# --- the runbook: ") - $at) + $carried.ending
}
function Use-Change([string] $folder) {
    $script:dir = $folder
    $script:name = [System.IO.Path]::GetFileName($folder)
    $script:root = [System.IO.Path]::GetDirectoryName($folder)
    $script:task = "FixedAnchor change $name"
    $now.data = $null
}
# Lays the data of a change down in a new folder, and goes on with that.
function Lay-Down($data, [string[]] $told) {
    $why = Make-House $house
    if (-not $why) { $why = Any-Foreign @($changes) }
    if ($why) { Fail 4 $why }
    [void] [System.IO.Directory]::CreateDirectory($changes)
    Keep-To-Administrators $changes
    $taken = @([System.IO.Directory]::GetDirectories($changes) | ForEach-Object { [System.IO.Path]::GetFileName($_) } | Where-Object { $_ -match '^\d+$' } | ForEach-Object { [int] $_ })
    $number = 1 + [int] (@($taken | Sort-Object)[-1])
    $mine = [System.IO.Path]::Combine($changes, "runbook.$PID")
    [void] [System.IO.Directory]::CreateDirectory($mine)
    Keep-To-Administrators $mine
    Use-Change $mine
    # One line end more would not be what the digest was made of.
    Write-New "$mine/change.json" $data
    Put 'digest' (Digest "$mine/change.json")
    Write-New "$mine/engine.ps1" (Engine-Text)
    Put 'interface' $carried.interface
    Put 'about' ($told -join "`n")
    Put 'about.json' $carried.about
    Write-New "$mine/facts.json" $carried.facts
    while ($true) {
        $folder = [System.IO.Path]::Combine($changes, ('{0:d4}' -f $number))
        try { Rename-To $mine $folder $false; break } catch { if (-not [System.IO.Directory]::Exists($folder)) { throw } $number++ }
    }
    Use-Change $folder
    Check-House
}
# The open change; else the last one of all.
function Find-Change([bool] $last) {
    $script:root = $changes
    $why = Any-Foreign @($house, $changes)
    if ($why) { Fail 4 $why }
    $open = Open-Change
    if ($open) { Use-Change ([System.IO.Path]::Combine($changes, $open)); Check-House; return }
    $all = @()
    if ([System.IO.Directory]::Exists($changes)) { $all = @([System.IO.Directory]::GetDirectories($changes) | Where-Object { [System.IO.Path]::GetFileName($_) -match '^\d+$' } | Sort-Object) }
    if (-not $last -or $all.Count -eq 0) { Fail 7 'no change is open on this machine' }
    Use-Change $all[-1]
    Check-House
}
function Show-Draft { foreach ($line in $carried.shown) { Say $line } }
# One line of whoever is there; nothing where nobody is.
function Ask-Line([string] $question) {
    Say $question
    try { return [Console]::In.ReadLine() } catch { return $null }
}
# How a change ended, in a sentence and by the status that this ends with; nothing while it has not.
function Ended {
    switch (State) {
        'confirmed' {
            if (Is-There 'incomplete') { Fail 5 "change $name is kept, but not everything of its final state could be set; see $dir/log" }
            Say "change $name is kept"
            return $true
        }
        'closed' { Say "change $name was closed: what was there then was accepted"; return $true }
        'rolled-back' { Fail 3 "change $name was rolled back, because $(Kept 'why'): the machine is as it was before; see $dir/log" }
        'stuck' { Fail 5 "change $name could not be rolled back; $dir/log says what is left to do" }
    }
    return $false
}
function Await-Waiting {
    Say 'waiting until it is in force'
    while ((State) -ne 'waiting') { if (Ended) { return $false } Pause }
    return $true
}
# Looks until all is well, or for 20 s; its own checks decide as those of a seat do.
function Judge {
    $until = (Ticks) + 20
    while ($true) {
        $done.out.Clear()
        Look
        $bad = @($done.out | Where-Object { "$_".StartsWith('fail') })
        if ($bad.Count -eq 0 -or (Ticks) -ge $until) { break }
        Start-Sleep -Seconds 1
    }
    foreach ($line in $done.out) { Say "$line" }
    Put 'checks' (@($done.out) -join "`n")
    $done.out.Clear()
    $script:word = if ($bad.Count) { 'not-as-planned' } else { 'as-planned' }
    $script:second = if ($bad.Count) { "$($bad[0])".Substring(6) } else { '' }
    if ($bad.Count) { Say 'not as planned: it is rolled back' }
    if ((State) -eq 'waiting') { Verdict }
    $script:word, $script:second = '', ''
}
function Carry-Out($data, [string] $question) {
    $answer = Ask-Line $question
    if ("$answer".Trim() -ne 'begin') { Fail 1 'nothing was changed' }
    Lay-Down $data @($carried.told + @("run here by $env:USERNAME at the console; its digest is as it was made"))
    Start-Change
    if (-not (Await-Waiting)) { return }
    Judge
    while ((State) -eq 'waiting' -and -not (Decided)) {
        $answer = Ask-Line "Automatic rollback in $([Math]::Floor((Number (Kept 'deadline')) - (Ticks))) s. Look for yourself; then type  keep  or  back"
        if ($null -eq $answer) { Say "nobody is here to answer; keep it with: powershell -NoProfile -ExecutionPolicy Bypass -File $book confirm"; break }
        switch ("$answer".Trim()) {
            'keep' { Decide-Here 'keep' }
            'back' { Decide-Here 'roll-back' }
        }
    }
    while (-not (Ended)) { Pause }
}
# A decision that comes too late is told by how the change ends.
function Decide-Here([string] $what) {
    $script:word = 'a person at the console'
    $words = if ($what -eq 'keep') { 'confirmed it' } else { 'asked for it' }
    [void] (Claim $what $word "$word $words")
}
# One that was kept is undone by a change of its own: what it wanted is what must be there, and the other way round.
function Restore {
    Find-Change $true
    if ((State) -ne 'confirmed') { $script:word = 'a person, with the runbook'; Request-Roll-Back; return }
    Show-Draft
    $script:word = ''
    Carry-Out $carried.way_back "Change $name was kept. Type  begin  to go back to what was before it; anything else ends here"
}
function Run-Book {
    try {
        Check-Whole
        switch ("$verb") {
            '' { Check-Console; Show-Draft; Carry-Out $carried.change 'Type  begin  to do this; anything else ends here' }
            'show' { Show-Draft }
            'status' { Find-Change $true; Status }
            'confirm' { Find-Change $false; $script:word = 'a person, with the runbook'; Confirm }
            'restore' { Check-Console; Restore }
            default { Fail 2 "$verb is none of: show, status, confirm, restore, or nothing for the change itself" }
        }
    } catch {
        $status = $_.Exception.Data['status']
        $done.status = if ($null -eq $status) { 4 } else { [int] $status }
        $done.err = ("$($_.Exception.Message)" -split '[\r\n]+')[0]
    }
    foreach ($line in $done.out) { Say "$line" }
    if ($done.err) { [Console]::Error.WriteLine($done.err) }
    Hold-Window
}
