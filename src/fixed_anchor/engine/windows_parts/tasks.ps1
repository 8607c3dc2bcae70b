
# --- the guard's task -------------------------------------------------------------------------------
# It survives session, battery, sleep and restart: begun at every start of the machine, and each minute where no guard
# runs. It is Windows PowerShell 5.1 that runs it, which is always there.
$task_path = '\FixedAnchor\'
function Program { return Of-System 'WindowsPowerShell\v1.0\powershell.exe' }
function Arguments { return "-NoProfile -NonInteractive -ExecutionPolicy Bypass -File `"$dir\engine.ps1`" guard `"$dir`"" }
function Arm {
    $action = New-ScheduledTaskAction -Execute (Program) -Argument (Arguments)
    $often = New-ScheduledTaskTrigger -Once -At ([DateTime]::Now.AddMinutes(1)) -RepetitionInterval (New-TimeSpan -Minutes 1)
    $settings = New-ScheduledTaskSettingsSet -Priority 4 -AllowStartIfOnBatteries -DontStopIfGoingOnBatteries -StartWhenAvailable -ExecutionTimeLimit ([TimeSpan]::Zero) -MultipleInstances IgnoreNew
    $principal = New-ScheduledTaskPrincipal -UserId 'S-1-5-18' -LogonType ServiceAccount -RunLevel Highest
    # One that has its name would keep its rights: it goes first.
    try { Unregister-ScheduledTask -TaskName $task -TaskPath $task_path -Confirm:$false -ErrorAction Stop; Log 'a task of its name was there, and was removed' } catch { [void] $_ }
    Register-ScheduledTask -TaskName $task -TaskPath $task_path -Action $action -Trigger @((New-ScheduledTaskTrigger -AtStartup), $often) -Settings $settings -Principal $principal -ErrorAction Stop | Out-Null
    $wrong = @(Wrong-With (Get-ScheduledTask -TaskName $task -TaskPath $task_path -ErrorAction Stop))
    if ($wrong.Count) { Refuse 1 "the guard's task was registered otherwise than it was asked for: $($wrong -join ', '); nothing was changed" }
}
# Settings that were taken otherwise: a policy may do so, and a guard that stops on battery is none.
function Wrong-With($there) {
    $set = Value $there 'Settings'
    if ([bool] (Value $set 'DisallowStartIfOnBatteries')) { 'it would not start on battery' }
    if ([bool] (Value $set 'StopIfGoingOnBatteries')) { 'it would stop on battery' }
    if (@('PT0S', '') -notcontains (Text $set 'ExecutionTimeLimit')) { "it would be ended after $(Text $set 'ExecutionTimeLimit')" }
    if (-not [bool] (Value $set 'StartWhenAvailable')) { 'a start that was missed would not be made up for' }
    if (@('IgnoreNew', '2') -notcontains (Text $set 'MultipleInstances')) { 'it would run twice' }
    if ((Text $there 'State') -eq 'Disabled' -or (Value $set 'Enabled') -eq $false) { 'it is disabled' }
    $action = @(Value $there 'Actions')[0]
    if ((Text $action 'Execute') -ne (Program) -or (Text $action 'Arguments') -ne (Arguments)) { 'it would run something else' }
    if (@(Value $there 'Triggers').Count -ne 2) { 'it would begin at other times' }
    # Its name is translated, its number is not.
    if ("$(Export-ScheduledTask -TaskName $task -TaskPath $task_path -ErrorAction Stop)" -notmatch '<UserId>S-1-5-18</UserId>') { 'it would not run as SYSTEM' }
    if ([int] (Value $set 'Priority') -ne 4) { "it would run with the priority $(Text $set 'Priority')" }
    if ((Text (Value $there 'Principal') 'RunLevel') -notmatch '^(Highest|1)$') { 'it would not run elevated' }
}
function Launch {
    Start-ScheduledTask -TaskName $task -TaskPath $task_path -ErrorAction Stop
    Log 'guard: a scheduled task'
}
# While a guard runs nobody else opens its file.
function Guard-Alive {
    if (-not (Is-There 'guard.lock')) { return $false }
    try {
        $file = [System.IO.File]::Open("$dir/guard.lock", 'Open', 'ReadWrite', 'None')
        $file.Dispose()
        return $false
    } catch [System.IO.IOException] { return $true }
}
# Of several that would move the change one does. Nothing where another one is alive: whoever asks whether one is, holds
# the file for a moment as well.
function Alone {
    for ($try = 0; $try -lt 20; $try++) {
        try { return [System.IO.File]::Open("$dir/guard.lock", 'OpenOrCreate', 'ReadWrite', 'None') } catch [System.IO.IOException] { Start-Sleep -Milliseconds 100 }
    }
    return $null
}
# Which start of the machine this is: the time of it, which a clock that is set moves as well, and the ticks by now.
function Booted { return [int64] ((Get-CimInstance -ClassName Win32_OperatingSystem -ErrorAction Stop).LastBootUpTime.ToUniversalTime().Ticks / 10000000) }
function Note-Boot { Put 'boot' "$(Booted) $(Plain (Ticks))" }
function Same-Boot {
    $parts = (Kept 'boot') -split ' '
    if ($parts.Count -ne 2) { return $true }
    return [Math]::Abs((Booted) - [int64] $parts[0]) -le 10 -and (Ticks) -ge (Number $parts[1])
}

# --- the lock: one change at a time -----------------------------------------------------------------
function Open-Change { if ([System.IO.File]::Exists("$root/open")) { return [System.IO.File]::ReadAllText("$root/open", $utf8).Trim() } return '' }
# Whether a change is over, or never got as far as a state before its `start` died.
function Is-Over([string] $other) {
    $file = "$root/$other/state"
    if ([System.IO.File]::Exists($file)) { return Is-Final ([System.IO.File]::ReadAllText($file, $utf8).Trim()) }
    return -not (Is-Starting $other)
}
# Whether the `start` of a change runs.
function Is-Starting([string] $other) {
    $by = "$root/$other/starting"
    return [System.IO.File]::Exists($by) -and (Runs ([System.IO.File]::ReadAllText($by, $utf8).Trim()))
}
# Whether the process of a number runs that began at that time.
function Runs([string] $noted) {
    $parts = $noted -split ' '
    try { return "$([System.Diagnostics.Process]::GetProcessById([int] $parts[0]).StartTime.ToUniversalTime().Ticks)" -eq $parts[1] } catch { return $false }
}
function Note-Starting {
    $me = [System.Diagnostics.Process]::GetCurrentProcess()
    Put 'starting' "$PID $($me.StartTime.ToUniversalTime().Ticks)"
}
function Take-Lock {
    # Two tries: the second after a lock that a finished or never begun change left behind.
    for ($try = 0; $try -lt 2; $try++) {
        if (Make-Once "$root/open" "$name`n") { return }
        $other = Open-Change
        if ($other -eq $name) { return }
        if (-not $other) { continue }
        if (-not (Is-Over $other)) { Refuse 7 "change $other is open on this machine; confirm, restore or close it first" }
        # Only one may clear it away: who is the first to say so there.
        if (-not (Make-Once "$root/$other/cleared-by" "$name`n")) {
            $first = [System.IO.File]::ReadAllText("$root/$other/cleared-by", $utf8).Trim()
            if ($first -ne $name -and -not (Is-Over $first)) { Refuse 7 "change $first is just being begun on this machine" }
        }
        if ((Open-Change) -eq $other) { Remove "$root/open" }
    }
    Refuse 7 'another change is open on this machine'
}
function Disarm {
    [void] (Give-Room)
    if ((Open-Change) -eq $name) { Remove "$root/open" }
    try { Unregister-ScheduledTask -TaskName $task -TaskPath $task_path -Confirm:$false -ErrorAction Stop } catch { Log "its task could not be removed: $($_.Exception.Message)" }
}
