
# --- the verbs: what others may ask for ------------------------------------------------------------------
function Start-Change {
    [void] (Change)
    if (State) { Refuse 7 "change $name was begun before: it is $(State)" }
    Check-Rights
    Note-Starting
    Take-Lock
    $begun = $false
    try {
        foreach ($line in @((Kept 'about') -split "`n" | Where-Object { $_ })) { Log $line }
        Check-Policy
        Check-Room
        Check-Settings
        Save
        Note-Boot
        if ($null -ne (Value (Change) 'held_seconds')) { Put 'held-until' (Plain ((Ticks) + [int] (Value (Change) 'held_seconds'))) }
        # The guard opens it; made here it belongs to administrators, as all else.
        Write-New "$dir/guard.lock" ''
        Arm
        Put 'armed' 'yes'
        Launch
        Await-Guard
        $begun = $true
    } finally {
        if (-not $begun -and -not (State) -and -not (Guard-Alive)) { Disarm }
    }
}
# The guard moves the state itself. A task may take its time until it starts; what counts is a guard that lives.
function Await-Guard {
    $until = (Ticks) + 60
    $longest = (Ticks) + 180
    while (-not (State)) {
        if (Guard-Alive) { $until = (Ticks) + 60 }
        if ((Ticks) -ge $until -or (Ticks) -ge $longest) {
            [void] (Claim 'roll-back' 'start' 'its guard did not come up in time')
            $until = (Ticks) + 60
            while ((Guard-Alive) -and -not (Is-Final (State)) -and (Ticks) -lt $until) { Pause }
            Refuse 1 "the guard did not come up: see the task `"$task_path$task`" (Get-ScheduledTaskInfo); nothing was changed"
        }
        Pause
    }
}
# While something is waited for: a guard that its task does not bring back is begun again.
function Attend {
    if (Guard-Alive) { $now.missed = 0 } else { $now.missed++ }
    if ($now.missed -lt 15) { return }
    Log 'no guard was running: another is begun'
    $now.missed = 0
    # Where the beginning was cut short its task is not there either.
    try { Launch } catch { try { Arm; Launch } catch { Log "that failed: $($_.Exception.Message)" } }
}
# Waits while the guard works, and tells how it ended.
function Await-End([string] $wanted) {
    while ($true) {
        $here = State
        # The guard has a little to clear away after its last word.
        if (Is-Final $here) {
            while ((Open-Change) -eq $name) { if (-not (Guard-Alive)) { Disarm }; Pause }
            for ($try = 0; $try -lt 25 -and (Guard-Alive); $try++) { Pause }
        }
        switch ($here) {
            'confirmed' {
                if ($wanted -ne 'confirmed') { Fail 7 "change $name was confirmed" }
                if (Is-There 'incomplete') { Fail 5 "change $name is confirmed, but not everything of its final state could be set; $dir/log says what" }
                Tell 'confirmed'
                return
            }
            'rolled-back' {
                if ($wanted -eq 'rolled-back') { Tell 'rolled back'; return }
                Fail 7 "change $name was rolled back, because $(Kept 'why')"
            }
            'stuck' { Fail 5 "change $name could not be rolled back; see $dir/log" }
        }
        Attend
        Pause
    }
}
# The address by which the session of whoever asks comes in.
function Session-Address {
    $parts = @("$env:SSH_CONNECTION" -split ' ')
    if ($parts.Count -eq 4 -and $parts[0] -ne $parts[2]) { return $parts[2].Replace('::ffff:', '') }
    return ''
}
# A guard that is gone does not see that the deadline has passed.
function In-Time {
    if ((Decided) -or (Ticks) -lt (Number (Kept 'deadline'))) { return }
    [void] (Claim 'roll-back' 'the deadline' 'nobody confirmed it in time')
    if (-not (Guard-Alive)) { Launch }
    Fail 7 "the deadline of change $name has passed: it is being rolled back"
}
function Who { if ($word) { return $word } return 'a person' }
function Confirm {
    $here = State
    switch ($here) {
        'waiting' { }
        'stuck' { Fail 7 "change $name is stuck: it cannot be confirmed, but be rolled back once more, or be closed" }
        { @('', 'prepared', 'leaving', 'writing', 'activating') -contains $_ } { Fail 7 "change $name cannot be confirmed yet: it is $(if ($here) { $here } else { 'not begun' })" }
        default { Fail 7 "change $name cannot be confirmed: it is $here already" }
    }
    In-Time
    $session = Session-Address
    if ($session -and $second -ne 'over-old' -and -not (Is-There 'hold-over') -and @(Listed 'held' | Where-Object { "$_".Contains(" $session/") }).Count) {
        Log "refused: confirming from a session on $session, which goes"
        Fail 1 "your session uses $session, the address that goes: it does not prove that the new one works; confirm from a session over the new address, or override this"
    }
    $over = if ($session) { ", in a session on $session" } else { '' }
    if (-not (Claim 'keep' "$(Who)$over" "$(Who) confirmed it$over") -and (Decided) -ne 'keep') { Fail 7 "change $name is being rolled back already" }
    Await-End 'confirmed'
}
function Request-Roll-Back {
    switch (State) {
        'confirmed' { Fail 7 "change $name is confirmed; restore it as a change of its own" }
        'rolled-back' { Fail 7 "change $name was rolled back already, because $(Kept 'why')" }
        'closed' { Fail 7 "change $name was closed: what was there then was accepted" }
        'stuck' { Remove "$dir/hung"; Set-To 'rolling-back'; Launch }
        default { if (-not (Claim 'roll-back' (Who) "$(Who) asked for it") -and (Decided) -ne 'roll-back') { Fail 7 "change $name is being confirmed already" } }
    }
    Await-End 'rolled-back'
}
function More-Time {
    if ($word -notmatch '^\d{1,5}$') { Fail 2 'how many seconds more?' }
    if ((State) -ne 'waiting' -or (Decided)) { Fail 7 "change $name is decided, or does not wait: it is $(State)" }
    In-Time
    Put 'more-time' $word
    while ((Is-There 'more-time') -and -not (Decided)) { Attend; Pause }
    if (Is-There 'more-time') { Remove "$dir/more-time"; Fail 7 "change $name has been decided meanwhile" }
}
# Accepts what is there now, of a change that could not be rolled back.
function Close-Change {
    if ((State) -ne 'stuck') { Fail 7 "only a change that is stuck can be closed: $name is $(State)" }
    if (-not $second) { Fail 2 "why is it closed? engine.ps1 close `"$dir`" WHO WHY" }
    Log "closed by $(Who), because $second"
    Put 'closed-by' "$(Who), because $second"
    Set-To 'closed'
    Disarm
    Tell 'closed'
}
function Verdict {
    if ((State) -ne 'waiting') { Fail 7 "change $name is $(State)" }
    Put 'verdict' $word
    foreach ($line in @((Kept 'checks') -split "`n" | Where-Object { $_ })) { Log "check: $line" }
    Log "verification: $word"
    if ($word -eq 'as-planned') {
        if ([bool] (Value (Change) 'unattended')) { [void] (Claim 'keep' 'its verification, unattended' 'all its required checks passed') }
        return
    }
    $more = if ($second) { ": $second" } else { '' }
    [void] (Claim 'roll-back' 'its verification' "its verification was $word$more")
}
function Status {
    $here = State
    Tell "change $name"
    Tell "state $here"
    Tell "interface $((Kept 'interface') -split "`n" -join ' ')"
    if (Is-There 'deadline') { Tell "left $([Math]::Floor((Number (Kept 'deadline')) - (Ticks)))" }
    Tell "guard $(if (Guard-Alive) { 'alive' } else { 'gone' })"
    if (Decided) { Tell "decision $(Decided)" }
    foreach ($file in 'why', 'closed-by', 'verdict') { if (Is-There $file) { Tell "$file $(Kept $file)" } }
    $saved = Saved
    if ($null -ne $saved) { Tell "gateway-answered $(if ([bool] $saved.gateway_answered) { 'yes' } else { 'no' })" }
    $held = @(Listed 'held')
    if ($held.Count -and -not (Is-There 'hold-over')) { Tell "held $(@($held | ForEach-Object { Readable "$_" }) -join ';')" }
    if ((Is-There 'incomplete') -and $here -eq 'confirmed') { Tell 'incomplete yes' }
    if (Is-There 'rolled-back-at-boot') { Tell 'rolled-back-at-boot yes' }
}
# What a person at the console, or a runbook, wants to know: whether all is as wanted, and the gateway answers.
function Look {
    $missing = @(Differing @(Kept-Lines) @(Awaited)) + @(Not-In-Force @(Awaited) @())
    foreach ($line in $missing) { Tell "fail: $(Readable $line)" }
    if ($missing.Count -eq 0) { Tell 'pass: what is set is as drafted, and in force' }
    $public = @(Mend-Categories)
    foreach ($line in $public) { Tell "fail: $line" }
    if ($public.Count -eq 0) { Tell 'pass: the network profile of each adapter is what it was before the change, or lets in more' }
    if (Gateway-Answers) { Tell 'pass: the gateway answers' }
    elseif ([bool] (Value (Saved) 'gateway_answered')) { Tell 'fail: the gateway answers (before the change it did)' }
    else { Tell 'as before: the gateway does not answer' }
}
function Answer {
    try {
        if (-not $name -or -not [System.IO.Directory]::Exists($dir)) { Fail 2 "engine: there is no change folder $dir" }
        if ($dir.Contains('"') -or $dir -notmatch '^([A-Za-z]:|/)') { Fail 2 "$dir is no plain absolute path" }
        Check-House
        switch ($verb) {
            'start' { Start-Change }
            'guard' { Watch-Over-Life; Guard }
            'verdict' { Verdict }
            'confirm' { Confirm }
            'roll-back' { Request-Roll-Back }
            'more-time' { More-Time }
            'close' { Close-Change }
            'status' { Status }
            'look' { Look }
            default { Fail 2 "engine: no such verb: $verb" }
        }
    } catch {
        $status = $_.Exception.Data['status']
        $done.status = if ($null -eq $status) { 4 } else { [int] $status }
        $done.err = ("$($_.Exception.Message)" -split '[\r\n]+')[0]
    }
}
