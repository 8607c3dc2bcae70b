
# --- the guard: it alone moves the state --------------------------------------------------------------
# Without its last word on disk a change is not over.
function Finish([string] $state, [string] $why) {
    if (-not $why) { $why = Decided-Because }
    Because $why
    while ($true) { try { Set-To $state; break } catch { Pause } }
    $how = if ($state -eq 'confirmed') { 'kept' } else { 'rolled back' }
    Log "it was $how, because $(Kept 'why')"
    Disarm
}
function Commit {
    Try-Set-To 'committing'
    End-Hold
    # What comes into force with a restart alone waits until it is decided.
    if (-not (Perform-All 'commit' $true)) { Put 'incomplete' 'yes' }
    Register
    Finish 'confirmed' ''
}
# What was held beside the new state goes.
function End-Hold {
    if (@(Listed 'held').Count -eq 0 -or $now.held_over -or (Is-There 'hold-over')) { return }
    Log "no longer held: $(@(Listed 'held' | ForEach-Object { Readable "$_" }) -join '; ')"
    if (-not (Perform-All 'drop' $true)) { Put 'incomplete' 'yes' }
    $missing = @(Await-Settled 20 @(Listed 'wanted') @())
    if ($missing.Count) { Log 'in force now, but not as wanted:'; foreach ($line in $missing) { Log "  $(Readable $line)" } }
    $now.held_over = $true
    Put 'hold-over' 'yes'
    # Its network is identified once more.
    if ((Decided) -eq 'keep') { foreach ($line in Await-Category ([int] (Value (Change) 'identification'))) { Log "left to do by hand: $line"; Put 'incomplete' 'yes' } }
}
function Roll-Back([string] $why) {
    if ((Decided) -eq 'roll-back') { $why = Decided-Because }
    Because $why
    Log "rolling back: $(Kept 'why')"
    if ((State) -eq 'prepared') { Finish 'rolled-back' ''; return }
    Try-Set-To 'rolling-back'
    Take-Back 30
}
# The former settings, and whether they have come into force; else the change is stuck.
function Take-Back([int] $seconds) {
    $saved = Saved
    $was = @(Listed 'was')
    $leased = @(Texts $saved 'leased')
    [void] (Perform-All 'back' $true)
    $missing = @(Await-Settled $seconds $was $leased $true)
    if ($missing.Count) {
        $up = @(Texts $saved 'up')
        $lost = @(Guids | Where-Object { if (Is-Up $_) { $leased -contains $_ -and -not (Has-Lease (Index $_)) } else { $up -contains $_ } })
        Restart-Lost $lost "the former state is not reached: $(Readable $missing[0])"
        [void] (Perform-All 'back' $true)
        $missing = @(Await-Settled ([int] (Value (Change) 'lease_patience')) $was $leased $true)
    }
    if ($missing.Count -eq 0 -and [bool] (Value $saved 'gateway_answered')) {
        $until = (Ticks) + [int] (Value (Change) 'gateway_patience')
        while (-not (Gateway-Answers)) {
            if ((Ticks) -ge $until) { $missing = @('everything is as it was, only the gateway, which answered before, does not'); break }
            Pause
        }
    }
    if ($missing.Count -eq 0) { $missing = @(Await-Category ([int] (Value (Change) 'identification'))) }
    else { [void] @(Mend-Categories) }
    Register
    if ($missing.Count -eq 0) {
        Tell-Other-Leases (Value $saved 'leases')
        Finish 'rolled-back' ''
        return
    }
    Tell-Stuck $missing
}
# What is left, and what a person can do.
function Tell-Stuck($missing) {
    Log 'the former state was not reached:'
    foreach ($line in $missing) { Log "  $(Readable $line)" }
    Log 'left to do by hand, elevated, best at the console: this must be so, see Get-NetIPAddress, Get-NetRoute and Get-DnsClientServerAddress:'
    foreach ($line in @(Listed 'was')) { Log "    $(Readable $line)" }
    Log "  the registry keys of before are saved in $dir/saved (reg import, and a restart)"
    Log "  or let the engine try once more: powershell -NoProfile -ExecutionPolicy Bypass -File `"$dir/engine.ps1`" roll-back `"$dir`""
    Log "  or accept what is there now: powershell -NoProfile -ExecutionPolicy Bypass -File `"$dir/engine.ps1`" close `"$dir`" WHO WHY"
    Log 'until then no other change can begin, and the next start of the machine tries once more; so close the change where it is to stay as it is'
    while ($true) { try { Set-To 'stuck'; break } catch { Pause } }
}
# Nothing more can be done while Windows does not answer; before anything was changed nothing need be.
function Give-Up([string] $why) {
    if ((Decided) -eq 'keep') { Log $why; Try-Set-To 'committing'; Put 'incomplete' 'yes'; Finish 'confirmed' ''; return }
    Because $(if ((Decided) -eq 'roll-back') { Decided-Because } else { $why })
    if (@('', 'prepared') -contains (State)) { Finish 'rolled-back' ''; return }
    Tell-Stuck @($why)
}
# A server may give another address than before; nobody may think that it is the one of before.
function Tell-Other-Leases($leases) {
    foreach ($guid in Guids) {
        $before = Text $leases $guid
        if (-not $before) { continue }
        $here = Lease (Index $guid)
        if ($here -and $here -ne $before) {
            $other = "$(Named $guid) has the lease of $here now, before the change it was $before"
            Log $other
            try { Put 'why' "$(Kept 'why'); $other" } catch { Log 'why could not be recorded' }
        }
    }
}
# Whether `start` gave up waiting for this guard, or the lock is another's by now.
function Given-Up { return (Decided) -eq 'roll-back' -or -not (Is-There 'armed') -or (Open-Change) -ne $name }
function Forward {
    if (Given-Up) { Finish 'rolled-back' ''; return }
    Set-To 'prepared'
    # Once more: `start` decides, then looks for the state; here it is the other way round, so one sees the other.
    if (Given-Up) { Finish 'rolled-back' ''; return }
    Set-To 'leaving'
    if (-not (Perform-All 'leave' $false)) { Roll-Back $now.failed; return }
    Set-To 'writing'
    if (-not (Perform-All 'write' $false)) { Roll-Back $now.failed; return }
    Set-To 'activating'
    $wrong = Activate
    if ($wrong) { Roll-Back $wrong; return }
    # One more than the whole seconds counted: never earlier than was promised.
    Put 'deadline' (Plain ((Ticks) + [int] (Value (Change) 'confirm_within') + 1))
    Set-To 'waiting'
    Await
}
# Waits until what was set has come into force; why it cannot stay so, nothing where it can.
function Activate {
    $wanted = @(Awaited)
    Await-Detection
    $asking = @($wanted | Where-Object { $_ -match ' ipv4 dhcp$' } | ForEach-Object { ($_ -split ' ')[0] })
    $missing = @(Await-Settled 20 $wanted @())
    # Whether Windows gives a lease back when its adapter turns fixed is not known: what is held beside is not ours any more,
    # and goes where another machine has it.
    $lent = @($missing | Where-Object { $line = $_; $line -like 'another *' -and @(Listed 'held' | Where-Object { $line.Contains(" $(("$_" -split '[ /]')[1]):") }).Count })
    if ($lent.Count) {
        Log "$($lent[0]): it was kept beside until the decision, and goes now"
        End-Hold
        $wanted = @(Awaited)
        $missing = @(Await-Settled 20 $wanted @())
    }
    $here = @($missing | Where-Object { $_ -like 'another *' })
    if ($here.Count) { return $here[0] }
    foreach ($line in $missing) { Log "not in force yet: $(Readable $line)" }
    if ($asking.Count) {
        $missing = @(Await-Settled ([int] (Value (Change) 'lease_patience')) $wanted $asking)
        if (@($missing | Where-Object { $_ -like 'no DHCP server*' }).Count) {
            Restart-Lost @($asking | Where-Object { (Is-Up $_) -and -not (Has-Lease (Index $_)) }) 'no DHCP server has answered'
            $missing = @(Await-Settled 20 $wanted $asking)
            $none = @($missing | Where-Object { $_ -like 'no DHCP server*' })
            if ($none.Count) { return $none[0] }
        }
    }
    $wrong = @(Await-Category ([int] (Value (Change) 'identification')))
    if ($wrong.Count) { return $wrong -join '; ' }
    return ''
}
function Await {
    $failed = 0
    while ($true) {
        switch (Decided) {
            'keep' { Commit; return }
            'roll-back' { Roll-Back ''; return }
        }
        try {
            if (Watch) { Roll-Back 'nobody confirmed it in time'; return }
            $failed = 0
        } catch {
            # A file that somebody else holds open for a moment is no reason to roll back; one that stays unreadable is.
            $failed++
            if ($failed -ge 50) { throw }
        }
        Pause
    }
}
# A look at what a waiting change waits for; true where the deadline has passed, and that cannot be recorded: whoever
# confirms is refused by then, so nobody decides otherwise.
function Watch {
    if (Is-There 'more-time') {
        Put 'deadline' (Plain ((Number (Kept 'deadline')) + [int] (Kept 'more-time')))
        Log "more time: $(Kept 'more-time') s"
        Remove "$dir/more-time"
    }
    Add-Sleep
    $wrong = Watch-Category
    if ($wrong) { [void] (Claim 'roll-back' 'its guard' $wrong); return $false }
    if ((Is-There 'held-until') -and (Ticks) -ge (Number (Kept 'held-until'))) { End-Hold }
    if ((Ticks) -lt (Number (Kept 'deadline'))) { return $false }
    try { [void] (Claim 'roll-back' 'the deadline' 'nobody confirmed it in time') } catch { return -not (Decided) }
    return $false
}
# The ticks may stand still while the machine sleeps; the count of milliseconds since its start does not. Both are compared
# beside the clock, which alone would be moved by whoever sets it: what was slept counts for the deadline.
function Add-Sleep {
    $ticks, $utc, $count = (Ticks), [DateTime]::UtcNow, [Environment]::TickCount
    if ($now.ticks) {
        $slept = Slept ($ticks - $now.ticks) ($utc - $now.utc).TotalSeconds (([int64] $count - [int64] $now.count + 4294967296) % 4294967296 / 1000)
        if ($slept -ge 10) {
            Log "the machine slept for $([int] $slept) s, which count"
            foreach ($file in 'deadline', 'held-until') { if (Is-There $file) { Put $file (Plain ((Number (Kept $file)) - $slept)) } }
        }
    }
    $now.ticks, $now.utc, $now.count = $ticks, $utc, $count
}
# How many seconds the ticks have missed, by clock and count alike.
function Slept([double] $by_ticks, [double] $by_clock, [double] $by_count) {
    if ([Math]::Abs($by_clock - $by_count) -gt 5) { return 0 }
    return $by_count - $by_ticks
}
function Guard {
    # Whoever would begin a guard again goes on watching over that one.
    $held = Alone
    if ($null -eq $held) { Fail 8 'another guard is alive' }
    try {
        $silent = Hung-Because
        if ((State) -eq 'stuck' -and (Is-Silent)) { return }
        if ($silent) { Log "guard: the last one ended itself: $silent" }
        if ((Is-Silent) -and -not (Is-Final (State))) { Give-Up $silent; return }
        # It says by hand what is left: each minute once more would be a machine that never rests.
        if ((State) -eq 'stuck' -and (Same-Boot)) { return }
        if (-not (Same-Boot)) { Remove "$dir/hung"; Boot; return }
        Log "guard: process $PID, $($ExecutionContext.SessionState.LanguageMode)"
        switch (State) {
            # Before all is saved there is nothing to be done, but to end a change that somebody does not want, or whose
            # `start` died before it could say that it may begin: its task would come back each minute for ever.
            '' {
                if ((Is-There 'armed') -or (Decided)) { Forward }
                elseif (-not (Is-Starting $name) -and -not (Is-There 'armed')) { Finish 'rolled-back' 'its beginning was cut short' }
            }
            'waiting' { Await }
            'committing' { Commit }
            { Is-Final $_ } { Disarm }
            default { Roll-Back $(if ($silent) { $silent } else { "its guard was interrupted while it was $_" }) }
        }
    } catch {
        Log "guard: $(("$($_.Exception.Message)" -split '[\r\n]+')[0])"
        if (@('leaving', 'writing', 'activating', 'waiting') -notcontains (State) -or (Decided) -eq 'keep') { throw }
        Roll-Back "its guard failed while it was $(State)"
    } finally { $held.Dispose() }
    Linger
}
# A network may be identified long after its address has changed: for a while after a change is over it is looked at,
# unless the next change has begun.
function Linger {
    if (-not (Is-Final (State))) { return }
    $until = (Ticks) + [int] (Value (Change) 'category_watch')
    while ((Ticks) -lt $until -and -not (Open-Change)) {
        try { foreach ($line in Mend-Categories) { Tell-Once "after it was over: $line" } } catch { Tell-Once "guard: $($_.Exception.Message)" }
        for ($at = 0; $at -lt 5; $at++) { Pause }
    }
}
# Whether the settings are those from before the change. Adapters may still be coming up.
function Is-Untouched {
    $until = (Ticks) + 60
    while ($true) {
        try {
            $differing = @(Differing @(Kept-Lines) @(Listed 'was'))
            foreach ($line in $differing) { Log "boot: not as before: $(Readable $line)" }
            return $differing.Count -eq 0
        } catch { if ((Ticks) -ge $until) { Log "boot: $(("$($_.Exception.Message)" -split '[\r\n]+')[0])"; return $false } }
        Pause
    }
}
# At a start of the machine: no process of the change is left. Adapters and their addresses come up meanwhile.
function Boot {
    $here = State
    switch ($here) {
        { @('', 'prepared') -contains $_ -and (Is-Untouched) } { Log 'boot: nothing had been changed'; Finish 'rolled-back' 'the machine went down before anything was changed' }
        { Is-Final $_ } { Disarm }
        'committing' { Commit }
        default {
            # The last rename may be lost in a power cut: then more was done than is recorded.
            if (-not $here) { $here = 'not begun by its record' }
            Log "boot: the machine went down while the change was $here"
            if ((Decided) -eq 'roll-back') { Because (Decided-Because) } else { Because "the machine went down while it was $here" }
            Try-Set-To 'rolling-back'
            # Not before: where this ends here, nobody must take the change for one that still waits.
            try { Note-Boot; Put 'rolled-back-at-boot' 'yes' } catch { Log 'the start of the machine could not be recorded' }
            Take-Back 90
        }
    }
}
