
# --- calls that do not come back -------------------------------------------------------------------
# Nothing ends a call of Windows from within. A second thread of the guard counts the seconds without a sign of life, and
# ends this process after too many: its task begins the guard anew within a minute, which does not make that call again.
# Seconds are counted one by one, since a machine that sleeps gives no sign either.
$life = [hashtable]::Synchronized(@{ sign = 0; call = ''; limit = 120; hung = "$dir/hung"; reserve = "$dir/reserve" })
function Watch-Over-Life {
    # Damaged data is no reason to do without.
    try { $life.limit = [int] (Value (Change) 'call_limit') } catch { [void] $_ }
    $thread = [powershell]::Create()
    [void] $thread.AddScript({
        param($life)
        $sign, $seconds = -1, 0
        while ($true) {
            Start-Sleep -Seconds 1
            if ($life.sign -ne $sign) { $sign, $seconds = $life.sign, 0; continue }
            $seconds++
            if ($seconds -lt $life.limit) { continue }
            $ticks = [System.Diagnostics.Stopwatch]::GetTimestamp()
            $line = "$ticks $(if ($life.call) { $life.call } else { '-' })"
            for ($try = 0; $try -lt 2; $try++) {
                # On a disk that has filled up, the room kept for this is given up.
                try { [System.IO.File]::AppendAllText($life.hung, "$line`n"); break } catch { try { [System.IO.File]::Delete($life.reserve) } catch { [void] $_ } }
            }
            [System.Diagnostics.Process]::GetCurrentProcess().Kill()
        }
    }.ToString()).AddArgument($life)
    [void] $thread.BeginInvoke()
}
# The calls that did not come back since the machine's start, the last one last; '-' for a question. Each has the ticks of
# its moment before it: more than there are by now are those of an earlier start.
function Hung {
    foreach ($line in (Kept 'hung') -split "`n") {
        $parts = $line.Trim() -split ' ', 2
        if ($parts.Count -eq 2 -and [int64] $parts[0] -le [System.Diagnostics.Stopwatch]::GetTimestamp()) { $parts[1] }
    }
}
# Whether a call may be made: not where it did not come back before. Its end is told by Came-Back.
function May-Call([string] $call) {
    $life.call = $call
    $life.sign++
    if (@(Hung) -cnotcontains $call) { return $true }
    $life.call = ''
    return $false
}
function Came-Back { $life.call = ''; $life.sign++ }
function Not-Back { return "it did not come back within $($life.limit) s" }
# Why a guard follows one that ended itself; nothing where that is not so.
function Hung-Because {
    $hung = @(Hung)
    if ($hung.Count -eq 0) { return '' }
    if ($hung[-1] -eq '-') { return "Windows did not say within $($life.limit) s what is set" }
    return "this failed: $($hung[-1]): $(Not-Back)"
}
# Whether Windows is too silent to go on: three questions without an answer.
function Is-Silent { return @(Hung | Where-Object { $_ -eq '-' }).Count -ge 3 }
